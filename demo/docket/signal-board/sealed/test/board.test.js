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

  test('lowers one flag and leaves the others', () => {
    const board = new Board(4);
    board.hoist('Auk', 'pilot');
    board.hoist('Auk', 'dangerous');
    board.lower('Auk', 'pilot');
    assert.deepStrictEqual(board.shown(), ['Auk: dangerous cargo']);
  });

  test('lowers a flag that was hoisted twice only once', () => {
    const board = new Board(4);
    board.hoist('Tern', 'pilot');
    board.hoist('Tern', 'pilot');
    board.lower('Tern', 'pilot');
    assert.deepStrictEqual(board.shown(), ['Tern: a pilot is wanted']);
  });

  test('lowering what is not there is an error', () => {
    const board = new Board(4);
    board.hoist('Auk', 'pilot');
    assert.throws(() => board.lower('Auk', 'departing'), /Auk shows no departing/);
    assert.throws(() => board.lower('Tern', 'pilot'), /Tern shows no pilot/);
    assert.deepStrictEqual(board.shown(), ['Auk: a pilot is wanted']);
  });

  test('keeps the order of equals', () => {
    const board = new Board(4);
    board.hoist('Auk', 'pilot');
    board.hoist('Tern', 'dangerous');
    assert.deepStrictEqual(board.shown(), ['Auk: a pilot is wanted', 'Tern: dangerous cargo']);
  });
});
