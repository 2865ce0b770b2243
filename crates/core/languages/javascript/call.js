// Serves single calls: loads the candidate's file, then answers one line of JSON with another.
//
// This runs in the candidate's own process. It is given arguments and hands back values; it knows
// no expectation, so nothing that the candidate does to it can make a verdict.
'use strict';
const fs = require('fs');
const path = require('path');
const url = require('url');
const Module = require('module');
const { stringify, parse } = JSON;

const decode = (it) => {
  if (Array.isArray(it)) return it.map(decode);
  if (it === null || typeof it !== 'object') return it;
  const keys = Object.keys(it);
  if (keys.length === 1) {
    const inner = it[keys[0]];
    switch (keys[0]) {
      case '$tuple': return inner.map(decode);
      case '$set': return new Set(inner.map(decode));
      case '$map': return new Map(inner.map(([k, v]) => [decode(k), decode(v)]));
      case '$bytes': return new Uint8Array(Buffer.from(inner, 'base64'));
      case '$int': return BigInt(inner);
      case '$float': return inner === 'nan' ? NaN : inner === 'inf' ? Infinity : -Infinity;
      case '$undefined': return undefined;
    }
  }
  return Object.fromEntries(keys.map((k) => [k, decode(it[k])]));
};

const encode = (it, depth = 0) => {
  if (depth > 100) return { $opaque: 'nested more than 100 deep' };
  switch (typeof it) {
    case 'undefined': return { $undefined: true };
    case 'boolean': case 'string': return it;
    case 'bigint': return { $int: it.toString() };
    case 'number':
      if (Number.isNaN(it)) return { $float: 'nan' };
      if (!Number.isFinite(it)) return { $float: it > 0 ? 'inf' : '-inf' };
      return it;
    case 'object': break;
    default: return { $opaque: typeof it };
  }
  if (it === null) return null;
  const inner = (x) => encode(x, depth + 1);
  if (Array.isArray(it)) return Array.from(it, inner);
  if (it instanceof Map) return { $map: [...it].map(([k, v]) => [inner(k), inner(v)]) };
  if (it instanceof Set) return { $set: [...it].map(inner) };
  if (it instanceof Uint8Array) return { $bytes: Buffer.from(it).toString('base64') };
  if (ArrayBuffer.isView(it)) return Array.from(it, inner);
  if (it instanceof Error || it instanceof Date || it instanceof RegExp || it instanceof Promise) {
    return { $opaque: it.constructor.name };
  }
  const keys = Object.keys(it);
  if (keys.some((k) => k.startsWith('$'))) return { $map: keys.map((k) => [k, inner(it[k])]) };
  return Object.fromEntries(keys.map((k) => [k, inner(it[k])]));
};

const BUILT_IN = { Error, TypeError, RangeError, SyntaxError, ReferenceError, EvalError, URIError, AggregateError };

const told = (error) => {
  if (!(error instanceof Error)) return { kinds: ['thrown value'], message: String(error).slice(0, 2000), place: '' };
  // One of the answer's own that is called as one of the language's is another.
  const isOwn = (name) => Object.hasOwn(BUILT_IN, name) && !(error instanceof BUILT_IN[name]);
  const named = (kind) => (Object.hasOwn(BUILT_IN, kind.name) && BUILT_IN[kind.name] !== kind ? `own ${kind.name}` : kind.name);
  const kinds = [isOwn(error.name) ? `own ${error.name}` : error.name];
  for (let p = Object.getPrototypeOf(error); p && p !== Object.prototype; p = Object.getPrototypeOf(p)) {
    if (p.constructor && !kinds.includes(named(p.constructor))) kinds.push(named(p.constructor));
  }
  const line = /(?:\/work\/|evalmachine)[^\s():]*:(\d+)/.exec(String(error.stack));
  return { kinds, message: String(error.message).slice(0, 2000), place: line ? `line ${line[1]}` : '' };
};

let rest = Buffer.alloc(0);
const readLine = () => {
  for (;;) {
    const end = rest.indexOf(10);
    if (end >= 0) {
      const line = rest.subarray(0, end).toString();
      rest = rest.subarray(end + 1);
      return line;
    }
    const chunk = Buffer.alloc(65536);
    const count = fs.readSync(3, chunk, 0, chunk.length, null);
    if (count === 0) return null;
    rest = Buffer.concat([rest, chunk.subarray(0, count)]);
  }
};
const answer = (reply) => {
  let line = Buffer.from(stringify(reply) + '\n');
  while (line.length) line = line.subarray(fs.writeSync(3, line));
};

const load = async (order) => {
  const file = path.join(process.cwd(), order.file);
  const source = fs.readFileSync(file, 'utf8');
  const root = order.name.split('.')[0];
  const mark = Symbol.for('wanted');
  const note = `\n;try { globalThis[Symbol.for('wanted')] = ${root}; } catch {}\n`;
  let exported;
  if (/^\s*(?:export\s|import\s+[^(])/m.test(source) || file.endsWith('.mjs')) {
    const copy = path.join(process.cwd(), '.' + path.basename(file) + '.mjs');
    fs.writeFileSync(copy, source + note);
    exported = await import(url.pathToFileURL(copy));
  } else {
    const module = new Module(file);
    module.filename = file;
    module.paths = Module._nodeModulePaths(process.cwd());
    module._compile(source + note, file);
    exported = module.exports;
  }
  let wanted = exported && exported[root] !== undefined ? exported[root] : globalThis[mark];
  if (wanted === undefined && exported && typeof exported.default === 'function') wanted = exported.default;
  if (wanted === undefined && typeof exported === 'function') wanted = exported;
  let owner;
  for (const part of order.name.split('.').slice(1)) {
    owner = wanted;
    wanted = wanted === undefined || wanted === null ? undefined : wanted[part];
  }
  if (typeof wanted !== 'function') throw new ReferenceError(`the file does not define ${order.name}`);
  return { wanted, owner, awaits: order.awaits };
};

const isClass = (it) => /^class\b/.test(Function.prototype.toString.call(it));

const takeSteps = async ({ wanted, owner, awaits }, steps) => {
  let it;
  const replies = [];
  for (const step of steps) {
    const args = step.args.map(decode);
    const named = Object.keys(step.kwargs).length ? [decode(step.kwargs)] : [];
    let reply;
    try {
      let value;
      if (step.act === 'get') value = it[step.name];
      else if (step.act === 'method') value = it[step.name](...args, ...named);
      else if (step.act === 'new' && isClass(wanted)) value = new wanted(...args, ...named);
      else if (step.act === 'new' && wanted.prototype && Object.keys(wanted.prototype).length) {
        value = new wanted(...args, ...named);
      } else value = wanted.call(owner, ...args, ...named);
      if (value && typeof value.then === 'function') {
        if (awaits) value = await value;
        else if (value instanceof Promise) value.catch(() => {});
      }
      if (step.act === 'new') {
        it = value;
        value = null;
      }
      reply = { value: encode(value) };
    } catch (error) {
      reply = { raised: told(error) };
    }
    try {
      reply.args = args.map((x) => encode(x));
    } catch (error) {
      reply = { raised: told(error), args: [] };
    }
    replies.push(reply);
  }
  return replies;
};

const main = async () => {
  let loaded;
  try {
    loaded = await load(parse(readLine()));
    answer({ loaded: true });
  } catch (error) {
    answer({ failed: told(error) });
    process.exit(0);
  }
  for (let line = readLine(); line !== null; line = readLine()) {
    answer({ steps: await takeSteps(loaded, parse(line).steps) });
  }
  process.exit(0);
};

main();
