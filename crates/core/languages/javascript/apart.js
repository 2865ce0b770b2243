// The tests' side: sealed unit tests run here by node's own test runner, and load stand-ins for the answer's
// modules, which are in another process. What is reported comes from here alone; `reporter.js` sends it.
'use strict';
const { order, send, told } = require('./reporter.js');
// Before it is looked at what both sides have of their own.
require('./turns.js')(() => turn());
const { Files } = require('./carried.js');
const fs = require('fs');
const path = require('path');
const { existsSync, readFileSync, writeSync } = fs;
const work = process.cwd();
const sealed = new Set(order.sealed);
const { Link, Gone, Inline, firsts, firstsOfModule, STANDARD_OF } = require('./wire.js');
// What the answer's side may write here: nothing that is sealed, and below the work folder nothing that would
// be loaded as code, or change what is.
const mayWrite = (at) => {
  const inside = path.relative(work, at);
  if (inside.startsWith('..')) return true;
  if (sealed.has(inside) || /\.([cm]?js|node|wasm)$|(^|\/)(node_modules|package\.json)(\/|$)/.test(inside)) return false;
  return !['.js', '.cjs', '.mjs', '.json', '/index.js'].some((end) => sealed.has(inside + end));
};
const files = new Files(work, mayWrite);
const Module = require('module');
const net = require('net');
const util = require('util');
const vm = require('vm');
const { types } = util;

const [LINK, NOTICES] = [4, 5];
const putOff = queueMicrotask;
const link = new Link(LINK, true);
const modules = new Set(order.answer);
const isModulePackage = (() => {
  try {
    return JSON.parse(readFileSync(path.join(work, 'package.json'), 'utf8')).type === 'module';
  } catch {
    return false;
  }
})();
order.link = link;
link.settled = (id, ok, value) => {
  if (!link.gone) link.request('settle', id, ok, value);
};

// What the answer says by itself comes as single bytes; it keeps the process waiting while something is under
// way there, such as a timer.
const notices = new net.Socket({ fd: NOTICES, readable: true, writable: false });
let isQuiet = true;
// How often the answer was asked, and whether the next byte says up to which time it is quiet.
let [asked, isCount] = [0, false];
link.after = () => (isQuiet ? notices.unref() : notices.ref());
link.answered = (quiet) => {
  if (quiet === isQuiet) return;
  isQuiet = quiet;
  link.after();
};
const drain = () => {
  for (const [id, ok, value] of link.request('drain')) link.settle(id, ok, value);
};
// Lets the answer's side do what it can at once, before what comes next here.
let [turned, skipped] = [0, 0];
const turn = () => {
  if (link.gone || link.depth || (isQuiet && asked === turned)) return;
  try {
    skipped += Number(link.request('turn'));
    turned = asked;
    drain();
    turned = asked;
  } catch (error) {
    if (!(error instanceof Gone)) throw error;
    end();
  }
};
const grant = () => {
  link.depth = 1;
  try {
    link.send({ k: 'granted', v: null });
    for (;;) {
      const message = link.receive();
      if (message.k === 'released') break;
      link.serve(message);
    }
  } finally {
    link.depth = 0;
  }
};
notices.on('data', (bytes) => {
  try {
    for (const byte of bytes) {
      if (isCount) {
        isCount = false;
        if (byte === (asked & 255)) isQuiet = true;
        continue;
      }
      isCount = byte === 4;
      if (isCount) continue;
      isQuiet = false;
      if (byte === 3) drain();
      else if (byte === 2 && skipped > 0) skipped--;
      else if (byte === 2) grant();
    }
  } catch (error) {
    if (!(error instanceof Gone)) throw error;
    end();
  }
  link.after();
});
const end = () => {
  link.gone = true;
  for (const waiting of link.pending.values()) waiting.reject(new Gone('the other process has ended'));
  link.pending.clear();
  notices.destroy();
};
notices.on('end', end);
notices.on('error', end);
notices.unref();

// What tests have replaced for a while is replaced for the answer, too.
const patchable = firsts((parts) => patchable.push(parts));
const watched = new Set();
const watch = (name) => {
  if (watched.has(name)) return;
  watched.add(name);
  const parts = firstsOfModule(name);
  if (parts !== undefined && !patchable.some(([known]) => known === parts[0])) patchable.push(parts);
};
watch('fs');
const replaced = new Map();
const WAKE = Buffer.from([1]);
// What follows at once is over when the first of what was put off is done.
let isGoing = false;
const go = () => {
  isGoing = false;
  try {
    if (!link.gone) link.send({ k: 'go', v: null });
  } catch {}
};
const wake = () => {
  if (link.depth) return;
  asked++;
  if (!isGoing) {
    isGoing = true;
    putOff(go);
  }
  try {
    writeSync(NOTICES, WAKE);
  } catch {
    link.gone = true;
    throw new Gone('the other process has ended');
  }
};
link.before = () => {
  if (link.depth) return;
  for (const [name, holder, keys] of patchable) {
    for (const [key, first] of keys) {
      const now = holder[key];
      if (now === (replaced.get(first) ?? first)) continue;
      if (now === first) replaced.delete(first);
      else replaced.set(first, now);
      const message = link.pack('patch', new Inline([name, key, now === first, now === first ? undefined : now]));
      wake();
      link.depth = 1;
      try {
        link.send(message);
        for (let message; (message = link.receive()).k !== '=';) link.serve(message);
      } finally {
        link.depth = 0;
      }
    }
  }
};
link.wake = wake;

