// Two processes that use each other's objects: what crosses between them, and how.
//
// Plain data crosses by value. Arrays, plain objects, maps and sets are copied, and both copies are kept the
// same whenever something crosses: only one side runs at a time, so nobody sees them differ. Everything else
// stays where it was made; the other side gets a stand-in, which asks for whatever is done with it.
//
// The same file serves both processes. What the tests' side grants is less: see `Link.grants`.
'use strict';
const fs = require('fs');
const util = require('util');

// Held here, since tests may patch them, and answers may try.
const { readSync, writeSync } = fs;
const { stringify, parse } = JSON;
const { types } = util;
const { Date } = globalThis;
const reflect = { ...Object.fromEntries(Object.getOwnPropertyNames(Reflect).map((name) => [name, Reflect[name]])) };
const MESSAGE_MAX = 256 << 20;
const DEPTH_MAX = 400;
// How many crossings a container is looked at for, after it was last spoken of. It is known for longer.
const KEPT_FOR = 80;

class Gone extends Error {}

// What both sides have of their own: by path, and the other way round.
const STANDARD = new Map();
const STANDARD_OF = new Map();
for (const name of [
  'Object', 'Function', 'Array', 'String', 'Number', 'Boolean', 'Symbol', 'BigInt', 'Math', 'JSON', 'Reflect', 'Proxy',
  'Promise', 'Map', 'Set', 'WeakMap', 'WeakSet', 'WeakRef', 'Date', 'RegExp', 'Error', 'TypeError', 'RangeError',
  'SyntaxError', 'ReferenceError', 'EvalError', 'URIError', 'AggregateError', 'ArrayBuffer', 'SharedArrayBuffer', 'DataView',
  'Int8Array', 'Uint8Array', 'Uint8ClampedArray', 'Int16Array', 'Uint16Array', 'Int32Array', 'Uint32Array', 'Float32Array',
  'Float64Array', 'BigInt64Array', 'BigUint64Array', 'Buffer', 'URL', 'URLSearchParams', 'AbortController', 'AbortSignal',
  'Event', 'EventTarget', 'TextEncoder', 'TextDecoder', 'Intl', 'globalThis', 'process', 'console', 'parseInt', 'parseFloat',
  'isNaN', 'isFinite', 'structuredClone', 'setTimeout', 'setInterval', 'setImmediate', 'clearTimeout', 'clearInterval',
  'clearImmediate', 'queueMicrotask', 'fetch', 'Iterator', 'DOMException',
]) {
  const it = globalThis[name];
  if (it === undefined) continue;
  const add = (path, it) => {
    if ((typeof it === 'function' || (typeof it === 'object' && it !== null)) && !STANDARD_OF.has(it)) {
      STANDARD.set(path, it);
      STANDARD_OF.set(it, path);
    }
  };
  add(name, it);
  if (name === 'globalThis' || name === 'process' || name === 'console') continue;
  for (const [owner, at] of [[it, name], [it.prototype, `${name}.prototype`]]) {
    if (owner === undefined || owner === null) continue;
    add(at, owner);
    for (const key of Reflect.ownKeys(owner)) {
      const told = Object.getOwnPropertyDescriptor(owner, key);
      if (typeof told.value === 'function') add(`${at}.${String(key)}`, told.value);
    }
  }
}
const proto = Object.getPrototypeOf;
const MORE_KINDS = {
  Generator: proto(function* () {}).prototype, GeneratorFunction: proto(function* () {}),
  AsyncFunction: proto(async function () {}), AsyncGenerator: proto(async function* () {}).prototype,
  AsyncGeneratorFunction: proto(async function* () {}), ArrayIterator: proto([][Symbol.iterator]()),
  Iterator: proto(proto([][Symbol.iterator]())), MapIterator: proto(new Map().keys()), SetIterator: proto(new Set().keys()),
};
for (const [name, it] of Object.entries(MORE_KINDS)) {
  if (!STANDARD_OF.has(it)) {
    STANDARD.set(`%${name}%`, it);
    STANDARD_OF.set(it, `%${name}%`);
  }
}
for (const name of ['events', 'util', 'path', 'buffer', 'url']) {
  const it = require(name);
  const told = Object.getOwnPropertyDescriptors(it);
  for (const key of [...Object.keys(it), '']) {
    // What is loaded when it is first looked at is no kind that both sides make.
    const value = key === '' ? it : told[key].value;
    if (typeof value !== 'function' || STANDARD_OF.has(value)) continue;
    STANDARD.set(`node:${name}.${key}`, value);
    STANDARD_OF.set(value, `node:${name}.${key}`);
    if (value.prototype && typeof value.prototype === 'object' && !STANDARD_OF.has(value.prototype)) {
      STANDARD.set(`node:${name}.${key}.prototype`, value.prototype);
      STANDARD_OF.set(value.prototype, `node:${name}.${key}.prototype`);
    }
  }
}
// What objects of these are derived from both sides have, once they have loaded them: not what makes them.
const LATER = new Set(['stream', 'http', 'net', 'readline']);
let [loadedCount, list] = [0, process.moduleLoadList ?? []];
const learn = (name) => {
  LATER.delete(name);
  for (const [key, { value }] of Object.entries(Object.getOwnPropertyDescriptors(require(name)))) {
    const it = /^[A-Z]/.test(key) && typeof value === 'function' ? value.prototype : undefined;
    if (it === undefined || it === null || STANDARD_OF.has(it)) continue;
    STANDARD.set(`node:${name}.${key}.prototype`, it);
    STANDARD_OF.set(it, `node:${name}.${key}.prototype`);
  }
};
const learnLoaded = () => {
  if (list.length === loadedCount) return;
  loadedCount = list.length;
  for (const name of [...LATER]) if (list.includes(`NativeModule ${name}`)) learn(name);
};
const ERRORS = new Set(['Error', 'TypeError', 'RangeError', 'SyntaxError', 'ReferenceError', 'EvalError', 'URIError', 'AggregateError']);
const SYMBOLS = new Map(Object.getOwnPropertyNames(Symbol).filter((name) => typeof Symbol[name] === 'symbol').map((name) => [Symbol[name], name]));
const ARRAYS = ['Int8Array', 'Uint8Array', 'Uint8ClampedArray', 'Int16Array', 'Uint16Array', 'Int32Array', 'Uint32Array', 'Float32Array', 'Float64Array', 'BigInt64Array', 'BigUint64Array'];

