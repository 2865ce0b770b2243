// Reports each sealed test over descriptor 3, as node's test runner tells of it.
//
// Candidate and tests share this process, so what is sent can be forged by who tries hard enough.
// What is here makes that show: what sending needs is held before anything else is loaded, the
// sealed tests come over the descriptor first, and the mark of this run is sent last.
'use strict';
const fs = require('fs');
const path = require('path');
const { stringify, parse } = JSON;
const { writeSync, readSync } = fs;
const { exit } = process;
const bytes = Buffer.from.bind(Buffer);

let line = Buffer.alloc(0);
while (line.indexOf(10) < 0) {
  const chunk = Buffer.alloc(65536);
  const count = readSync(3, chunk, 0, chunk.length, null);
  if (count === 0) exit(3);
  line = Buffer.concat([line, chunk.subarray(0, count)]);
}
const { files, mark } = parse(line.toString());
const send = (it) => {
  let data = bytes(stringify(it) + '\n');
  while (data.length) data = data.subarray(writeSync(3, data));
};
const told = (error) => String((error && (error.cause || error).stack) || error).slice(0, 4000);
const work = process.cwd();
// The files themselves are blank, so that what is expected cannot be read from them.
const sources = new Map(Object.entries(files).map(([name, text]) => [path.join(work, name), text]));

const own = new Set(sources.keys());

// The runner loads the reporter only with the first test; without one it never comes to its end.
// What tests assert with is not to be patched by what they test.
for (const it of [require('node:test'), require('node:assert'), require('node:assert').strict]) {
  for (const name of Object.getOwnPropertyNames(it)) {
    if (typeof it[name] === 'function') Object.defineProperty(it, name, { value: it[name], writable: false, configurable: false });
  }
}

// Nor is what a value is an instance of; the language's errors keep their names, too.
const { value: hasInstance } = Object.getOwnPropertyDescriptor(Function.prototype, Symbol.hasInstance);
for (const name of Object.getOwnPropertyNames(globalThis)) {
  const { value: it, configurable } = Object.getOwnPropertyDescriptor(globalThis, name);
  if (typeof it !== 'function' || !it.prototype || Object.hasOwn(it, Symbol.hasInstance)) continue;
  Object.defineProperty(it, Symbol.hasInstance, { value: hasInstance, writable: false, configurable: false });
  const isError = it === Error || Error.isPrototypeOf(it);
  if (isError && configurable) Object.defineProperty(globalThis, name, { writable: false, configurable: false });
}

module.exports = async function* report(events) {
  const names = [];
  for await (const { type, data } of events) {
    if (type === 'test:start') {
      names.length = data.nesting;
      names.push(data.name);
    }
    if (type !== 'test:pass' && type !== 'test:fail') continue;
    if (data.details && data.details.type === 'suite') continue;
    // Tests that the answer brought along are its own affair.
    if (data.file !== undefined && !own.has(data.file)) continue;
    const test = [...names.slice(0, data.nesting), data.name].join(' > ');
    if (data.skip !== undefined || data.todo !== undefined) send({ test, status: 'skipped' });
    else if (type === 'test:pass') send({ test, status: 'passed' });
    else send({ test, status: 'failed', message: told(data.details && data.details.error) });
  }
  send({ done: mark });
};
module.exports.take = () => {
  const taken = [...sources];
  sources.clear();
  return taken;
};
module.exports.order = { broken: (error) => send({ broken: told(error) }) };
