//! Sealed tests that share a process with the answer: what would look into that process is closed.

use fairtrial_core::judgement::Judgement;

use crate::env::{PASS, TestTask};
use crate::needs;

/// Names what it can still do, in this thread and in workers that are started in other ways.
const DOORS: &str = r"
const { Worker, isMainThread, parentPort, SHARE_ENV } = require('node:worker_threads');
const fs = require('node:fs');
const doors = {
  session: () => new (require('inspector').Session)().connect(),
  main: () => { if (isMainThread) throw closed; new (require('inspector').Session)().connectToMainThread(); },
  promises: () => new (require('node:inspector/promises').Session)().connect(),
  console: () => require('inspector').open(0),
  builtin: () => new (process.getBuiltinModule('inspector').Session)(),
  load: () => new (require('module')._load('inspector').Session)(),
  binding: () => process.binding('contextify'),
  linked: () => process._linkedBinding('fs'),
  snapshot: () => require('v8').getHeapSnapshot(),
  written: () => require('v8').writeHeapSnapshot('/tmp/heap'),
  limit: () => require('v8').setHeapSnapshotNearHeapLimit(1),
  natives: () => require('v8').setFlagsFromString('--allow-natives-syntax'),
  patched: () => {
    const { test } = RegExp.prototype;
    RegExp.prototype.test = () => true;
    try { require('v8').setFlagsFromString('--allow_natives_syntax'); } finally { RegExp.prototype.test = test; }
  },
  loader: () => require('module').register('data:text/javascript,'),
  machine: () => {
    fs.writeFileSync('/tmp/it.node', 'no code');
    fs.rmSync('link', { force: true });
    fs.symlinkSync('/tmp/it.node', 'link');
    process.dlopen({ exports: {} }, 'link');
  },
};
const closed = Object.assign(new Error('closed'), { code: 'ERR_ACCESS_DENIED' });
const tried = (all) => Object.keys(all).filter((name) => {
  try { all[name](); return true; } catch (error) { return error.code !== 'ERR_ACCESS_DENIED'; }
});
const inWorker = (options) => new Promise((done, failed) => {
  const worker = new Worker(__filename, options);
  worker.on('message', done).on('error', failed);
});
if (!isMainThread) parentPort.postMessage(tried(doors));
exports.open = async () => {
  const modules = [await import('inspector'), await import('node:module'), await import('node:v8')];
  const imported = { session: () => new modules[0].Session(), loader: () => modules[1].register('data:text/javascript,'), snapshot: () => modules[2].getHeapSnapshot() };
  const found = [...tried(doors), ...tried(imported)];
  const ways = [{}, { execArgv: [] }, { env: {} }, { env: SHARE_ENV }, { execArgv: ['--'], env: {} }, { execArgv: ['--no-warnings'] }];
  for (const options of ways) found.push(...(await inWorker(options)));
  return found;
};
exports.works = () => {
  require('v8').setFlagsFromString('--expose-gc');
  class Own extends Worker {}
  const own = new Own('', { eval: true });
  return [typeof require('vm').runInNewContext('gc'), own instanceof Worker, own.constructor === Own];
};
";

const NODE_SUITE: &str = "const { test } = require('node:test');\nconst assert = require('node:assert');\nconst doors = require('./doors.js');\n\n\
    test('closed', async () => { assert.deepStrictEqual(await doors.open(), []); });\n\
    test('works', () => { assert.deepStrictEqual(doors.works(), ['function', true, true]); });\n";

/// Names what it can still do with the interpreter.
const HATCHES: &str = r#"
import gc
import importlib.machinery
import os
import shutil
import sys

FOLDER = next(it for it in sys.path if it.endswith("lib-dynload"))


def machine(name, path):
    spec = importlib.machinery.ModuleSpec(name, importlib.machinery.ExtensionFileLoader(name, path), origin=path)
    return spec.loader.create_module(spec)