const sortOf = (it) => {
  const kind = reflect.getPrototypeOf(it);
  if (Array.isArray(it)) return kind === Array.prototype ? 'a' : undefined;
  if (types.isMap(it)) return kind === Map.prototype ? 'm' : undefined;
  if (types.isSet(it)) return kind === Set.prototype ? 's' : undefined;
  if (kind !== Object.prototype && kind !== null) return undefined;
  if (types.isProxy(it) || types.isArgumentsObject(it) || it === globalThis || types.isModuleNamespaceObject(it)) return undefined;
  for (const key of reflect.ownKeys(it)) {
    const told = reflect.getOwnPropertyDescriptor(it, key);
    if (!('value' in told) || !told.enumerable) return undefined;
  }
  return kind === null ? 'n' : 'o';
};

// What is in a container, flat, so that two looks can be compared.
const contents = (it, sort) => {
  const flat = [];
  if (sort === 'a') {
    for (const key of reflect.ownKeys(it)) if (key !== 'length') flat.push(key, it[key]);
    flat.push('length', it.length);
  } else if (sort === 'm') Map.prototype.forEach.call(it, (value, key) => flat.push(key, value));
  else if (sort === 's') Set.prototype.forEach.call(it, (value) => flat.push(value));
  else for (const key of reflect.ownKeys(it)) flat.push(key, it[key]);
  flat.push(Object.isFrozen(it) ? 2 : Object.isSealed(it) ? 1 : 0);
  return flat;
};
// Whether a container has what it had, without a list of it being made where there is no need.
const isUnchanged = (it, sort, before) => {
  if (before === undefined) return false;
  if (sort === 'a') {
    // Keys and values in turn, the length, the state.
    const { length } = it;
    if (before.length === 2 * length + 3 && before[before.length - 2] === length) {
      for (let at = 0; at < length; at++) if (!Object.is(it[at], before[2 * at + 1])) return false;
      const state = before[before.length - 1];
      if (state === 2) return true;
      if (state === 0 && Object.isExtensible(it)) return Object.keys(it).length === length;
    }
  }
  return isSame(contents(it, sort), before);
};
const isSame = (a, b) => {
  if (b === undefined || a.length !== b.length) return false;
  for (let at = 0; at < a.length; at++) if (!Object.is(a[at], b[at])) return false;
  return true;
};

const POWERFUL = /^(Function|process|globalThis|Proxy|Reflect.*|%\w*Function%)$/;
const NOTHING = Object.freeze(() => {
  throw new TypeError('this cannot be had from the answer');
});

// A list that is made for a message, and given away.
class Inline {
  constructor(items) {
    this.items = items;
    INLINE.add(this);
  }
}
const INLINE = new WeakSet();

