// The answer's side: its modules run here, in a process and a sandbox of their own, and do what the tests
// ask of them. No sealed test and nothing that is expected is ever in this process.
'use strict';
const { Files } = require('./carried.js');
const fs = require('fs');
const path = require('path');
const { read, readSync, writeSync } = fs;
const work = process.cwd();
const timersOf = require('./cleared.js');
const { Link, Gone, Inline, firsts, firstsOfModule, holderOf } = require('./wire.js');
const files = new Files(work, () => true);
const Module = require('module');
const { Console } = require('console');
const { Writable } = require('stream');
const { types } = require('util');

const [LINK, NOTICES] = [3, 4];
const link = new Link(LINK, false);
link.grantsStandard = true;
const own = {
  exit: process.reallyExit.bind(process), active: process.getActiveResourcesInfo.bind(process), requests: process._getActiveRequests?.bind(process), every: setInterval, immediate: setImmediate,
};
let [served, wakes, quiet, isTold, isReading] = [0, 0, 0, false, false];
// Whether the tests take it that nothing is under way here.
let isBelieved = true;
const settlements = [];
const bytes = Buffer.alloc(256);
const setTick = process.nextTick.bind(process);

const leave = () => own.exit(0);
// That nothing is under way goes with how much was asked by then: the tests may have asked for more meanwhile.
const notice = (byte) => {
  isBelieved = byte === 4;
  try {
    writeSync(NOTICES, Buffer.from(byte === 4 ? [byte, served & 255] : [byte]));
  } catch {
    leave();
  }
};
link.settled = (...settlement) => {
  link.open--;
  settlements.push(settlement);
  [quiet, isTold] = [0, false];
  notice(3);
};

// The tests wait while this side does what it can at once: timers that are due, and whatever comes of them. They are told
// how often they were asked to let something be called, which they need not do any more.
let [isTurn, turning, letIn] = [false, undefined, 0];
const turn = async () => {
  isTurn = true;
  for (let round = 0; round < 2; round++) await new Promise(own.immediate);
  isTurn = false;
  const reply = link.pack('=', letIn);
  letIn = 0;
  if (link.isQuiet()) reply.q = 1;
  link.send(reply);
};

// What is called by itself, as by a timer, waits until the tests have nothing under way.
const request = link.request;
link.request = function (...args) {
  if (this.depth || isTurn) return Reflect.apply(request, this, args);
  this.depth = 1;
  notice(2);
  try {
    for (;;) {
      const message = this.receive();
      if (message.k === 'granted') break;
      if (message.k === 'go') continue;
      served++;
      if (message.k === 'turn') {
        letIn++;
        turning = turn();
        break;
      }
      this.serve(message);
      isBelieved = false;
    }
    timersOf.check();
    return Reflect.apply(request, this, args);
  } finally {
    this.depth = 0;
    if (!isTurn) this.send({ k: 'released', v: null });
  }
};

// From when the tests ask for something until they have done what they do at once, nothing else goes on here: no promise is
// gone on with, no timer goes off.
let isHeld = false;
const answer = () => {
  const message = link.receive();
  isHeld = message.k !== 'go';
  if (!isHeld) return undefined;
  served++;
  if (message.k === 'load') return load(message);
  if (message.k === 'turn') return (turning = turn());
  link.serve(message);
  return undefined;
};
// One that is still to come is waited for where `isMore`, and all that were told of in any case.
const answerAll = async (isMore) => {
  while (isMore || served < wakes || isHeld) {
    if (isTurn) {
      await turning;
      continue;
    }
    isMore = false;
    const end = answer();
    // Promises would be gone on with meanwhile.
    if (end !== undefined) await end;
  }
};

// What has been begun here and is to go on, besides the waiting for the tests, which is under way until what it calls is
// over.
let waiting;
const underWay = () => {
  const count = own.active().filter((it) => it !== 'PipeWrap' && it !== 'TTYWrap').length;
  return count && waiting !== undefined && own.requests().includes(waiting) ? count - 1 : count;
};

// What some modules do in other threads is on no list of what is under way.
const HIDDEN = /^NativeModule (zlib|crypto|worker_threads)$/;
let [loaded, hides] = [0, false];
const mayHide = () => {
  const list = process.moduleLoadList ?? [];
  if (list.length !== loaded) {
    loaded = list.length;
    hides = hides || list.some((it) => HIDDEN.test(it));
  }
  return hides;
};

// Timers that nobody waits for go off all the same while this process does.
let isLoose = false;
const timer = setTimeout(() => {}, 0);
const timers = Object.getPrototypeOf(timer);
clearTimeout(timer);
const { unref } = timers;
timers.unref = function () {
  isLoose = true;
  return Reflect.apply(unref, this, []);
};

const isQuiet = () => underWay() === 0 && settlements.length === 0 && link.open === 0 && !mayHide();
link.isQuiet = () => {
  isBelieved = isQuiet();
  return isBelieved;
};