def of(name):
    return next(os.path.join(FOLDER, it) for it in os.listdir(FOLDER) if it.startswith(name + "."))


class Odd(str):
    def startswith(self, *more): return True
    def rpartition(self, *more): return ("", "", "math")
    __eq__ = lambda self, other: False
    __hash__ = str.__hash__


def copied():
    return machine("_ctypes", shutil.copy(of("_ctypes"), "/tmp/_ctypes.so"))


def unhooked():
    for it in gc.get_objects():
        if type(it).__name__ == "function" and it.__code__.co_name == "refuses":
            it.__code__ = (lambda event, args, machine=(): None).__code__
    import ctypes


def another():
    import _xxsubinterpreters as others
    others.run_string(others.create(), "import ctypes")


HATCHES = {
    "ctypes": lambda: __import__("ctypes"),
    "part": lambda: __import__("_ctypes"),
    "file": lambda: machine("_ctypes", of("_ctypes")),
    "below": lambda: machine("harbour._ctypes", of("_ctypes")),
    "odd": lambda: machine(Odd("_ctypes"), of("_ctypes")),
    "copied": copied,
    "around": lambda: machine("_ctypes", FOLDER + "/../../../../../../../../../tmp/_ctypes.so"),
    "capi": lambda: __import__("_testcapi"),
    "unhooked": unhooked,
    "another": another,
}


def opened():
    found = []
    for name, run in HATCHES.items():
        try:
            run()
            found.append(name)
        except (ImportError, PermissionError) as error:
            if "closed" not in str(error):
                found.append(f"{name}: {error!r}")
    return found


def works():
    import array, collections, mmap, sqlite3, uuid
    pair = collections.namedtuple("Pair", "a b", defaults=(2,))
    return pair(1).b, len(uuid.uuid4().hex), sqlite3.connect(":memory:").execute("select 7").fetchone()[0]
"#;

fn python(runner: &str, head: &str, answer: &str) -> Judgement {
    let suite = "import unittest\nimport doors\n\n\nclass Doors(unittest.TestCase):\n    def test_closed(self):\n        \
                 self.assertEqual(doors.opened(), [])\n\n    def test_works(self):\n        self.assertEqual(doors.works(), (2, 32, 7))\n";
    let list = match runner {
        "pytest" => "test_doors.py::Doors::test_closed\ntest_doors.py::Doors::test_works\n",
        _ => "test_doors.Doors.test_closed\ntest_doors.Doors.test_works\n",
    };
    let table = format!("runner = \"{runner}\"\nprocess = \"shared\"");
    let sealed = [("test_doors.py", suite), ("tests.list", list)];
    let task = TestTask {
        form: "tests",
        language: "python",
        file: "doors.py",
        head,
        table: &table,
        sealed: &sealed,
        time: 12,
        disk: "",
    };
    task.judge(&[("doors.py", answer)])
}

#[test]
fn python_s_ways_into_the_interpreter_are_closed_beside_sealed_tests() {
    let judged = python("unittest", "", HATCHES);
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
    // A task that names it has it, and then some of the ways are open.
    let answer = HATCHES.replace("return found", "return [] if 'ctypes' in found else ['nothing']");
    let judged = python("unittest", "packages = [\"ctypes\"]", &answer);
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
    if needs::there(&["pytest"]) {
        let judged = python("pytest", "", HATCHES);
        assert_eq!(judged.verdict, PASS, "{judged:#?}");
    }
}

#[test]
fn node_s_ways_into_the_process_are_closed_beside_sealed_tests() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed = [("doors.test.js", NODE_SUITE), ("tests.list", "closed\nworks\n")];
    let task = TestTask {
        form: "tests",
        language: "javascript",
        file: "doors.js",
        table: "runner = \"node\"\nprocess = \"shared\"",
        sealed: &sealed,
        time: 12,
        ..TestTask::default()
    };
    let judged = task.judge(&[("doors.js", DOORS)]);
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
}