// What the answer may do with objects of the tests: it never gets at their modules, runner or code.
const CLOSED = new Set(['__proto__', 'caller', 'arguments', 'callee', 'mock', '__defineGetter__', '__defineSetter__', '__lookupGetter__', '__lookupSetter__']);
link.grants = (it, key, isChange) => {
  if (CLOSED.has(key)) return false;
  if (key === 'constructor') {
    // Of functions that is what makes functions out of text.
    const made = isChange || typeof it === 'function' ? undefined : it.constructor;
    return typeof made === 'function' && (STANDARD_OF.has(made) || /^class\b/.test(Function.prototype.toString.call(made)));
  }
  if (!types.isProxy(it) && Object.getPrototypeOf(it)?.constructor?.name === 'TestContext') return false;
  if (isChange && key === 'prototype') return false;
  if (it === globalThis || it === process || it instanceof Module || it === Module) return false;
  if (typeof it === 'function' && isChange && STANDARD_OF.has(it)) return false;
  return true;
};
link.ops.construct = ((construct) => (it, args, target) => {
  if (it === Function) throw new TypeError('this cannot be made from here');
  return construct(it, args, target);
})(link.ops.construct);
const plainConsole = { ...console };
link.ops.console = (name, args, text) => {
  if (!Object.hasOwn(plainConsole, name)) return;
  if (console[name] !== plainConsole[name]) Reflect.apply(console[name], console, args);
  else (['error', 'warn', 'trace', 'assert'].includes(name) ? process.stderr : process.stdout).write(String(text));
};
link.ops.write = (at, text) => (at === 0 ? process.stdout : process.stderr).write(String(text)) && undefined;

const state = { env: JSON.stringify(process.env), cwd: work };
let shown = [];
link.outgoing = () => {
  const out = {};
  const env = JSON.stringify(process.env);
  if (env !== state.env) [out.env, state.env] = [JSON.parse(env), env];
  const cwd = process.cwd();
  if (cwd !== state.cwd) out.cwd = state.cwd = cwd;
  const changed = files.changed() ?? [];
  for (const at of shown.splice(0)) files.tell(at, changed);
  if (changed.length) out.files = changed;
  return Object.keys(out).length ? out : undefined;
};
link.incoming = (told) => {
  if (told.env !== null && typeof told.env === 'object') {
    // What decides how programs that tests start are loaded stays.
    const isOpen = (name) => !/^(NODE_|LD_|PATH$|PYTHON|GCONV_PATH|BASH_ENV|GIT_)/.test(name);
    for (const name of Object.keys(process.env)) if (isOpen(name) && !Object.hasOwn(told.env, name)) delete process.env[name];
    for (const [name, value] of Object.entries(told.env)) if (isOpen(name)) process.env[name] = String(value);
    state.env = JSON.stringify(process.env);
  }
  if (typeof told.cwd === 'string') {
    try {
      process.chdir(told.cwd);
    } catch {}
    state.cwd = process.cwd();
  }
  if (Array.isArray(told.files)) files.apply(told.files);
};
files.begin();

// Sealed files that are no tests: the answer gets those that it is told of.
const data = new Set([...sealed].filter((name) => !/\.[cm]?js$/.test(name)).map((name) => path.join(work, name)));
if (data.size) {
  const encode = link.encode;
  link.encode = function (it, depth) {
    if (typeof it === 'string' && it.length < 400 && (it.includes('.') || it.includes('/'))) {
      const at = path.resolve(it.startsWith('file://') ? it.slice(7) : it);
      if (data.has(at)) shown.push(at);
      else for (const one of data) if (one.startsWith(`${at}/`)) shown.push(one);
    }
    return Reflect.apply(encode, this, [it, depth]);
  };
}

