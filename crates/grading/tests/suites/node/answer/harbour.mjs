// An answer that is a module, with what else honest answers do.
import { EventEmitter, once } from 'node:events';
import { readFile, writeFile } from 'node:fs/promises';
export const berths = ['north', 'south'];
export let calls = 0;
export const call = () => ++calls;
export class Queue {
  #items = [];
  enqueue(x) { this.#items.push(x); return this.#items.length; }
  dequeue() { if (!this.#items.length) throw new RangeError('empty queue'); return this.#items.shift(); }
  get length() { return this.#items.length; }
  [Symbol.iterator]() { return this.#items[Symbol.iterator](); }
  async *drain() { while (this.#items.length) { await null; yield this.#items.shift(); } }
  static from(xs) { const q = new Queue(); for (const x of xs) q.enqueue(x); return q; }
  toJSON() { return this.#items; }
  get [Symbol.toStringTag]() { return 'Queue'; }
}
export class Graph {
  edges = new Map();
  add(a, b, w = 1) { for (const [x, y] of [[a, b], [b, a]]) { if (!this.edges.has(x)) this.edges.set(x, new Map()); this.edges.get(x).set(y, w); } return this; }
  path(from, to) {
    const best = new Map([[from, 0]]), via = new Map(), open = new Set([from]);
    while (open.size) {
      const at = [...open].reduce((a, b) => (best.get(a) <= best.get(b) ? a : b)); open.delete(at);
      for (const [next, w] of this.edges.get(at) ?? []) if (best.get(at) + w < (best.get(next) ?? Infinity)) { best.set(next, best.get(at) + w); via.set(next, at); open.add(next); }
    }
    if (!best.has(to)) return null;
    const path = [to]; while (path[0] !== from) path.unshift(via.get(path[0]));
    return { path, cost: best.get(to) };
  }
}
export class Temperature { constructor(c) { this.c = c; } valueOf() { return this.c; } [Symbol.toPrimitive](hint) { return hint === 'string' ? `${this.c}C` : this.c; } }
export class Matrix { constructor(rows) { this.rows = rows; } times(o) { return new Matrix(this.rows.map((r) => o.rows[0].map((_, j) => r.reduce((s, x, k) => s + x * o.rows[k][j], 0)))); } equals(o) { return JSON.stringify(this.rows) === JSON.stringify(o.rows); } }
export class ValidationError extends Error { constructor(field, options) { super(`bad ${field}`, options); this.name = 'ValidationError'; this.field = field; } }
export const validate = (o) => { try { JSON.parse(o); } catch (cause) { throw new ValidationError('json', { cause }); } return true; };
export const throttle = (f, ms) => { let last = -Infinity; return function (...a) { if (Date.now() - last >= ms) { last = Date.now(); return f.apply(this, a); } }; };
export const pipe = (...fs) => (x) => fs.reduce((v, f) => f(v), x);
export const groupBy = (xs, key) => xs.reduce((o, x) => { (o[key(x)] ??= []).push(x); return o; }, {});
export const deepEqual = (a, b) => a === b || (typeof a === 'object' && typeof b === 'object' && a && b && Object.keys(a).length === Object.keys(b).length && Object.keys(a).every((k) => deepEqual(a[k], b[k])));
export const observable = (o, f) => new Proxy(o, { set(t, k, v) { f(k, v, t[k]); t[k] = v; return true; } });
export const sleepSort = (xs) => new Promise((r) => { const out = []; for (const x of xs) setTimeout(() => { out.push(x); if (out.length === xs.length) r(out); }, x * 8); });
export const timeout = (p, ms) => Promise.race([p, new Promise((_, no) => setTimeout(() => no(new Error('timed out')), ms))]);
export const settle = (ps) => Promise.allSettled(ps);
export const emit = async () => { const e = new EventEmitter(); setTimeout(() => e.emit('ready', 7), 5); return (await once(e, 'ready'))[0]; };
export const copy = async (a, b) => writeFile(b, (await readFile(a, 'utf8')).toUpperCase());
export const bytes = (s) => new TextEncoder().encode(s);
export const buffer = (s) => Buffer.from(s);
export const never = () => new Promise(() => {});
export function* fibonacci() { let [a, b] = [0n, 1n]; for (;;) { yield a; [a, b] = [b, a + b]; } }
export const lazy = { get answer() { return 42; }, set answer(v) { throw new TypeError('read only'); } };
export const tag = (s, ...v) => s.raw.join('|') + v.join(',');
export const sumArgs = function () { return [...arguments].reduce((a, b) => a + b, 0); };
export const mixin = (Base) => class extends Base { hello() { return `hello ${this.name}`; } };
export const frozenConfig = Object.freeze({ deep: Object.freeze({ x: 1 }) });
export const weak = new WeakMap();
export const remember = (o, v) => { weak.set(o, v); return weak.has(o); };
export const recall = (o) => weak.get(o);
export default function main(n = 1) { return n + 1; }
