import test from 'node:test';
import assert from 'node:assert/strict';
import { toll, Stack } from './toll.js';
import all from './toll.js';
test('esm', () => { assert.equal(toll(3), 6); assert.equal(all.toll(1), 2); assert.equal(new Stack().size, 0); });
