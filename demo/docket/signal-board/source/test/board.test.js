'use strict';

const { test, describe } = require('node:test');
const assert = require('node:assert');
const { Board } = require('../lib/board');

describe('board', () => {
  test('shows what was hoisted', () => {
    const board = new Board(4);
    board.hoist('Auk', 'pilot');
    assert.deepStrictEqual(board.shown(), ['Auk: a pilot is wanted']);
  });

  test('shows the most urgent first', () => {
    const board = new Board(4);
    board.hoist('Auk', 'departing');
    board.hoist('Tern', 'quarantine');
    assert.strictEqual(board.shown()[0], 'Tern: no contact with the shore');
  });

  test('has only so many rows', () => {
    const board = new Board(1);
    board.hoist('Auk', 'departing');
    board.hoist('Tern', 'pilot');
    assert.deepStrictEqual(board.shown(), ['Tern: a pilot is wanted']);
  });

  test('lowers the flags of a ship', () => {
    const board = new Board(4);
    board.hoist('Auk', 'pilot');
    board.lower('Auk', 'pilot');
    assert.deepStrictEqual(board.shown(), []);
  });
});
