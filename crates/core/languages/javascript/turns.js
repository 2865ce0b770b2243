// Before a timer of the tests goes off, or an immediate, the answer's side does what it can at once: in one process its
// turn would have come before.
'use strict';
const timers = require('timers');
const Module = require('module');
const { promisify } = require('util');

// What is settled by a turn goes on between two callbacks, and may ask for more: immediates come after a second one.
const ROUNDS = 2;

module.exports = (turn) => {
  const { setImmediate, setTimeout } = timers;
  const immediate = (...args) => {
    for (let round = 0; round < ROUNDS; round++) setImmediate(turn);
    return setImmediate(...args);
  };
  // Timers of one length go off in the order in which they were made.
  const timeout = (call, after, ...args) => {
    if (typeof call === 'function') setTimeout(turn, after).unref();
    return setTimeout(call, after, ...args);
  };
  const put = (holder, name, it, promised) => {
    Object.defineProperty(it, 'name', { value: name });
    Object.defineProperty(it, promisify.custom, { value: promised, enumerable: true });
    if (holder[name] === timers[name]) holder[name] = it;
  };
  // With what makes promises of them, which is loaded when it is first asked for.
  const later = require('timers/promises');
  const first = { ...later };
  later.setImmediate = (...args) => {
    for (let round = 0; round < ROUNDS; round++) setImmediate(turn);
    return first.setImmediate(...args);
  };
  later.setTimeout = (after, ...args) => {
    setTimeout(turn, after).unref();
    return first.setTimeout(after, ...args);
  };
  put(globalThis, 'setImmediate', immediate, later.setImmediate);
  put(globalThis, 'setTimeout', timeout, later.setTimeout);
  [timers.setImmediate, timers.setTimeout] = [immediate, timeout];
  Module.syncBuiltinESMExports();
};
