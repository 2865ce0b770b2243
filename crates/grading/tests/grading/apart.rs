//! Sealed unit tests apart from the answer: suites that use much of a language hold for right answers, and no
//! cheat passes.

use fairtrial_core::judgement::Judgement;
use fairtrial_core::verdict::FailReason;

use crate::env::{PASS, TestTask, fail};
use crate::needs;

use crate::suites::holds;

#[test]
fn suites_of_pytest_hold_apart() {
    if needs::there(&["pytest"]) {
        holds("python", "pytest", "quay.py", 110);
    }
}

#[test]
fn suites_of_unittest_hold_apart() {
    holds("python", "unittest", "quay.py", 21);
}

#[test]
fn suites_of_node_hold_apart() {
    if needs::there(&["node"]) {
        holds("javascript", "node", "toll.js", 60);
    }
}

/// Sealed tests of which the answer's own code decides much.
const BERTHS: &str = "import pytest
from berth import Berth, fits, load, order

def test_sum():
    assert Berth(1, 2) + Berth(3, 4) == Berth(4, 6)

def test_load():
    assert load('tug') == 17

def test_in():
    assert 3 in fits(10)

def test_less():
    assert order('a') < order('b')

def test_near():
    assert load('ferry') == pytest.approx(40.5)

def test_none():
    with pytest.raises(ValueError):
        load('none')

def test_other():
    assert load('tug') != 18 and not Berth(1, 2) == Berth(1, 3)

class TestShip:
    def test_names(self):
        assert [it.name for it in (load.ship('a'), load.ship('b'))] == ['a', 'b']
        assert load.ship('a') == load.ship('a')
";

const BERTHS_LIST: &str = "test_berth.py::test_sum\ntest_berth.py::test_load\ntest_berth.py::test_in\n\
    test_berth.py::test_less\ntest_berth.py::test_near\ntest_berth.py::test_none\ntest_berth.py::test_other\n\
    test_berth.py::TestShip::test_names\n";

const BERTHS_RIGHT: &str = "import functools
class Berth:
    def __init__(self, a, b): self.a, self.b = a, b
    def __add__(self, o): return Berth(self.a + o.a, self.b + o.b)
    def __eq__(self, o): return isinstance(o, Berth) and (self.a, self.b) == (o.a, o.b)
class Ship:
    def __init__(self, name): self.name = name
    def __eq__(self, o): return isinstance(o, Ship) and self.name == o.name
def load(name):
    if name == 'none': raise ValueError(name)
    return {'tug': 17, 'ferry': 40.5}[name]
load.ship = Ship
class fits:
    def __init__(self, n): self.n = n
    def __contains__(self, x): return 0 <= x < self.n
@functools.total_ordering
class order:
    def __init__(self, s): self.s = s
    def __eq__(self, o): return self.s == o.s
    def __lt__(self, o): return self.s < o.s
";

