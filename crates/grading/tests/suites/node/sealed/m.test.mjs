import test from 'node:test';
import assert from 'node:assert/strict';
import all from './toll.js';
const { toll, Stack } = all;
test('esm', () => { assert.equal(toll(3), 6); assert.equal(all.toll(1), 2); assert.equal(new Stack().size, 0); });