// Methods that work on what only the object itself has.
const ofSlots = (it) => /^(Map|Set|Weak\w+|Date|RegExp|Promise|\w+Array|ArrayBuffer|DataView|Buffer|URL\w*|Abort\w+|Event\w*)[.]prototype[.]|^%/.test(STANDARD_OF.get(it) ?? '');

class Link {
  constructor(descriptor, first) {
    Object.assign(this, {
      descriptor, first, gone: false, buffer: Buffer.alloc(0), own: new Map(), ids: new WeakMap(), sent: new Map(), next: 1,
      theirs: new Map(), theirIds: new WeakMap(), drops: [], kept: [], shared: new Map(), sharedOf: new WeakMap(),
      nextShared: first ? 2 : 1, active: new Set(), symbols: new Map(), symbolIds: new Map(), methods: new WeakMap(), methodsOf: new WeakMap(), grantsStandard: false, pending: new Map(), crossing: 0, open: 0,
      outgoing: () => undefined, incoming: () => {}, before: () => {}, wake: () => {}, after: () => {}, answered: () => {}, isQuiet: () => false, grants: () => true, settled: () => {},
    });
    this.registry = new FinalizationRegistry((oid) => {
      const entry = this.theirs.get(oid);
      if (entry !== undefined && entry.ref.deref() === undefined) {
        this.theirs.delete(oid);
        this.drops.push([oid, entry.count]);
      }
    });
    this.ops = {
      get: (it, key, receiver = it) => this.granted(it, key) ? reflect.get(it, key, receiver) : undefined,
      // By a receiver that derives from it, which is the other side's.
      set: (it, key, value, receiver) => this.granted(it, key, receiver === undefined)
        && (receiver === undefined ? reflect.set(it, key, value) : this.theirIds.has(receiver) === this.first && reflect.set(it, key, value, receiver)),
      has: (it, key) => this.granted(it, key) && reflect.has(it, key),
      del: (it, key) => this.granted(it, key, true) && reflect.deleteProperty(it, key),
      keys: (it) => new Inline(this.granted(it, 'length') ? reflect.ownKeys(it) : []),
      told: (it, key) => {
        const told = this.granted(it, key) ? reflect.getOwnPropertyDescriptor(it, key) : undefined;
        if (told === undefined) return undefined;
        // What a getter gives, where it is not the answer's own that is looked at.
        const value = 'value' in told ? told.value : this.first ? reflect.get(it, key) : undefined;
        const accessor = 'value' in told || this.first ? [] : [told.get, told.set];
        return new Inline([value, told.enumerable, told.writable !== false, told.configurable, ...accessor]);
      },
      access: (it, key, get, set, enumerable) => !this.first
        && reflect.defineProperty(it, key, { get, set, enumerable, configurable: true }),
      define: (it, key, value, enumerable) => this.granted(it, key, true)
        && reflect.defineProperty(it, key, { value, enumerable, writable: true, configurable: true }),
      proto: (it) => this.granted(it, 'prototype') ? reflect.getPrototypeOf(it) : null,
      setProto: (it, kind) => this.granted(it, 'prototype', true) && reflect.setPrototypeOf(it, kind),
      frozen: (it) => this.granted(it, 'length') && !reflect.isExtensible(it),
      isOf: (kind, it) => !this.first && it instanceof kind,
      freeze: (it) => this.granted(it, 'length', true) && reflect.preventExtensions(it),
      apply: (it, self, args) => {
        if (!this.granted(it, 'call') && !(this.ids.has(self) && ofSlots(it))) throw new TypeError('this cannot be called from here');
        return reflect.apply(it, self, args);
      },
      construct: (it, args, target) => {
        if (!this.granted(it, 'call')) throw new TypeError('this cannot be made from here');
        return reflect.construct(it, args, target === null ? it : target);
      },
      settle: (id, ok, value) => this.settle(id, ok, value),
    };
  }

  granted(it, key, change = false) {
    return (this.ids.has(it) || this.grantsStandard) && this.grants(it, key, change);
  }

  // What goes over the wire: four bytes of length, then JSON.

  send(message) {
    const text = stringify(message);
    const length = Buffer.byteLength(text);
    let data = Buffer.allocUnsafe(4 + length);
    data.writeUInt32BE(length);
    data.write(text, 4);
    try {
      while (data.length) data = data.subarray(writeSync(this.descriptor, data));
    } catch {
      this.gone = true;
      throw new Gone('the other process has ended');
    }
  }