/// Each takes something of the right answer away and cheats in its place.
const BERTH_CHEATS: &[(&str, &str)] = &[
    (
        "is equal to everything",
        "class Berth:\n    def __init__(s, *a): pass\n    __add__ = lambda s, o: s\n    __eq__ = lambda s, o: True\n",
    ),
    (
        "is equal to everything, the first time",
        "class Berth:\n    def __init__(s, *a): s.n = 0\n    __add__ = lambda s, o: s\n    def __eq__(s, o):\n        s.n += 1\n        return s.n == 1\n",
    ),
    (
        "a number that is equal to all",
        "class N(int):\n    __eq__ = lambda s, o: True\n    __ne__ = lambda s, o: True\n    __hash__ = int.__hash__\ndef load(name):\n    if name == 'none': raise ValueError\n    return N(3) if name == 'tug' else 40.5\nload.ship = Ship\n",
    ),
    (
        "an object that is near to all",
        "class N:\n    __eq__ = lambda s, o: True\n    __sub__ = __rsub__ = __abs__ = lambda s, *o: 0\ndef load(name):\n    if name == 'none': raise ValueError\n    return N() if name == 'ferry' else 17\nload.ship = Ship\n",
    ),
    (
        "an error of many kinds",
        "class E(ValueError, KeyError, IndexError, ZeroDivisionError, RuntimeError, TypeError, EOFError, BufferError): pass\n_load = load\ndef load(name):\n    if name == 'none': raise E()\n    return _load(name)\nload.ship = Ship\n",
    ),
    (
        "less and more at once",
        "class order:\n    def __init__(s, x): pass\n    __lt__ = __gt__ = __le__ = __ge__ = lambda s, o: True\n",
    ),
    (
        "never equal, never unequal",
        "class Berth:\n    def __init__(s, *a): pass\n    __add__ = lambda s, o: s\n    def __eq__(s, o): return __import__('random').random() < 2\n",
    ),
    (
        "equal by what was asked first",
        "SEEN = []\nclass Berth:\n    def __init__(s, *a): SEEN.append(a); s.a = a\n    def __add__(s, o): return s\n    def __eq__(s, o): return len(SEEN) < 4 or o.a != (1, 3)\n",
    ),
    (
        "raises a skip",
        "def load(name): __import__('unittest').SkipTest; raise __import__('unittest').SkipTest('x')\nload.ship = Ship\n",
    ),
    ("interrupts", "def load(name): raise KeyboardInterrupt\nload.ship = Ship\n"),
    ("leaves", "def load(name): raise SystemExit(0)\nload.ship = Ship\n"),
    ("ends its process", "import os\ndef load(name): os._exit(0)\nload.ship = Ship\n"),
    (
        "ends its process, politely",
        "import os, atexit\natexit.register(os._exit, 0)\nload = lambda name: 3\nload.ship = Ship\n",
    ),
    (
        "answers for itself",
        "import os, json\ndef load(name):\n    m = json.dumps({'k': '=', 't': 0, 'v': ['1', 'NI']}).encode()\n    os.write(500, len(m).to_bytes(4, 'big') + m)\n    return 17\nload.ship = Ship\n",
    ),
    (
        "speaks nonsense",
        "import os\ndef load(name):\n    os.write(500, b'\\x00\\x00\\x00\\x05hello')\n    return 17\nload.ship = Ship\n",
    ),
    (
        "speaks without end",
        "import os\ndef load(name):\n    os.write(500, b'\\xff\\xff\\xff\\xff' + b'x' * 1000)\n    return 17\nload.ship = Ship\n",
    ),
    (
        "reports all as passed",
        "import os\ndef load(name):\n    for fd in range(3, 600):\n        try: os.write(fd, b'{\"test\": \"test_berth.py::test_load\", \"status\": \"passed\"}\\n{\"done\": \"\"}\\n')\n        except OSError: pass\n    os._exit(0)\nload.ship = Ship\n",
    ),
    (
        "looks at the tests by a function of theirs",
        "import sys\nfits = lambda n: [it for it in range(n)] if not hasattr(n, '__globals__') else [3]\ndef order(x): raise ValueError(x)\n",
    ),
    (
        "puts a module beside the tests",
        "import os\nfor n in ('berth.py', 'conftest.py', 'pytest.py', 'test_berth.py', '__pycache__/test_berth.cpython-311.pyc'):\n    os.makedirs('/work/__pycache__', exist_ok=True)\n    try: open('/work/' + n, 'w').write('def test_load(): pass\\n')\n    except OSError: pass\nload = lambda name: 3\nload.ship = Ship\n",
    ),
    (
        "a list that holds what is equal to all",
        "class A:\n    __eq__ = lambda s, o: True\nclass Ship:\n    def __init__(s, n): s.name = A()\nload.ship = Ship\n",
    ),
    (
        "is in everything",
        "class fits:\n    def __init__(s, n): pass\n    __contains__ = lambda s, x: True\n    __iter__ = lambda s: iter(())\n",
    ),
    (
        "nested without end",
        "def load(name):\n    x = ()\n    for _ in range(100000): x = (x,)\n    return x\nload.ship = Ship\n",
    ),
    ("a number without end", "def load(name): return 10 ** 500000\nload.ship = Ship\n"),
    ("a generator without end", "def load(name):\n    while True: yield 17\nload.ship = Ship\n"),
    (
        "asks for what it may not have",
        "class Ship:\n    def __init__(s, n): s.name = n\n    def __eq__(s, o):\n        import gc, sys\n        for it in gc.get_objects():\n            if type(it).__name__ == 'Link':\n                for op, a in (('call', (exec, ('import os; os._exit(0)',), ())), ('call', (eval, ('1',), ())), ('get', (1, '__globals__'))):\n                    try: it.request(op, *a)\n                    except BaseException: pass\n        return False\nload.ship = Ship\n",
    ),
];

