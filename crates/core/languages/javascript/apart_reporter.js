// Reports each sealed test over descriptor 3, as node's test runner tells of it, where no code of the answer's
// runs in this process.
'use strict';
const { readSync, writeSync } = require('fs');
const { isProxy } = require('util').types;

let line = Buffer.alloc(0);
while (line.indexOf(10) < 0) {
  const chunk = Buffer.alloc(65536);
  const count = readSync(3, chunk, 0, chunk.length, null);
  if (count === 0) process.exit(3);
  line = Buffer.concat([line, chunk.subarray(0, count)]);
}
const order = JSON.parse(line.toString());
const send = (it) => {
  let data = Buffer.from(`${JSON.stringify(it)}\n`);
  while (data.length) data = data.subarray(writeSync(3, data));
};
const told = (error) => {
  try {
    const cause = error?.cause ?? error;
    return String((isProxy(cause) ? `${cause.name}: ${cause.message}` : cause?.stack) || error).slice(0, 4000);
  } catch {
    return 'an error that cannot be told';
  }
};

// Where nothing could be loaded there is no test, and the runner asks for no report.
let isBegun = false;
process.on('exit', () => {
  if (!isBegun) send({ done: order.mark, gone: order.link?.gone === true });
});

module.exports = async function* report(events) {
  isBegun = true;
  const names = [];
  for await (const { type, data } of events) {
    if (type === 'test:start') {
      names.length = data.nesting;
      names.push(data.name);
    }
    if (type !== 'test:pass' && type !== 'test:fail') continue;
    if (data.details && data.details.type === 'suite') {
      // A hook that failed fails all that it stands before.
      if (type === 'test:fail' && data.details.error?.failureType === 'hookFailed') send({ broken: told(data.details.error) });
      continue;
    }
    const test = [...names.slice(0, data.nesting), data.name].join(' > ');
    if (data.skip !== undefined || data.todo !== undefined) send({ test, status: 'skipped' });
    else if (type === 'test:pass' && !order.link.gone) send({ test, status: 'passed' });
    else send({ test, status: 'failed', message: told(data.details && data.details.error) });
  }
  send({ done: order.mark, gone: order.link.gone });
  process.reallyExit(0);
};
Object.assign(module.exports, { order, send, told });