// The answer's modules.
const loaded = new Map();
const load = (file, isFresh) => {
  if (!isFresh && loaded.has(file)) return loaded.get(file);
  const [isModule, it, names] = link.request('load', path.relative(work, file), isFresh);
  const got = { isModule: isModule === true, it, names: [...names].map(String) };
  loaded.set(file, got);
  return got;
};
const answersFile = (name, from) => {
  if (!/^(\.{1,2}(\/|$)|\/|file:)/.test(name)) return undefined;
  const at = name.startsWith('file://') ? name.slice(7) : path.resolve(from, name);
  for (const end of ['', '.js', '.cjs', '.mjs', '/index.js', '/index.mjs']) {
    const relative = path.relative(work, at + end);
    if (modules.has(relative) && !sealed.has(relative)) return at + end;
  }
  return undefined;
};
const resolve = Module._resolveFilename;
Module._resolveFilename = function (name, parent, ...rest) {
  const from = parent?.filename ? path.dirname(parent.filename) : work;
  return answersFile(name, from) ?? Reflect.apply(resolve, this, [name, parent, ...rest]);
};
const loadFirst = Module._load;
Module._load = function (name, parent, ...rest) {
  const file = answersFile(name, parent?.filename ? path.dirname(parent.filename) : work);
  if (file === undefined) {
    const got = Reflect.apply(loadFirst, this, [name, parent, ...rest]);
    watch(name);
    return got;
  }
  if (Module._cache[file] === undefined) {
    const stand = new Module(file, parent);
    const got = load(file, loaded.has(file));
    Object.assign(stand, { filename: file, loaded: true, exports: got.it });
    Module._cache[file] = stand;
  }
  return Module._cache[file].exports;
};

// Modules with `import`.
const made = new Map();
const synthetic = (id, names, values) => new vm.SyntheticModule(names, function () {
  for (const name of names) this.setExport(name, values(name));
}, { identifier: id });
const isModuleFile = (file) => {
  if (file.endsWith('.mjs')) return true;
  if (file.endsWith('.cjs') || isModulePackage) return !file.endsWith('.cjs');
  try {
    new vm.Script(Module.wrap(readFileSync(file, 'utf8')), { filename: file });
    return false;
  } catch (error) {
    return /import statement outside|Unexpected token 'export'|import\.meta|await is only valid/.test(String(error));
  }
};
const importOf = async (name, from) => {
  const file = answersFile(name, from);
  const id = file ?? (/^(\.|\/|file:)/.test(name) ? path.resolve(from, name.replace(/^file:\/\//, '')) : name);
  if (made.has(id)) return made.get(id);
  let it;
  if (file !== undefined) {
    const got = load(file, false);
    const names = got.isModule ? got.names : [...new Set(['default', ...got.names])];
    it = synthetic(id, names, (key) => (key === 'default' && !got.isModule ? got.it : got.it[key]));
  } else if (id.startsWith('/') && existsSync(id) && isModuleFile(id)) {
    it = sourceModule(id);
  } else if (id.startsWith('/')) {
    const got = Module.createRequire(path.join(work, 'x'))(id);
    const names = got !== null && typeof got === 'object' ? Object.keys(got) : [];
    it = synthetic(id, [...new Set(['default', ...names])], (key) => (key === 'default' ? got : got[key]));
  } else {
    const got = await import(name);
    watch(name);
    it = synthetic(id, Object.keys(got), (key) => got[key]);
  }
  made.set(id, it);
  return it;
};
const linker = (name, from) => importOf(name, path.dirname(from.identifier));
const dynamic = async (name, from) => {
  const it = await importOf(name, path.dirname(from.identifier ?? from.filename ?? path.join(work, 'x')));
  if (it.status === 'unlinked') await it.link(linker);
  if (it.status === 'linked') await it.evaluate();
  return it;
};
const sourceModule = (file) => {
  const it = new vm.SourceTextModule(readFileSync(file, 'utf8'), {
    identifier: file,
    initializeImportMeta: (meta) => Object.assign(meta, { url: `file://${file}`, filename: file, dirname: path.dirname(file) }),
    importModuleDynamically: (name) => dynamic(name, { identifier: file }),
  });
  made.set(file, it);
  return it;
};

const run = async () => {
  for (const name of order.files) {
    const file = path.join(work, name);
    try {
      if (isModuleFile(file)) {
        const it = sourceModule(file);
        await it.link(linker);
        await it.evaluate();
        continue;
      }
      const module = new Module(file);
      module.filename = file;
      module.paths = Module._nodeModulePaths(path.dirname(file));
      const script = new vm.Script(Module.wrap(readFileSync(file, 'utf8')), {
        filename: file, importModuleDynamically: (name) => dynamic(name, { identifier: file }),
      });
      Reflect.apply(script.runInThisContext(), module.exports, [module.exports, Module.createRequire(file), module, file, path.dirname(file)]);
    } catch (error) {
      send({ broken: told(error) });
    }
  }
};
run();
