// Loads sealed test files into node's own test runner; `reporter.js` sends what comes of each test.
'use strict';
const { order, take } = require('./reporter.js');
const Module = require('module');
const path = require('path');
const vm = require('vm');

// All are compiled before the first is run, and no text of theirs is kept.
const compiled = take().map(([file, source]) => {
  try {
    return [file, new vm.Script(Module.wrap(source), { filename: file }).runInThisContext()];
  } catch (error) {
    order.broken(error);
    return [file, undefined];
  }
});
for (const [file, run] of compiled) {
  if (run === undefined) continue;
  const module = new Module(file);
  module.filename = file;
  module.paths = Module._nodeModulePaths(path.dirname(file));
  const need = Module.createRequire(file);
  try {
    Reflect.apply(run, module.exports, [module.exports, need, module, file, path.dirname(file)]);
  } catch (error) {
    order.broken(error);
  }
}