  take(count) {
    while (this.buffer.length < count) {
      const part = Buffer.allocUnsafeSlow(Math.max(4096, count - this.buffer.length));
      let got = 0;
      try {
        got = readSync(this.descriptor, part, 0, part.length, null);
      } catch {}
      if (got === 0) {
        this.gone = true;
        throw new Gone('the other process has ended');
      }
      this.buffer = this.buffer.length ? Buffer.concat([this.buffer, part.subarray(0, got)]) : part.subarray(0, got);
    }
    const taken = this.buffer.subarray(0, count);
    this.buffer = this.buffer.subarray(count);
    return taken;
  }

  receive() {
    const size = this.take(4).readUInt32BE();
    if (size > MESSAGE_MAX) {
      this.gone = true;
      throw new Gone('a message of the other process is too long');
    }
    const text = this.take(size).toString();
    try {
      return this.unpack(parse(text));
    } catch (error) {
      if (error instanceof Gone) throw error;
      this.gone = true;
      throw new Gone(`what the other process sent is not understood: ${String(error).slice(0, 300)}`);
    }
  }

  pack(kind, value) {
    this.crossing++;
    const changes = [];
    const message = { k: kind, v: this.encode(value, 0) };
    const extra = this.outgoing();
    if (extra !== undefined) message.x = extra;
    this.findChanges(changes);
    if (changes.length) message.c = changes;
    if (this.drops.length) [message.d, this.drops] = [this.drops, []];
    return message;
  }

  unpack(message) {
    if (message.x !== undefined) this.incoming(message.x);
    const changes = message.c || [];
    for (const [number, sort] of changes) {
      if (this.shared.has(number)) continue;
      const made = { a: () => [], o: () => ({}), n: () => Object.create(null), m: () => new Map(), s: () => new Set() }[sort];
      this.share(number, made(), sort);
    }
    for (const [number, , content] of changes) this.takeChange(this.speak(number), content);
    message.v = this.decode(message.v, 0);
    for (const [oid, count] of message.d || []) {
      const left = (this.sent.get(oid) ?? 0) - count;
      this.sent.set(oid, left);
      if (left <= 0) {
        this.ids.delete(this.own.get(oid));
        this.own.delete(oid);
        this.sent.delete(oid);
      }
    }
    return message;
  }

  // Containers.

  share(number, it, sort) {
    this.shared.set(number, { it, sort, before: undefined, spoken: this.crossing });
    this.active.add(number);
    this.sharedOf.set(it, number);
  }

  takeChange(entry, content) {
    const { it, sort } = entry;
    const items = content.map((one) => this.decode(one, 0));
    const state = items.pop();
    if (sort === 'm') {
      it.clear();
      for (let at = 0; at < items.length; at += 2) it.set(items[at], items[at + 1]);
    } else if (sort === 's') {
      it.clear();
      for (const one of items) it.add(one);
    } else {
      for (const key of reflect.ownKeys(it)) if (!(sort === 'a' && key === 'length')) delete it[key];
      if (sort === 'a') it.length = 0;
      for (let at = 0; at < items.length; at += 2) {
        reflect.defineProperty(it, items[at], items[at] === 'length' && sort === 'a'
          ? { value: items[at + 1] } : { value: items[at + 1], enumerable: true, writable: true, configurable: true });
      }
    }
    if (state === 2) Object.freeze(it);
    else if (state === 1) Object.seal(it);
    entry.before = contents(it, sort);
  }

  // A container that a message speaks of.
  speak(number) {
    const entry = this.shared.get(number);
    entry.spoken = this.crossing;
    this.active.add(number);
    return entry;
  }

  findChanges(changes) {
    const seen = new Set();
    for (let again = true; again;) {
      again = false;
      for (const number of this.active) {
        if (seen.has(number)) continue;
        const entry = this.shared.get(number);
        const { it } = entry;
        if (isUnchanged(it, entry.sort, entry.before)) {
          if (this.crossing - entry.spoken > KEPT_FOR) this.active.delete(number);
          continue;
        }
        const now = contents(it, entry.sort);
        seen.add(number);
        again = true;
        entry.before = now;
        entry.spoken = this.crossing;
        changes.push([number, entry.sort, now.map((one) => this.encode(one, 0))]);
      }
    }
  }

  // Values.

