// Loads sealed test files into node's own test runner; `reporter.js` sends what comes of each test.
'use strict';
const { order, sources } = require('./reporter.js');
const Module = require('module');
const path = require('path');

for (const [file, source] of sources) {
  const module = new Module(file);
  module.filename = file;
  module.paths = Module._nodeModulePaths(path.dirname(file));
  try {
    module._compile(source, file);
  } catch (error) {
    order.broken(error);
  }
}