const handle = async () => {
  await answerAll(false);
  for (;;) {
    // Whatever can go on at once does; the tests are told when that is more than seemed.
    const wasQuiet = isQuiet();
    await new Promise(setTick);
    if (settlements.length || underWay()) {
      if (wasQuiet) notice(5);
      return;
    }
    // Somebody waits for what may come by itself.
    if (isLoose || link.open > 0 || mayHide()) return;
    if (!isBelieved && !isTold) {
      isTold = true;
      notice(4);
    }
    // Nothing can happen here until the tests ask for something.
    await answerAll(true);
    while (wakes < served) wakes += Math.max(1, readSync(NOTICES, bytes, 0, served - wakes, null));
    isTold = false;
  }
};

const load = async (message) => {
  const [name, isFresh] = message.v;
  const file = path.join(work, name);
  let reply;
  link.depth = 1;
  try {
    if (isFresh) delete require.cache[file];
    let [isModule, it] = [file.endsWith('.mjs'), undefined];
    if (!isModule) {
      try {
        it = Module.createRequire(path.join(work, 'x'))(file);
      } catch (error) {
        if (!['ERR_REQUIRE_ESM', 'ERR_REQUIRE_ASYNC_MODULE'].includes(error?.code)) throw error;
        isModule = true;
      }
      isModule ||= types.isModuleNamespaceObject(it);
    }
    if (isModule && it === undefined) {
      link.depth = 0;
      it = await import(`file://${file}${isFresh ? `?${served}` : ''}`);
    }
    const names = it !== null && (typeof it === 'object' || typeof it === 'function') ? Object.keys(it) : [];
    reply = ['=', new Inline([isModule, it, new Inline(names)])];
  } catch (error) {
    if (error instanceof Gone) return leave();
    reply = ['!', error];
  }
  link.depth = 0;
  const packed = link.pack(...reply);
  if (link.isQuiet()) packed.q = 1;
  link.send(packed);
};

link.ops.drain = () => new Inline(settlements.splice(0).map((it) => new Inline(it)));
const add = ([name, , keys]) => first.set(name, new Map(keys));
const first = new Map();
firsts(add).forEach(add);
link.ops.patch = (name, key, isFirst, value) => {
  if (name === 'performance') holderOf(name);
  if (!first.has(name)) first.set(name, new Map(firstsOfModule(name)[2]));
  holderOf(name)[key] = isFirst ? first.get(name).get(key) : value;
};

// Standard output goes to where the tests may look at it.
const caught = [];
const sink = () => new Writable({ write: (chunk, _, done) => (caught.push(String(chunk)), done()) });
const inner = new Console({ stdout: sink(), stderr: sink() });
for (const name of Object.keys(console)) {
  if (typeof console[name] !== 'function' || typeof inner[name] !== 'function') continue;
  console[name] = (...args) => {
    caught.length = 0;
    Reflect.apply(inner[name], inner, args);
    link.request('console', name, args, caught.splice(0).join(''));
  };
}
for (const [at, stream] of [process.stdout, process.stderr].entries()) {
  stream.write = (chunk, coding, done) => {
    link.request('write', at, typeof chunk === 'string' ? chunk : Buffer.from(chunk).toString());
    const after = typeof coding === 'function' ? coding : done;
    if (typeof after === 'function') process.nextTick(after);
    return true;
  };
}

const state = { env: JSON.stringify(process.env), cwd: work };
link.outgoing = () => {
  const out = {};
  const env = JSON.stringify(process.env);
  if (env !== state.env) [out.env, state.env] = [JSON.parse(env), env];
  const cwd = process.cwd();
  if (cwd !== state.cwd) out.cwd = state.cwd = cwd;
  const changed = files.changed();
  if (changed !== undefined) out.files = changed;
  return Object.keys(out).length ? out : undefined;
};
link.incoming = (told) => {
  if (told.env !== undefined) {
    for (const name of Object.keys(process.env)) if (!(name in told.env)) delete process.env[name];
    Object.assign(process.env, told.env);
    state.env = JSON.stringify(process.env);
  }
  if (told.cwd !== undefined) {
    try {
      process.chdir(told.cwd);
    } catch {}
    state.cwd = process.cwd();
  }
  if (told.files !== undefined) files.apply(told.files);
};
files.begin();

// A test may be waiting for what will never come: it is told when nothing is under way here.
const asking = own.every(() => {
  // While nothing is waited for, something is being handled.
  const hasNothing = isReading && underWay() === 0 && settlements.length === 0;
  quiet = hasNothing ? quiet + 1 : 0;
  if (quiet >= (mayHide() ? 40 : 4) && !isTold) {
    isTold = true;
    notice(4);
  }
}, 25);
Reflect.apply(unref, asking, []);

const wait = () => {
  isReading = true;
  const before = own.requests?.();
  read(NOTICES, bytes, 0, bytes.length, null, heard);
  waiting = own.requests?.().find((it) => !before.includes(it));
};
const heard = (error, count) => {
  isReading = false;
  if (error || count === 0) return leave();
  wakes += count;
  [quiet, isTold] = [0, false];
  handle().then(wait, leave);
};
wait();
