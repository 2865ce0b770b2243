// Loads sealed test files into node's own test runner; `reporter.js` sends what comes of each test.
'use strict';
const { order, take } = require('./reporter.js');
const Module = require('module');
const fs = require('fs');
const path = require('path');
const vm = require('vm');
const { pathToFileURL } = require('url');

const work = process.cwd();
const byDefault = vm.constants.USE_MAIN_CONTEXT_DEFAULT_LOADER;
let isModulePackage = false;
try {
  isModulePackage = JSON.parse(fs.readFileSync('package.json', 'utf8')).type === 'module';
} catch {}

// All are compiled before the first is run, and no text of theirs is kept.
const asScript = (file, source) => {
  const run = new vm.Script(Module.wrap(source), { filename: file, importModuleDynamically: byDefault }).runInThisContext();
  return () => {
    const module = new Module(file);
    module.filename = file;
    module.paths = Module._nodeModulePaths(path.dirname(file));
    Reflect.apply(run, module.exports, [module.exports, Module.createRequire(file), module, file, path.dirname(file)]);
  };
};
const wanted = (name, file) => (/^(\.|\/|file:)/.test(name) ? new URL(name, pathToFileURL(file)).href : name);
const asModule = (file, source) => {
  const it = new vm.SourceTextModule(source, {
    identifier: file,
    initializeImportMeta: (meta) => Object.assign(meta, { url: pathToFileURL(file).href, filename: file, dirname: path.dirname(file) }),
    importModuleDynamically: (name) => import(wanted(name, file)),
  });
  return async () => {
    await it.link(async (name) => {
      const got = await import(wanted(name, file));
      return new vm.SyntheticModule(Object.keys(got), function () {
        for (const key of Object.keys(got)) this.setExport(key, got[key]);
      });
    });
    await it.evaluate();
  };
};
const compile = (file, source) => {
  if (file.endsWith('.mjs') || (isModulePackage && !file.endsWith('.cjs'))) return asModule(file, source);
  try {
    return asScript(file, source);
  } catch (error) {
    const isModule = /import statement outside|Unexpected token 'export'|import\.meta|await is only valid/;
    if (!file.endsWith('.cjs') && isModule.test(String(error))) return asModule(file, source);
    throw error;
  }
};
const compiled = take().map(([file, source]) => {
  try {
    return compile(file, source);
  } catch (error) {
    order.broken(error);
    return () => {};
  }
});
(async () => {
  for (const run of compiled) {
    try {
      await run();
    } catch (error) {
      order.broken(error);
    }
  }
})();
