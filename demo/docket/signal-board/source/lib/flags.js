'use strict';

// Each flag says one thing; what is urgent comes first.
const FLAGS = {
  quarantine: { urgency: 3, text: 'no contact with the shore' },
  pilot: { urgency: 2, text: 'a pilot is wanted' },
  dangerous: { urgency: 2, text: 'dangerous cargo' },
  departing: { urgency: 1, text: 'about to depart' },
};

function find(name) {
  const flag = FLAGS[name];
  if (!flag) throw new Error(`unknown flag: ${name}`);
  return { name, ...flag };
}

module.exports = { FLAGS, find };
