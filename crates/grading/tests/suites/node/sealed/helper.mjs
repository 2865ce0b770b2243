import assert from 'node:assert/strict';
export const check = (call) => { const first = call(); assert.equal(call(), first + 1); };
