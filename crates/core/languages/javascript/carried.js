// Files that both processes use: what one has written is there for the other when it comes to run.
'use strict';
const fs = require('fs');
const Module = require('module');
const path = require('path');

// Not all of them: some are loaded when they are looked at.
const {
  chmodSync, closeSync, constants, fchmodSync, lstatSync, mkdirSync, openSync, readFileSync, readdirSync, readlinkSync, realpathSync,
  rmSync, symlinkSync, unlinkSync, writeSync,
} = fs;
const SIZE_MAX = 32 << 20;
const COUNT_MAX = 5000;
const WRITES = [
  'writeFile', 'appendFile', 'mkdir', 'mkdtemp', 'rm', 'rmdir', 'unlink', 'rename', 'copyFile', 'cp', 'symlink', 'link',
  'chmod', 'truncate', 'utimes', 'open', 'createWriteStream', 'writev', 'write', 'ftruncate',
];

// Whether a file is opened to be written.
const isWriting = (flags) => (typeof flags === 'number' ? (flags & 3) !== 0 : /[wa+]/.test(String(flags ?? 'r')));

class Files {
  constructor(work, mayWrite) {
    this.roots = [...new Set([work, '/tmp'].map((it) => realpathSync(it)))];
    Object.assign(this, { mayWrite, seen: new Map(), dirty: 0 });
    const mark = (crossings) => { this.dirty = Math.max(this.dirty, crossings); };
    const around = (holder, name, crossings) => {
      const first = holder[name];
      if (typeof first !== 'function') return;
      const made = { [name](...args) {
        if (!name.startsWith('open') || isWriting(args[1])) mark(crossings);
        return Reflect.apply(first, this, args);
      } }[name];
      Object.defineProperties(made, Object.getOwnPropertyDescriptors(first));
      holder[name] = made;
    };
    for (const name of WRITES) {
      if (name !== 'write') around(fs, name, 20);
      around(fs, `${name}Sync`, 1);
    }
    // Node loads it when it is first asked for, which takes a while.
    const { get } = Object.getOwnPropertyDescriptor(fs, 'promises');
    let promises;
    this.watchPromises = () => {
      if (promises !== undefined) return promises;
      promises = Reflect.apply(get, fs, []);
      for (const name of WRITES) if (promises[name]) around(promises, name, 20);
      return promises;
    };
    Object.defineProperty(fs, 'promises', { get: this.watchPromises, configurable: true, enumerable: true });
    // Other programs may write anything; a module is loaded only by who starts some.
    const load = Module._load;
    const { watchPromises } = this;
    let isWrapped = false;
    Module._load = function (name, ...rest) {
      const got = Reflect.apply(load, this, [name, ...rest]);
      if (/^(node:)?fs\/promises$/.test(name)) watchPromises();
      if (!isWrapped && /^(node:)?child_process$/.test(name)) {
        isWrapped = true;
        for (const it of ['exec', 'execFile', 'spawn', 'fork']) around(got, it, 50);
        for (const it of ['execSync', 'execFileSync', 'spawnSync']) around(got, it, 1);
      }
      return got;
    };
  }

  walk(folder, found) {
    let names = [];
    try {
      names = readdirSync(folder);
    } catch {}
    for (const name of names) {
      const at = path.join(folder, name);
      if (found.size >= COUNT_MAX || at === '/tmp/home') return;
      const state = this.state(at);
      if (state === undefined) continue;
      found.set(at, state);
      if (state[0] === 'd') this.walk(at, found);
    }
  }

  state(at) {
    try {
      const it = lstatSync(at);
      if (it.isDirectory()) return ['d', it.mode & 0o777];
      if (it.isSymbolicLink()) return ['l', readlinkSync(at)];
      if (it.isFile()) return ['f', it.mode & 0o777, it.size, it.mtimeMs, it.ino];
    } catch {}
    return undefined;
  }

  // What is here from the start, which the other side does not get.
  begin() {
    for (const root of this.roots) this.walk(root, this.seen);
    // What is imported is not loaded by way of this module.
    const isCode = (at) => /[.][cm]?js$/.test(at) && this.seen.get(at)[0] === 'f';
    if ([...this.seen.keys()].some((at) => isCode(at) && readFileSync(at).includes('promises'))) this.watchPromises();
  }

  // What changed here since the last time, for the other side.
  changed() {
    if (this.dirty === 0) return undefined;
    this.dirty--;
    const [now, out] = [new Map(), []];
    for (const root of this.roots) this.walk(root, now);
    for (const at of this.seen.keys()) {
      if (now.has(at)) continue;
      this.seen.delete(at);
      out.push([at, '-']);
    }
    for (const [at, state] of now) {
      if (String(state) === String(this.seen.get(at))) continue;
      this.give(at, state, out);
    }
    return out.length ? out : undefined;
  }

  give(at, state, out) {
    if (state[0] !== 'f') out.push([at, ...state]);
    else if (state[2] <= SIZE_MAX) {
      try {
        out.push([at, 'f', state[1], readFileSync(at).toString('base64')]);
      } catch {}
    }
    this.seen.set(at, state);
  }

  // Lets the other side have one that was here from the start.
  tell(at, out) {
    const state = this.state(at);
    if (state !== undefined && state[0] === 'f') this.give(at, state, out);
  }

  // Writes what changed on the other side. No link is followed, and nothing outside is written.
  apply(changes) {
    for (const [at, sort, ...more] of changes) {
      if (!this.isAllowed(at)) continue;
      try {
        this.applyOne(at, sort, more);
      } catch {}
      const state = this.state(at);
      if (state === undefined) this.seen.delete(at);
      else this.seen.set(at, state);
    }
  }

  isAllowed(at) {
    if (typeof at !== 'string' || path.normalize(at) !== at || at.includes('\0')) return false;
    if (!this.roots.some((root) => at.startsWith(`${root}/`))) return false;
    try {
      const folder = path.dirname(at);
      return realpathSync(folder) === folder && this.mayWrite(at);
    } catch {
      return false;
    }
  }

  applyOne(at, sort, more) {
    const now = this.state(at);
    if (sort === '-') rmSync(at, { recursive: true, force: true });
    else if (sort === 'd') {
      if (now === undefined) mkdirSync(at);
      if (now === undefined || now[0] === 'd') chmodSync(at, more[0] & 0o777);
    } else if (sort === 'l') {
      if (now !== undefined && now[0] !== 'd') unlinkSync(at);
      symlinkSync(String(more[0]), at);
    } else if (sort === 'f') {
      if (now !== undefined && now[0] === 'l') unlinkSync(at);
      const { O_WRONLY, O_CREAT, O_TRUNC, O_NOFOLLOW } = constants;
      const file = openSync(at, O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW, 0o600);
      try {
        let data = Buffer.from(more[1], 'base64');
        while (data.length) data = data.subarray(writeSync(file, data));
        fchmodSync(file, more[0] & 0o777);
      } finally {
        closeSync(file);
      }
    }
  }
}

module.exports = { Files };
