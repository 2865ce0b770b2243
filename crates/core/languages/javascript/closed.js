// Closes what looks into this process from within, before anything of the answer's is loaded: sealed tests run beside it.
//
// Loaded first, by `--require`, in each worker too. Twins of the tests stand behind it: what could be seen is one of two.
// What is called later uses nothing that an answer can change, such as how an array is gone through.
'use strict';
const Module = require('module');
const { realpathSync } = require('fs');
const threads = require('worker_threads');
const v8 = require('v8');

const { apply, construct } = Reflect;
const { assign, defineProperty } = Object;
const startsWith = Function.prototype.call.bind(String.prototype.startsWith);
const realpath = realpathSync.native;
const own = __filename;

const refuse = (name) => {
  throw assign(new Error(`${name} is closed while sealed tests run in this process`), { code: 'ERR_ACCESS_DENIED' });
};
const put = (owner, name, value) => defineProperty(owner, name, { value, writable: false, configurable: false });
const close = (owner, names, of) => {
  for (const name of names) {
    // As a function, not an arrow: some are called with `new`.
    if (typeof owner[name] === 'function') put(owner, name, function closed() { refuse(`${of}.${name}`); });
  }
};

// A node that is built without it has none. Both are loaded first, since the second is made of the first.
const inspectors = process.features.inspector ? ['inspector', 'inspector/promises'].filter((it) => Module.isBuiltin(it)) : [];
for (const it of inspectors.map((name) => require(name))) close(it, Object.keys(it), 'inspector');
close(process, ['binding', '_linkedBinding', '_debugProcess', '_debugEnd'], 'process');
close(v8, ['getHeapSnapshot', 'writeHeapSnapshot', 'setHeapSnapshotNearHeapLimit', 'queryObjects'], 'v8');
close(threads.Worker.prototype, ['getHeapSnapshot'], 'worker');
close(Module, ['register', 'registerHooks'], 'module');

// Tests of what is collected need one of them; others open the engine.
const { setFlagsFromString } = v8;
put(v8, 'setFlagsFromString', (flags) => {
  const isHarmless = flags === '--expose-gc' || flags === '--expose_gc' || flags === '--no-expose-gc';
  return isHarmless ? setFlagsFromString(flags) : refuse(`v8.setFlagsFromString('${flags}')`);
});

// Machine code comes from what is installed, not from where an answer writes.
const { dlopen } = process;
const written = [`${process.cwd()}/`, '/tmp/', '/dev/', '/proc/'];
put(process, 'dlopen', (module, file, flags) => {
  const real = realpath(`${file}`);
  for (let at = 0; at < written.length; at++) {
    if (startsWith(real, written[at])) refuse(`process.dlopen('${real}')`);
  }
  return apply(dlopen, process, flags === undefined ? [module, real] : [module, real, flags]);
});

// From a worker the main thread could be debugged: one that is given settings is closed like this process, too.
const { Worker } = threads;
const closed = new Proxy(Worker, {
  construct(target, args, made) {
    const options = assign({ __proto__: null }, args[1]);
    if (options.execArgv != null || options.env != null) {
      const execArgv = ['--require', own];
      const more = options.execArgv ?? [];
      for (let at = 0; at < more.length; at++) {
        defineProperty(execArgv, at + 2, { value: `${more[at]}`, writable: true, enumerable: true, configurable: true });
      }
      options.execArgv = execArgv;
    }
    return construct(target, [args[0], options], made);
  },
});
put(Worker.prototype, 'constructor', closed);
put(threads, 'Worker', closed);

Module.syncBuiltinESMExports();