  encode(it, depth) {
    switch (typeof it) {
      case 'string': case 'boolean': return it;
      case 'undefined': return ['u'];
      case 'number': return Number.isFinite(it) && !Object.is(it, -0) ? it : ['#', Object.is(it, -0) ? '-0' : String(it)];
      case 'bigint': return ['i', it.toString()];
      case 'symbol': return this.encodeSymbol(it);
    }
    if (it === null) return null;
    if (INLINE.has(it)) return ['t', ...it.items.map((one) => this.encode(one, depth))];
    if (depth > DEPTH_MAX) throw new RangeError('nested too deep');
    it = this.methodsOf.get(it) ?? it;
    const known = this.theirIds.get(it);
    if (known !== undefined) return types.isNativeError(it) ? ['y', known, ...this.ofError(it, depth)] : ['o', known];
    const number = this.sharedOf.get(it);
    if (number !== undefined) {
      this.speak(number);
      return ['l', number];
    }
    learnLoaded();
    const path = STANDARD_OF.get(it);
    if (path !== undefined && STANDARD.get(path) === it) return ['r', path];
    if (!types.isProxy(it)) {
      const data = this.encodeData(it, depth);
      if (data !== undefined) return data;
      if (typeof it === 'object') {
        const sort = sortOf(it);
        if (sort !== undefined) {
          const made = this.nextShared;
          this.nextShared += 2;
          this.share(made, it, sort);
          return ['l', made];
        }
      }
    }
    const oid = this.export(it);
    if (types.isPromise(it) && !types.isProxy(it)) return ['P', oid];
    const kind = typeof it === 'function' ? (isClass(it) ? 'k' : 'f') : Array.isArray(it) ? 'a' : types.isNativeError(it) ? 'e' : 'h';
    return ['h', oid, kind, kind === 'f' || kind === 'k' ? [String(name(it)), length(it), asksItself(it)] : null];
  }

  encodeData(it, depth) {
    const kind = reflect.getPrototypeOf(it);
    if (types.isDate(it) && kind === Date.prototype) return ['D', this.encode(it.getTime(), 0)];
    if (types.isRegExp(it) && kind === RegExp.prototype) return ['R', it.source, it.flags, it.lastIndex];
    if (Buffer.isBuffer(it)) return ['B', 'Buffer', Buffer.from(it).toString('base64')];
    for (const named of ARRAYS) {
      if (kind === globalThis[named].prototype) {
        return ['B', named, Buffer.from(it.buffer, it.byteOffset, it.byteLength).toString('base64')];
      }
    }
    if (types.isArrayBuffer(it) && kind === ArrayBuffer.prototype) return ['B', 'ArrayBuffer', Buffer.from(it).toString('base64')];
    if (types.isBoxedPrimitive(it)) return ['b', this.encode(it.valueOf(), 0)];
    if (kind === URL.prototype) return ['U', it.href];
    if (types.isNativeError(it)) {
      const path = STANDARD_OF.get(kind);
      const named = path && path.endsWith('.prototype') && path.slice(0, -10);
      if (!ERRORS.has(named)) return undefined;
      return ['E', named, this.export(it), ...this.ofError(it, depth)];
    }
    return undefined;
  }

  ofError(it, depth) {
    const more = Object.keys(it).filter((key) => key !== 'stack').map((key) => [key, this.encode(it[key], depth + 1)]);
    for (const key of ['cause', 'errors', 'name']) {
      if (Object.hasOwn(it, key) && !more.some(([known]) => known === key)) more.push([key, this.encode(it[key], depth + 1)]);
    }
    return [String(it.message), String(it.stack ?? ''), more];
  }

  encodeSymbol(it) {
    if (SYMBOLS.has(it)) return ['S', 'w', SYMBOLS.get(it)];
    const key = Symbol.keyFor(it);
    if (key !== undefined) return ['S', 'f', key];
    if (!this.symbolIds.has(it)) {
      const id = `${this.first ? 't' : 'a'}${this.symbolIds.size}`;
      this.symbolIds.set(it, id);
      this.symbols.set(id, it);
    }
    return ['S', 'o', this.symbolIds.get(it), it.description ?? null];
  }

  decodeSymbol([, sort, id, description]) {
    if (sort === 'w') return Symbol[id];
    if (sort === 'f') return Symbol.for(id);
    if (!this.symbols.has(id)) {
      const made = Symbol(description ?? undefined);
      this.symbols.set(id, made);
      this.symbolIds.set(made, id);
    }
    return this.symbols.get(id);
  }

  export(it) {
    let oid = this.ids.get(it);
    if (oid === undefined) {
      oid = this.next++;
      this.own.set(oid, it);
      this.ids.set(it, oid);
      this.sent.set(oid, 0);
      if (types.isPromise(it) && !types.isProxy(it)) this.watch(oid, it);
    }
    this.sent.set(oid, this.sent.get(oid) + 1);
    return oid;
  }

