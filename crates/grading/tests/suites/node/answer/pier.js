'use strict';
const { Readable, Transform, pipeline } = require('node:stream');
const { promisify } = require('node:util');
const crypto = require('node:crypto');
const EventEmitter = require('node:events');
class Node_ { constructor(v, next = null) { this.value = v; this.next = next; } }
class LinkedList {
  constructor() { this.head = null; this.size = 0; }
  static fromArray(xs) { const l = new LinkedList(); xs.forEach((x) => l.append(x)); return l; }
  append(v) { const n = new Node_(v); if (!this.head) this.head = n; else { let c = this.head; while (c.next) c = c.next; c.next = n; } this.size++; return this; }
  reverse() { let p = null, c = this.head; while (c) [c.next, p, c] = [p, c, c.next]; this.head = p; return this; }
  find(f) { for (const v of this) if (f(v)) return v; return undefined; }
  toArray() { return [...this]; }
  *[Symbol.iterator]() { for (let c = this.head; c; c = c.next) yield c.value; }
}
class Animal { static #made = 0; static { Animal.kind = 'animal'; } #name; constructor(n) { this.#name = n; Animal.#made++; } get name() { return this.#name; } set name(v) { if (!v) throw new TypeError('name needed'); this.#name = v; } speak() { return `${this.#name} speaks`; } static get made() { return Animal.#made; } #secret() { return 1; } reveal() { return this.#secret(); } toString() { return `[Animal ${this.#name}]`; } }
class Gull extends Animal { speak() { return `${super.speak()} loudly`; } }
class AppError extends Error { constructor(m, opts = {}) { super(m, opts); this.name = this.constructor.name; this.status = opts.status ?? 500; Error.captureStackTrace?.(this, this.constructor); } toJSON() { return { name: this.name, message: this.message, status: this.status }; } }
class NotFound extends AppError { constructor(what) { super(`${what} not found`, { status: 404 }); } }
class Store extends EventEmitter {
  #state; constructor(r, s) { super(); this.reduce = r; this.#state = s; }
  get state() { return this.#state; }
  dispatch(a) { const before = this.#state; this.#state = this.reduce(before, a); if (before !== this.#state) this.emit('change', this.#state, before); return a; }
  subscribe(f) { this.on('change', f); return () => this.off('change', f); }
}
class LRU { constructor(n) { this.n = n; this.m = new Map(); } get(k) { if (!this.m.has(k)) return -1; const v = this.m.get(k); this.m.delete(k); this.m.set(k, v); return v; } put(k, v) { this.m.delete(k); this.m.set(k, v); if (this.m.size > this.n) this.m.delete(this.m.keys().next().value); } }
class TaskQueue { constructor(n) { this.n = n; this.running = 0; this.q = []; this.most = 0; } add(f) { return new Promise((ok, no) => { this.q.push({ f, ok, no }); this.next(); }); } next() { while (this.running < this.n && this.q.length) { const { f, ok, no } = this.q.shift(); this.running++; this.most = Math.max(this.most, this.running); Promise.resolve().then(f).then(ok, no).finally(() => { this.running--; this.next(); }); } } }
const sleep = (ms, signal) => new Promise((ok, no) => { if (signal?.aborted) return no(signal.reason); const t = setTimeout(ok, ms); signal?.addEventListener('abort', () => { clearTimeout(t); no(signal.reason); }, { once: true }); });
module.exports = {
  LinkedList, Animal, Gull, AppError, NotFound, Store, LRU, TaskQueue, sleep,
  match: (s) => /(?<k>\w+)=(?<v>\d+)/.exec(s), all: (s) => [...s.matchAll(/\d/g)].map((m) => m[0]),
  upper: () => new Transform({ transform(c, _, done) { done(null, String(c).toUpperCase()); } }),
  words: (xs) => Readable.from(xs), hash: (s) => crypto.createHash('sha256').update(s).digest('hex'),
  later: promisify((x, done) => setTimeout(() => done(null, x * 2), 5)), node: (x, done) => setImmediate(() => (x < 0 ? done(new RangeError('neg')) : done(null, Math.sqrt(x)))),
  deepClone: (o) => (Array.isArray(o) ? o.map(module.exports.deepClone) : o && typeof o === 'object' ? Object.fromEntries(Object.entries(o).map(([k, v]) => [k, module.exports.deepClone(v)])) : o),
  flat: (o, p = '') => Object.entries(o).reduce((a, [k, v]) => (v && typeof v === 'object' && !Array.isArray(v) ? { ...a, ...module.exports.flat(v, `${p}${k}.`) } : { ...a, [p + k]: v }), {}),
  validate: (schema) => (o) => Object.entries(schema).flatMap(([k, f]) => (f(o[k]) ? [] : [k])),
  sortBy: (xs, ...keys) => [...xs].sort((a, b) => { for (const k of keys) if (a[k] !== b[k]) return a[k] < b[k] ? -1 : 1; return 0; }),
  once: (f) => { let done = false, r; return (...a) => { if (!done) { done = true; r = f(...a); } return r; }; },
  counter: () => { let n = 0; return { inc: () => ++n, dec: () => --n, get value() { return n; } }; },
  bindAll: (o, ...ms) => { for (const m of ms) o[m] = o[m].bind(o); return o; },
  range: { from: 1, to: 3, [Symbol.iterator]() { let n = this.from; const { to } = this; return { next: () => (n <= to ? { value: n++, done: false } : { value: undefined, done: true }) }; } },
  iban: (n) => n.toLocaleString('en-US'), money: (n) => new Intl.NumberFormat('en-US', { style: 'currency', currency: 'USD' }).format(n),
  age: (d, now = new Date()) => now.getFullYear() - d.getFullYear(), boom: () => { throw new NotFound('pier'); }, wrap: () => { try { module.exports.boom(); } catch (e) { throw new AppError('wrapped', { cause: e }); } },
  agg: () => Promise.any([Promise.reject(new Error('a')), Promise.reject(new Error('b'))]), str: () => { throw 'plain'; }, nul: () => null, args: (...a) => a.length, dflt: ({ a = 1, b: { c = 2 } = {} } = {}) => [a, c],
  matrix: (n) => Array.from({ length: n }, () => Array(n).fill(0)), floats: () => new Float64Array([1.5, 2]), view: () => new DataView(new ArrayBuffer(2)), sparse: () => [1, , 3], dates: () => ({ at: new Date(5), list: [new Date(6)] }), nested: () => new Map([['a', new Set([1])], [{ k: 1 }, 'o']]), sym: Symbol.for('pier'), uniq: Symbol('u'),
  env: () => process.env.PIER, argv: () => process.argv.length > 0, print: (...a) => console.log(...a), err: (x) => console.error(x), table: (x) => console.table(x), nextId: (() => { let i = 0; return () => ++i; })(), ready: Promise.resolve(5), interval: (f, ms, n) => { let k = 0; const t = setInterval(() => { f(++k); if (k === n) clearInterval(t); }, ms); return () => clearInterval(t); },
  pingpong: async (f) => { let x = 0; for (let i = 0; i < 3; i++) x = await f(x); return x; }, mapAsync: async (xs, f) => Promise.all(xs.map(f)), each: (xs, f) => xs.forEach(f), reduce: (xs, f, z) => xs.reduce(f, z), find: (xs, f) => xs.find(f), mutate: (o) => { o.added = true; o.list.push(9); delete o.gone; return o; }, same: (x) => x, eq: (a, b) => a === b,
};
