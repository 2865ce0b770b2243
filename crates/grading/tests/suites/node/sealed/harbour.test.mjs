import { after, afterEach, before, beforeEach, describe, it, mock, test } from 'node:test';
import assert from 'node:assert/strict';
import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import main, * as harbour from './harbour.mjs';
import { Graph, Matrix, Queue, Temperature, ValidationError } from './harbour.mjs';
import { check } from './helper.mjs';

describe('queue', () => {
  let queue;
  const log = [];
  before(() => log.push('before'));
  beforeEach(() => { queue = Queue.from([1, 2]); });
  afterEach(() => log.push('after'));
  it('is first in, first out', () => {
    assert.equal(queue.enqueue(3), 3);
    assert.deepEqual([...queue], [1, 2, 3]);
    assert.equal(queue.dequeue(), 1);
    assert.equal(queue.length, 2);
    assert.equal(JSON.stringify(queue), '[2,3]');
    assert.equal(Object.prototype.toString.call(queue), '[object Queue]');
  });
  it('has nothing left', () => {
    queue.dequeue(); queue.dequeue();
    assert.throws(() => queue.dequeue(), { name: 'RangeError', message: /empty/ });
    assert.throws(() => queue.dequeue(), RangeError);
    assert.deepEqual(log, ['before', 'after']);
  });
  describe('drained', () => {
    it('gives all', async () => {
      const got = [];
      for await (const x of queue.drain()) got.push(x);
      assert.deepEqual(got, [1, 2]);
    });
  });
});
test('graphs', () => {
  const graph = new Graph().add('a', 'b', 4).add('a', 'c', 1).add('c', 'b', 2);
  assert.deepEqual(graph.path('a', 'b'), { path: ['a', 'c', 'b'], cost: 3 });
  assert.equal(graph.path('a', 'z'), null);
  assert.deepEqual(graph.edges.get('b'), new Map([['a', 4], ['c', 2]]));
});
test('operators', () => {
  assert.equal(new Temperature(20) + 1, 21);
  assert.equal(`${new Temperature(20)}`, '20C');
  assert.ok(new Temperature(20) > new Temperature(10));
  assert.ok(new Matrix([[1, 2], [3, 4]]).times(new Matrix([[1, 0], [0, 1]])).equals(new Matrix([[1, 2], [3, 4]])));
  assert.deepEqual(new Matrix([[1]]), new Matrix([[1]]));
});
test('errors', () => {
  assert.throws(() => harbour.validate('{'), (error) => {
    assert.ok(error instanceof ValidationError);
    assert.ok(error.cause instanceof SyntaxError);
    assert.equal(error.field, 'json');
    return true;
  });
  assert.doesNotThrow(() => harbour.validate('{}'));
});
test('functions', async (t) => {
  await t.test('pipes', () => assert.equal(harbour.pipe((x) => x + 1, (x) => x * 2)(3), 8));
  await t.test('groups', () => assert.deepEqual(harbour.groupBy(['aa', 'b'], (x) => x.length), { 1: ['b'], 2: ['aa'] }));
  await t.test('throttles', (t) => {
    let now = 1000;
    t.mock.method(Date, 'now', () => now);
    const f = t.mock.fn(), g = harbour.throttle(f, 100);
    g(1); g(2); now += 150; g(3);
    assert.deepEqual(f.mock.calls.map((call) => call.arguments), [[1], [3]]);
  });
  assert.equal(main(), 2);
  assert.equal(harbour.default(4), 5);
  assert.equal(harbour.tag`a${1}b${2}c`, 'a|b|c1,2');
  assert.equal(harbour.sumArgs(1, 2, 3), 6);
  assert.ok(harbour.deepEqual({ a: [1, { b: 2 }] }, { a: [1, { b: 2 }] }));
  assert.ok(!harbour.deepEqual({ a: 1 }, { a: 2 }));
});
test('promises', async () => {
  assert.deepEqual(await harbour.sleepSort([3, 1, 2]), [1, 2, 3]);
  await assert.rejects(harbour.timeout(harbour.never(), 10), /timed out/);
  assert.equal(await harbour.timeout(Promise.resolve(5), 50), 5);
  const settled = await harbour.settle([Promise.resolve(1), Promise.reject(new Error('x'))]);
  assert.deepEqual(settled.map((it) => it.status), ['fulfilled', 'rejected']);
  assert.equal(settled[1].reason.message, 'x');
  assert.equal(await harbour.emit(), 7);
});
test('files', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'h-'));
  await writeFile(join(folder, 'a'), 'ahoy');
  await harbour.copy(join(folder, 'a'), join(folder, 'b'));
  assert.equal(await readFile(join(folder, 'b'), 'utf8'), 'AHOY');
  await rm(folder, { recursive: true });
});
test('bytes', () => {
  assert.deepEqual(harbour.bytes('hi'), new Uint8Array([104, 105]));
  assert.deepEqual(harbour.buffer('hi'), Buffer.from('hi'));
});
test('endless', () => {
  const fib = harbour.fibonacci();
  assert.deepEqual(Array.from({ length: 5 }, () => fib.next().value), [0n, 1n, 1n, 2n, 3n]);
  for (const x of harbour.fibonacci()) if (x > 50n) { assert.equal(x, 55n); break; }
});
test('objects', () => {
  const seen = [];
  const o = harbour.observable({ a: 1 }, (...args) => seen.push(args));
  o.a = 2;
  assert.deepEqual(seen, [['a', 2, 1]]);
  assert.equal(o.a, 2);
  assert.equal(harbour.lazy.answer, 42);
  assert.throws(() => { harbour.lazy.answer = 1; }, TypeError);
  assert.throws(() => { harbour.frozenConfig.deep.x = 2; }, TypeError);
  const key = {};
  assert.ok(harbour.remember(key, 5));
  assert.equal(harbour.recall(key), 5);
  assert.equal(harbour.recall({}), undefined);
  class Person { constructor(name) { this.name = name; } }
  assert.equal(new (harbour.mixin(Person))('Ann').hello(), 'hello Ann');
  assert.deepEqual(harbour.berths, ['north', 'south']);
});
test('help', () => check(harbour.call));
for (const [n, want] of [[0, 1], [41, 42]]) {
  test(`main of ${n}`, () => assert.equal(main(n), want));
}
test('texts like tests', () => {
  const text = "test('nothing', () => { /* } */ });";
  assert.match(text, /test\(/);
});
