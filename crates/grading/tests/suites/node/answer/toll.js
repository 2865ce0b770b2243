const { EventEmitter } = require('events');
const fs = require('fs');
exports.toll = (n) => { if (n < 0) throw new RangeError('negative'); return n * 2; };
class StackError extends Error { constructor(m, code) { super(m); this.name = 'StackError'; this.code = code; } }
class Stack { #n = 0; static LIMIT = 3;
  constructor(items = []) { this.items = [...items]; }
  push(x) { if (this.items.length >= Stack.LIMIT) throw new StackError('full', 7); this.items.push(x); this.#n++; return this; }
  pop() { if (!this.items.length) throw new Error('empty'); return this.items.pop(); }
  get size() { return this.items.length; }
  set top(v) { this.items[this.items.length - 1] = v; }
  *[Symbol.iterator]() { yield* this.items; }
  toString() { return `Stack(${this.items})`; }
  static of(...xs) { return new Stack(xs); }
  toJSON() { return { items: this.items }; }
  describe() { return `${this.kind()} ${this.size}`; }
  kind() { return 'stack'; }
}
Object.assign(exports, { Stack, StackError });
exports.sortInPlace = (xs) => { xs.sort((a, b) => a - b); };
exports.delay = (ms, v) => new Promise((r) => setTimeout(() => r(v), ms));
exports.fail = async () => { throw new TypeError('nope'); };
exports.map = (xs, f) => xs.map(f);
exports.count = (s) => { const m = new Map(); for (const c of s) m.set(c, (m.get(c) || 0) + 1); return m; };
exports.uniq = (xs) => new Set(xs);
exports.gen = function* (n) { for (let i = 0; i < n; i++) { const g = yield i; if (g) i = g; } };
exports.agen = async function* (n) { for (let i = 0; i < n; i++) { await null; yield i; } };
exports.Emitter = class Emitter extends EventEmitter { fire(x) { this.emit('x', x); } };
exports.debounce = (f, ms) => { let t; return (...a) => { clearTimeout(t); t = setTimeout(() => f(...a), ms); }; };
exports.memo = (f) => { const c = new Map(); return (x) => { if (!c.has(x)) c.set(x, f(x)); return c.get(x); }; };
exports.curry = (f) => function c(...a) { return a.length >= f.length ? f(...a) : (...b) => c(...a, ...b); };
exports.now = () => Date.now();
exports.today = () => new Date();
exports.rnd = () => Math.random();
exports.say = (x) => { console.log('hi', x); };
exports.save = (p, o) => fs.writeFileSync(p, JSON.stringify(o));
exports.load = (p) => JSON.parse(fs.readFileSync(p, 'utf8'));
exports.big = () => 10n ** 20n;
exports.date = () => new Date(0);
exports.frozen = () => Object.freeze({ a: [1] });
exports.clone = (o) => structuredClone(o);
exports.retry = async (f, n) => { for (;;) try { return await f(); } catch (e) { if (--n <= 0) throw e; } };
exports.pool = async (tasks, n) => { const out = []; let i = 0; const w = async () => { while (i < tasks.length) { const k = i++; out[k] = await tasks[k](); } }; await Promise.all(Array.from({ length: n }, w)); return out; };
exports.state = { hits: 0, hit() { return ++this.hits; } };
exports.undef = () => undefined; exports.nan = () => NaN; exports.list = () => new List();
class List { constructor() { this.head = null; } add(v) { this.head = { v, next: this.head }; return this; } }
exports.sym = Symbol('s'); exports.tag = { [exports.sym]: 4 };
exports.LRU = class LRU extends Map { constructor(n) { super(); this.n = n; } put(k, v) { this.set(k, v); if (this.size > this.n) this.delete(this.keys().next().value); return this; } };
