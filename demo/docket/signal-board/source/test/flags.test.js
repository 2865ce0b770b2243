'use strict';

const { test } = require('node:test');
const assert = require('node:assert');
const { find } = require('../lib/flags');

test('a flag is found by its name', () => {
  assert.strictEqual(find('pilot').urgency, 2);
});

test('an unknown flag is an error', () => {
  assert.throws(() => find('tea'), /unknown flag: tea/);
});
