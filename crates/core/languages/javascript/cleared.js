// Timers of the answer's that are cleared after they went off, while they wait for the tests to be called: in one process
// they would not have begun.
'use strict';
const timers = require('timers');
const Module = require('module');

const CLEARED = new Error('the timer was cleared');
const cleared = new WeakSet();
let running;

const made = (name) => {
  const first = timers[name];
  const make = (call, ...more) => {
    if (typeof call !== 'function') return first(call, ...more);
    const timer = first(function (...args) {
      const before = running;
      running = timer;
      try {
        return Reflect.apply(call, this, args);
      } catch (error) {
        if (error !== CLEARED) throw error;
      } finally {
        running = before;
      }
    }, ...more);
    return timer;
  };
  return Object.defineProperties(make, Object.getOwnPropertyDescriptors(first));
};
const clears = (name) => {
  const first = timers[name];
  const clear = (timer) => {
    if (timer !== null && typeof timer === 'object') cleared.add(timer);
    return first(timer);
  };
  return Object.defineProperties(clear, Object.getOwnPropertyDescriptors(first));
};
for (const name of ['setTimeout', 'setInterval', 'clearTimeout', 'clearInterval']) {
  const it = name.startsWith('set') ? made(name) : clears(name);
  globalThis[name] = it;
  timers[name] = it;
}
Module.syncBuiltinESMExports();

// Ends what goes off, where it was cleared before it called anything of the tests.
exports.check = () => {
  const timer = running;
  running = undefined;
  if (timer !== undefined && cleared.has(timer)) throw CLEARED;
};