  watch(oid, promise) {
    this.open++;
    Promise.prototype.then.call(promise, (value) => this.settled(oid, true, value), (error) => this.settled(oid, false, error));
  }

  settle(id, ok, value) {
    const waiting = this.pending.get(id);
    if (waiting === undefined) return;
    this.pending.delete(id);
    if (ok) waiting.resolve(value);
    else waiting.reject(value);
    this.after();
  }

  decode(it, depth) {
    if (it === null || typeof it !== 'object') return it;
    if (!Array.isArray(it) || depth > 2 * DEPTH_MAX) throw new TypeError('no value');
    switch (it[0]) {
      case 'u': return undefined;
      case 't': return it.slice(1).map((one) => this.decode(one, depth));
      case '#': return it[1] === '-0' ? -0 : Number(it[1]);
      case 'i': return BigInt(it[1]);
      case 'S': return this.decodeSymbol(it);
      case 'l': return this.speak(it[1]).it;
      case 'o': {
        if (!this.own.has(it[1])) throw new TypeError('no such object');
        return this.own.get(it[1]);
      }
      case 'r': {
        const module = /^node:(\w+)\./.exec(it[1])?.[1];
        if (LATER.has(module)) learn(module);
        if (!STANDARD.has(it[1])) throw new TypeError(`there is no ${it[1]}`);
        // What makes functions out of text, or is the process itself, is not had from the answer.
        if (this.first && POWERFUL.test(it[1])) return NOTHING;
        return STANDARD.get(it[1]);
      }
      case 'D': return new Date(this.decode(it[1], 0));
      case 'R': {
        const made = new RegExp(it[1], it[2]);
        made.lastIndex = it[3];
        return made;
      }
      case 'B': {
        const bytes = Buffer.from(it[2], 'base64');
        if (it[1] === 'Buffer') return bytes;
        const copy = new Uint8Array(bytes).buffer;
        if (it[1] === 'ArrayBuffer') return copy;
        if (!ARRAYS.includes(it[1])) throw new TypeError('no such array');
        return new globalThis[it[1]](copy);
      }
      case 'b': return Object(this.decode(it[1], 0));
      case 'U': return new URL(it[1]);
      case 'E': return this.decodeError(it, depth);
      case 'y': {
        const error = this.own.get(it[1]);
        if (!types.isNativeError(error)) throw new TypeError('no such error');
        return this.renew(error, it.slice(2), depth);
      }
      case 'P': return this.known(it[1]) ?? this.remember(it[1], new Promise((resolve, reject) => {
        this.pending.set(it[1], { resolve, reject });
        this.after();
      }));
      case 'h': return this.known(it[1]) ?? this.remember(it[1], this.standIn(it[1], it[2], it[3]));
    }
    throw new TypeError('unknown mark');
  }

  // The language's own errors cross by value, and are still the same ones when they come back.
  decodeError([, kind, oid, message, stack, more], depth) {
    if (!ERRORS.has(kind)) throw new TypeError('no such error');
    let made = this.known(oid);
    if (!types.isNativeError(made)) {
      made = kind === 'AggregateError' ? new AggregateError([], message) : new globalThis[kind](message);
      this.remember(oid, made);
    }
    return this.renew(made, [message, stack, more], depth);
  }

  renew(made, [message, stack, more], depth) {
    if (made.message !== message) reflect.defineProperty(made, 'message', { value: message, writable: true, configurable: true });
    reflect.defineProperty(made, 'stack', { value: String(stack), enumerable: false, writable: true, configurable: true });
    for (const [key, value] of more) {
      const enumerable = !['cause', 'errors', 'name'].includes(key);
      reflect.defineProperty(made, String(key), { value: this.decode(value, depth + 1), enumerable, writable: true, configurable: true });
    }
    return made;
  }

  known(oid) {
    const entry = this.theirs.get(oid);
    const it = entry?.ref.deref();
    if (it !== undefined) entry.count++;
    return it;
  }

  remember(oid, it) {
    const before = this.theirs.get(oid)?.count ?? 0;
    this.theirs.set(oid, { ref: new WeakRef(it), count: before + 1 });
    this.theirIds.set(it, oid);
    // What the answer refers to weakly is alive as long as the tests' object is.
    if (!this.first) this.kept.push(it);
    this.registry.register(it, oid);
    return it;
  }

  // Stand-ins.

