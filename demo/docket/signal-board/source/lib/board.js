'use strict';

const { find } = require('./flags');

// A board of so many rows: the most urgent flags are shown, those of a ship together.
class Board {
  constructor(rows) {
    this.rows = rows;
    this.signals = [];
  }

  hoist(ship, name) {
    this.signals.push({ ship, flag: find(name) });
  }

  lower(ship, name) {
    this.signals = this.signals.filter((it) => it.ship !== ship);
  }

  shown() {
    const urgent = [...this.signals].sort((a, b) => b.flag.urgency - a.flag.urgency);
    return urgent.slice(0, this.rows).map((it) => `${it.ship}: ${it.flag.text}`);
  }
}

module.exports = { Board };