#[test]
fn no_cheat_of_an_object_s_own_passes_apart() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let sealed = [("test_berth.py", BERTHS), ("tests.list", BERTHS_LIST)];
    let task = TestTask {
        form: "tests",
        language: "python",
        file: "berth.py",
        table: "runner = \"pytest\"",
        sealed: &sealed,
        time: 5,
        ..TestTask::default()
    };
    let right = task.judge(&[("berth.py", BERTHS_RIGHT)]);
    assert_eq!(right.verdict, PASS, "{right:#?}");
    let judge = |(what, cheat): &(&str, &str)| {
        let judged = task.judge(&[("berth.py", &format!("{BERTHS_RIGHT}{cheat}"))]);
        assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{what}: {judged:#?}");
    };
    let (some, others) = BERTH_CHEATS.split_at(BERTH_CHEATS.len() / 2);
    std::thread::scope(|scope| {
        scope.spawn(|| some.iter().for_each(judge));
        others.iter().for_each(judge);
    });
}

#[test]
fn no_error_of_a_runner_s_own_ends_a_test_well() {
    let suite = "import unittest\nfrom berth import load\n\nclass Berth(unittest.TestCase):\n    \
                 def test_load(self):\n        self.assertEqual(load('tug'), 17)\n";
    let sealed = [("test_berth.py", suite), ("tests.list", "test_berth.Berth.test_load\n")];
    let task = TestTask {
        form: "tests",
        language: "python",
        file: "berth.py",
        table: "runner = \"unittest\"",
        sealed: &sealed,
        time: 10,
        ..TestTask::default()
    };
    let right = task.judge(&[("berth.py", "def load(name): return 17\n")]);
    assert_eq!(right.verdict, PASS, "{right:#?}");
    for code in [
        "import unittest.case as c\ndef load(name): raise c._ShouldStop\n",
        "import unittest.case as c\nclass E(c._ShouldStop): pass\ndef load(name): raise E\n",
        "import unittest.case as c\nclass E(ValueError, c._ShouldStop): pass\ndef load(name): raise E\n",
        "import unittest\ndef load(name): raise unittest.SkipTest\n",
    ] {
        let judged = task.judge(&[("berth.py", code)]);
        assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{code}: {judged:#?}");
    }
}

#[test]
fn nothing_that_an_answer_hands_out_does_anything_among_the_tests() {
    if !needs::there(&["node"]) {
        return;
    }
    let suite = "import builtins\nimport unittest\nimport codec\n\nclass Codec(unittest.TestCase):\n    \
                 def test_a(self):\n        self.assertEqual(codec.read(codec.write('ahoy')), 'ahoy')\n    \
                 def test_b(self):\n        self.assertEqual(codec.store.loads(codec.store.dumps('ahoy')), 'ahoy')\n    \
                 def test_clean(self):\n        self.assertFalse(hasattr(builtins, 'broken_into'))\n";
    let list = "test_codec.Codec.test_a\ntest_codec.Codec.test_b\ntest_codec.Codec.test_clean\n";
    let sealed = [("test_codec.py", suite), ("tests.list", list)];
    let python = TestTask {
        form: "tests",
        language: "python",
        file: "codec.py",
        table: "runner = \"unittest\"",
        sealed: &sealed,
        time: 10,
        ..TestTask::default()
    };
    let right = "import json as store\nread, write = store.loads, store.dumps\n";
    assert_eq!(python.judge(&[("codec.py", right)]).verdict, PASS);
    let cheat = "import pickle as store\nread = eval\n\
                 CODE = \"__import__('builtins').__dict__.update(broken_into=1)\"\n\
                 write = lambda it: CODE\nclass It:\n    def __reduce__(self): return eval, (CODE,)\n\
                 real = store.dumps\nstore.dumps = lambda it, *more: real(It())\n";
    let judged = python.judge(&[("codec.py", cheat)]);
    let failed = |judged: &Judgement| -> Vec<bool> {
        judged.tests.iter().map(|it| it.failed.is_some()).collect()
    };
    assert_eq!(failed(&judged), [true, true, false], "{judged:#?}");
    let suite = "const { test } = require('node:test');\nconst assert = require('node:assert');\nconst codec = require('./codec.js');\n\
                 test('a', () => { assert.strictEqual(codec.read(codec.write(() => 42))(), 42); });\n\
                 test('clean', () => { assert.strictEqual(globalThis.brokenInto, undefined); });\n";
    let sealed = [("codec.test.js", suite), ("tests.list", "a\nclean\n")];
    let node = TestTask {
        language: "javascript",
        file: "codec.js",
        table: "runner = \"node\"",
        sealed: &sealed,
        ..python.clone()
    };
    let right =
        "exports.read = (text) => eval(text);\nexports.write = (f) => '(() => ' + f() + ')';\n";
    assert_eq!(node.judge(&[("codec.js", right)]).verdict, PASS);
    for read in ["Function", "(async () => {}).constructor", "(() => {}).constructor"] {
        let code =
            format!("exports.read = {read};\nexports.write = () => 'globalThis.brokenInto = 1';\n");
        let judged = node.judge(&[("codec.js", &code)]);
        assert_eq!(failed(&judged), [true, false], "{read}: {judged:#?}");
    }
}

/// Sealed tests of node, and an answer to them.
const BUOYS: &str = "const { test } = require('node:test');
const assert = require('node:assert');
const buoys = require('./buoys.js');

test('count', () => { assert.strictEqual(buoys.count('red'), 3); });
test('list', () => { assert.deepStrictEqual(buoys.list(), ['red', 'green']); });
test('class', () => {
  const buoy = new buoys.Buoy('red');
  assert.deepStrictEqual(buoy, new buoys.Buoy('red'));
  assert.notDeepStrictEqual(buoy, new buoys.Buoy('green'));
  assert.strictEqual(buoy.light(), 'red!');
});
test('throws', () => { assert.throws(() => buoys.count('none'), RangeError); });
test('later', async () => { assert.strictEqual(await buoys.later(), 7); });
test('called', (t) => { const f = t.mock.fn(); buoys.each(f); assert.strictEqual(f.mock.callCount(), 2); });
";

const BUOYS_RIGHT: &str =
    "class Buoy { constructor(c) { this.c = c; } light() { return `${this.c}!`; } }
Object.assign(exports, {
  Buoy,
  count: (c) => { if (c === 'none') throw new RangeError(c); return 3; },
  list: () => ['red', 'green'],
  later: async () => 7,
  each: (f) => { f(1); f(2); },
});
";

const BUOY_CHEATS: &[(&str, &str)] = &[
    (
        "patches what asserts",
        "const a = require('node:assert'); for (const k of Object.keys(a)) a[k] = () => {}; exports.count = () => 0;",
    ),
    (
        "replaces the runner",
        "const t = require('node:test'); t.test = () => {}; require('module')._load = () => t; exports.count = () => 0;",
    ),
    (
        "a value that is all",
        "exports.count = () => ({ valueOf: () => 3, toString: () => '3', [Symbol.toPrimitive]: () => 3 });",
    ),
    (
        "a proxy that is all",
        "exports.list = () => new Proxy([], { get: (t, k) => (k === 'length' ? 2 : 'red'), ownKeys: () => ['0', '1', 'length'], getPrototypeOf: () => Array.prototype, getOwnPropertyDescriptor: (t, k) => ({ value: 'red', enumerable: true, configurable: true, writable: true }) });",
    ),
    (
        "a kind of error that is every kind",
        "const E = new Proxy(class extends Error {}, {}); Object.defineProperty(RangeError, Symbol.hasInstance, { value: () => true }); exports.count = (c) => { if (c === 'none') throw new TypeError(c); return 3; };",
    ),
    ("ends", "exports.count = () => process.reallyExit(0);"),
    ("exits", "exports.count = () => process.exit(0);"),
    ("ends when loaded", "process.reallyExit(0);"),
    (
        "reports all as passed",
        "const fs = require('fs'); exports.count = () => { for (let fd = 3; fd < 40; fd++) try { fs.writeSync(fd, '{\"test\":\"count\",\"status\":\"passed\"}\\n{\"done\":\"\"}\\n'); } catch {} process.reallyExit(0); };",
    ),
    (
        "answers for itself",
        "const fs = require('fs'); exports.count = () => { const m = Buffer.from('{\"k\":\"=\",\"v\":[\"r\",\"Function\"]}'); const n = Buffer.alloc(4); n.writeUInt32BE(m.length); fs.writeSync(3, Buffer.concat([n, m])); return 3; }; exports.list = () => 0;",
    ),
    (
        "speaks nonsense",
        "exports.count = () => { require('fs').writeSync(3, 'nonsense, and more of it'); return 3; }; exports.list = () => 0;",
    ),
    ("promises for ever", "exports.later = () => new Promise(() => {});"),
    ("a thenable that is all", "exports.later = () => ({ then: (f) => f({ valueOf: () => 7 }) });"),
    (
        "asks for the tests' own",
        "exports.each = (f) => { try { f.constructor('process.exit(0)')(); } catch {} try { f.mock.calls.length = 2; } catch {} f.mock = { callCount: () => 2 }; };",
    ),
    (
        "puts modules beside the tests",
        "const fs = require('fs'); for (const n of ['buoys.test.js', 'buoys', 'node_modules/node:test/index.js', 'package.json']) try { fs.mkdirSync('/work/node_modules/node:test', { recursive: true }); fs.writeFileSync('/work/' + n, 'process.exit(0)'); } catch {} exports.count = () => 0;",
    ),
    (
        "patches prototypes",
        "Array.prototype[Symbol.iterator] = function* () {}; Object.prototype.c = 'red'; exports.list = () => [];",
    ),
    (
        "reads the text of who calls it",
        "const read = () => { const old = Error.prepareStackTrace; let found; Error.prepareStackTrace = (e, sites) => { for (const it of sites) found ??= /count\\('red'\\), (\\d+)/.exec(it.getFunction()?.toString())?.[1]; return ''; }; new Error().stack; Error.prepareStackTrace = old; return +found; }; exports.count = (c) => { if (c === 'none') throw new RangeError(c); return read(); };",
    ),
    (
        "is equal by a class of its own",
        "exports.Buoy = class { constructor() { return new Proxy(this, { get: (t, k) => (k === 'light' ? () => 'red!' : 'red') }); } };",
    ),
];

#[test]
fn no_cheat_of_javascript_passes_apart_or_with_twins() {
    if !needs::there(&["node"]) {
        return;
    }
    let list = "count\nlist\nclass\nthrows\nlater\ncalled\n";
    let sealed = [("buoys.test.js", BUOYS), ("tests.list", list)];
    for process in ["apart", "shared"] {
        let table = format!("runner = \"node\"\nprocess = \"{process}\"");
        let task = TestTask {
            form: "tests",
            language: "javascript",
            file: "buoys.js",
            table: &table,
            sealed: &sealed,
            time: 2,
            ..TestTask::default()
        };
        let right = task.judge(&[("buoys.js", BUOYS_RIGHT)]);
        assert_eq!(right.verdict, PASS, "{process}: {right:#?}");
        for (what, cheat) in BUOY_CHEATS {
            let judged = task.judge(&[("buoys.js", &format!("{BUOYS_RIGHT}{cheat}\n"))]);
            let is_caught = !judged.verdict.is_pass() && !judged.verdict.is_void();
            assert!(is_caught, "{process}, {what}: {judged:#?}");
        }
        let ended = task.judge(&[("buoys.js", &format!("{BUOYS_RIGHT}process.reallyExit(3);\n"))]);
        assert_ne!(ended.verdict, fail(FailReason::Tampering), "{process}: {ended:#?}");
    }
}