  // A method of the language's own kinds works on the object itself, which is on the other side.
  ofPrototype(it) {
    if (typeof it !== 'function' || !ofSlots(it)) return it;
    const link = this;
    let made = this.methods.get(it);
    if (made === undefined) {
      made = { [it.name](...args) {
        return link.theirIds.has(this) ? link.request('apply', it, this, new Inline(args)) : reflect.apply(it, this, args);
      } }[it.name];
      this.methods.set(it, made);
      this.methodsOf.set(made, it);
    }
    return made;
  }

  standIn(oid, kind, named) {
    const link = this;
    let target;
    if (kind === 'f' || kind === 'k') target = function () {};
    else if (kind === 'a') target = [];
    else if (kind === 'e') target = new Error('');
    else target = {};
    if (kind === 'e') for (const key of Reflect.ownKeys(target)) delete target[key];
    const asks = named !== null && named[2] === true && link.first;
    if (named !== null) {
      Object.defineProperty(target, 'name', { value: String(named[0]), configurable: true });
      Object.defineProperty(target, 'length', { value: Number(named[1]), configurable: true });
    }
    let parent;
    // As it is told of: a value, or what gets and sets one.
    const descriptor = (key, configurable) => {
      const got = link.request('told', it, key);
      if (!got) return undefined;
      const enumerable = got[1] === true;
      const isFixed = configurable === undefined ? got[3] === false : !configurable;
      if (got.length > 4) {
        const [get, set] = got.slice(4).map((one) => (typeof one === 'function' ? one : undefined));
        return { get, set, enumerable, configurable: !isFixed };
      }
      return { value: got[0], enumerable, writable: got[2] === true, configurable: !isFixed };
    };
    // What is fixed there is fixed here, too, or it could not be said.
    const fix = () => {
      const keys = link.request('keys', it).filter((key) => typeof key === 'string' || typeof key === 'symbol');
      for (const key of reflect.ownKeys(target)) if (!keys.includes(key)) reflect.deleteProperty(target, key);
      for (const key of keys) reflect.defineProperty(target, key, descriptor(key) ?? {});
      reflect.preventExtensions(target);
    };
    const it = new Proxy(target, {
      get: (_, key, receiver) => {
        if (key === Symbol.hasInstance) return asks ? (one) => link.request('isOf', it, one) === true : Function.prototype[Symbol.hasInstance];
        if (key === util.inspect.custom) return undefined;
        if (key === 'length' && kind === 'a') target.length = link.request('get', it, key);
        return link.ofPrototype(receiver === it ? link.request('get', it, key) : link.request('get', it, key, receiver));
      },
      set: (_, key, value, receiver) => {
        if (receiver !== it && receiver !== undefined && typeof receiver === 'object') {
          const isShared = link.first ? link.theirIds.has(receiver) : link.ids.has(receiver);
          if (isShared) return link.request('set', it, key, value, receiver) === true;
          return reflect.defineProperty(receiver, key, { value, enumerable: true, writable: true, configurable: true });
        }
        return link.request('set', it, key, value);
      },
      has: (_, key) => reflect.getOwnPropertyDescriptor(target, key)?.configurable === false || link.request('has', it, key),
      deleteProperty: (_, key) => link.request('del', it, key),
      ownKeys: () => {
        const keys = link.request('keys', it);
        for (const fixed of reflect.ownKeys(target)) {
          if (!reflect.getOwnPropertyDescriptor(target, fixed).configurable && !keys.includes(fixed)) keys.push(fixed);
        }
        return [...new Set(keys)].filter((key) => typeof key === 'string' || typeof key === 'symbol');
      },
      getOwnPropertyDescriptor: (_, key) => {
        const fixed = reflect.getOwnPropertyDescriptor(target, key);
        if (fixed !== undefined && !fixed.configurable) {
          const told = fixed.writable ? descriptor(key, true) : undefined;
          return told && 'value' in told ? { ...fixed, value: told.value } : fixed;
        }
        return descriptor(key, true);
      },
      defineProperty: (_, key, told) => ('value' in told || link.first === false
        ? link.request('define', it, key, 'value' in told ? told.value : told.get, told.enumerable === true)
        : link.request('access', it, key, told.get, told.set, told.enumerable === true)),
      getPrototypeOf: () => {
        if (parent === undefined) {
          const asked = link.request('proto', it);
          parent = typeof asked === 'object' || typeof asked === 'function' ? asked : null;
        }
        return parent;
      },
      setPrototypeOf: (_, kind) => {
        parent = kind;
        return link.request('setProto', it, kind);
      },
      isExtensible: () => {
        if (reflect.isExtensible(target) && link.first && link.request('frozen', it) === true) fix();
        return reflect.isExtensible(target);
      },
      preventExtensions: () => false,
      apply: (_, self, args) => link.request('apply', it, self, new Inline(args)),
      construct: (_, args, made) => {
        const got = link.request('construct', it, new Inline(args), made === it ? null : made);
        if (got === null || (typeof got !== 'object' && typeof got !== 'function')) throw new TypeError('no object was made');
        return got;
      },
    });
    return it;
  }

  // Requests.

  request(op, ...args) {
    if (this.gone) throw new Gone('the other process has ended');
    this.before();
    // What is asked for to make it is asked for before.
    const message = this.pack(op, new Inline(args));
    this.wake();
    this.depth = (this.depth ?? 0) + 1;
    try {
      this.send(message);
      for (;;) {
        const message = this.receive();
        if (message.k === 'go') continue;
        if (message.k === '=' || message.k === '!') {
          if (this.depth === 1) this.answered(message.q === 1);
          if (message.k === '=') return message.v;
          throw message.v;
        }
        this.serve(message);
      }
    } finally {
      this.depth--;
    }
  }

  serve(message) {
    let reply;
    this.depth = (this.depth ?? 0) + 1;
    try {
      try {
        reply = this.pack('=', this.ops[message.k](...message.v));
      } catch (error) {
        if (error instanceof Gone) throw error;
        reply = this.packError(error);
      }
      if (this.depth === 1 && this.isQuiet()) reply.q = 1;
    } finally {
      this.depth--;
    }
    this.send(reply);
  }

  packError(error) {
    try {
      return this.pack('!', error);
    } catch (inner) {
      if (inner instanceof Gone) throw inner;
      return this.pack('!', new TypeError(`cannot cross: ${inner.message}`));
    }
  }
}

const isClass = (it) => {
  try {
    return Function.prototype.toString.call(it).startsWith('class');
  } catch {
    return false;
  }
};
// Whether a class says itself what is one of its objects.
const asksItself = (it) => {
  for (let at = it; at !== null && at !== Function.prototype; at = reflect.getPrototypeOf(at)) {
    if (types.isProxy(at)) return false;
    if (reflect.getOwnPropertyDescriptor(at, Symbol.hasInstance) !== undefined) return true;
  }
  return false;
};
const name = (it) => {
  const told = reflect.getOwnPropertyDescriptor(it, 'name');
  return told && typeof told.value === 'string' ? told.value : '';
};
const length = (it) => {
  const told = reflect.getOwnPropertyDescriptor(it, 'length');
  return told && typeof told.value === 'number' ? told.value : 0;
};

// What tests replace for a while, by module and name; the first of each is known to both sides.
const PATCHABLE = [
  ['globalThis', ['setTimeout', 'setInterval', 'setImmediate', 'clearTimeout', 'clearInterval', 'clearImmediate', 'Date', 'fetch', 'queueMicrotask', 'structuredClone']],
  ['Date', ['now']], ['Math', ['random', 'floor']], ['JSON', ['parse', 'stringify']],
  ['process', ['hrtime', 'exit', 'uptime', 'nextTick']],
];
// Modules of which parts are replaced, once they are loaded: starting without them is faster.
const PATCHABLE_MODULES = ['fs', 'fs/promises', 'child_process', 'os', 'crypto', 'http', 'https', 'timers', 'timers/promises', 'readline', 'path'];
const holderOf = (name) => (name.startsWith('node:') ? require(name) : name === 'globalThis' ? globalThis : globalThis[name]);
const partsOf = (name, keys) => {
  const holder = holderOf(name);
  return [name, holder, keys.filter((key) => typeof holder[key] === 'function').map((key) => [key, holder[key]])];
};
const firsts = (looked) => {
  // Node loads it when it is first looked at, which takes a while.
  const { get, ...told } = Object.getOwnPropertyDescriptor(globalThis, 'performance');
  let parts;
  reflect.defineProperty(globalThis, 'performance', { ...told, get() {
    const it = reflect.apply(get, globalThis, []);
    if (parts === undefined) {
      parts = ['performance', it, [['now', it.now]]];
      looked(parts);
    }
    return it;
  } });
  return PATCHABLE.map(([name, keys]) => partsOf(name, keys));
};
const firstsOfModule = (name) => {
  const plain = name.replace(/^node:/, '');
  if (!PATCHABLE_MODULES.includes(plain)) return undefined;
  return partsOf(`node:${plain}`, Object.keys(require(plain)).filter((key) => !/^[A-Z]/.test(key)));
};

module.exports = { Link, Gone, Inline, firsts, firstsOfModule, holderOf, STANDARD_OF };
