//! Programs that are right, and odd. All must pass.

use crate::env::{PASS, TestTask, javascript, judge, python};
use crate::needs;
use crate::units::{CARGO, NODE, PYTEST, UNITTEST};

/// Each squares its argument, in Python.
const PYTHON: &[(&str, &str)] = &[
    (
        "noisy",
        "import sys\nprint('loading')\ndef f(x):\n    for i in range(2000): print('{\"value\": 1}', i)\n    sys.stderr.write('working\\n' * 500)\n    return x * x\n",
    ),
    (
        "threads",
        "import threading\ndef f(x):\n    out = []\n    ts = [threading.Thread(target=lambda: out.append(x)) for _ in range(8)]\n    [t.start() for t in ts]; [t.join() for t in ts]\n    return out[0] * len(out) * x // 8\n",
    ),
    (
        "a pool of threads",
        "from concurrent.futures import ThreadPoolExecutor\ndef f(x):\n    with ThreadPoolExecutor(4) as pool: return sum(pool.map(lambda _: x, range(x)))\n",
    ),
    (
        "a pool of processes",
        "from multiprocessing import Pool\ndef one(x): return x\ndef f(x):\n    with Pool(2) as pool: return sum(pool.map(one, [x] * x))\n",
    ),
    (
        "subprocesses",
        "import subprocess\ndef f(x):\n    return int(subprocess.run(['sh', '-c', f'echo $(({x} * {x}))'], capture_output=True, text=True).stdout)\n",
    ),
    (
        "temporary files",
        "import tempfile, os\ndef f(x):\n    with tempfile.NamedTemporaryFile('w+', delete=False) as t: t.write(str(x * x))\n    with tempfile.TemporaryDirectory() as d: open(os.path.join(d, 'a'), 'w').close()\n    return int(open(t.name).read())\n",
    ),
    (
        "files where it stands",
        "import json, os\ndef f(x):\n    os.makedirs('a/b', exist_ok=True)\n    json.dump(x * x, open('a/b/c.json', 'w'))\n    return json.load(open('a/b/c.json'))\n",
    ),
    (
        "a hundred megabytes",
        "def f(x):\n    data = bytearray(100 << 20)\n    data[::4096] = b'x' * (len(data) // 4096)\n    return x * x if data[4096] == 120 else 0\n",
    ),
    (
        "a demonstration at the bottom",
        "def f(x): return x * x\nif __name__ == '__main__':\n    import sys; print(f(int(sys.stdin.read()))); sys.exit(3)\n",
    ),
    (
        "a demonstration that is not guarded",
        "def f(x): return x * x\nprint('f(3) =', f(3))\nassert f(2) == 4\n",
    ),
    (
        "logging",
        "import logging\nlogging.basicConfig(level=logging.DEBUG)\nlog = logging.getLogger(__name__)\ndef f(x):\n    log.info('squaring %s', x)\n    try: raise KeyError(x)\n    except KeyError: log.exception('no matter')\n    return x * x\n",
    ),
    (
        "deep recursion",
        "import sys\nsys.setrecursionlimit(30000)\ndef down(n): return 0 if n == 0 else 1 + down(n - 1)\ndef f(x): return x * x + down(9000) - 9000\n",
    ),
    ("a whole number as float", "def f(x): return float(x) ** 2\n"),
    (
        "its own source",
        "import inspect\ndef f(x):\n    assert 'its own' not in inspect.getsource(f) or True\n    assert open(__file__).read().startswith('import')\n    return x * x\n",
    ),
    ("a generator's list", "def f(x): return next(iter([v * v for v in (y for y in [x])]))\n"),
    (
        "a subclass of int",
        "from enum import IntEnum\nclass N(IntEnum):\n    A = 9\n    B = 16\ndef f(x): return N(x * x)\n",
    ),
    (
        "closes standard output",
        "import sys\ndef f(x):\n    sys.stdout = open('/dev/null', 'w')\n    return x * x\n",
    ),
    (
        "catches signals",
        "import signal\nsignal.signal(signal.SIGTERM, lambda *a: None)\nsignal.signal(signal.SIGALRM, lambda *a: None)\ndef f(x):\n    signal.setitimer(signal.ITIMER_REAL, 0.01); signal.pause()\n    return x * x\n",
    ),
    (
        "a daemon thread that stays",
        "import threading, time\nthreading.Thread(target=time.sleep, args=(100,), daemon=True).start()\ndef f(x): return x * x\n",
    ),
    (
        "its own kind of equality",
        "class P:\n    def __init__(self, v): self.v = v\n    def __eq__(self, other): return isinstance(other, P) and self.v == other.v\ndef f(x): return x * x if P(x) == P(x) else 0\n",
    ),
    (
        "memory it maps and shares",
        "import mmap, os\ndef f(x):\n    m = mmap.mmap(-1, 4096)\n    pid = os.fork()\n    if pid == 0:\n        m[:8] = (x * x).to_bytes(8, 'little'); os._exit(0)\n    os.waitpid(pid, 0)\n    return int.from_bytes(m[:8], 'little')\n",
    ),
    (
        "a socket pair",
        "import socket\ndef f(x):\n    a, b = socket.socketpair()\n    a.send(bytes([x])); return b.recv(1)[0] ** 2\n",
    ),
    (
        "modules of its own",
        "import sys, types\nm = types.ModuleType('squares'); exec('def sq(x): return x * x', m.__dict__); sys.modules['squares'] = m\nfrom squares import sq\ndef f(x): return sq(x)\n",
    ),
    (
        "changes folder and environment",
        "import os\nos.environ['DEPTH'] = '2'\ndef f(x):\n    os.chdir('/tmp')\n    return x ** int(os.environ['DEPTH'])\n",
    ),
    (
        "asks for a larger stack",
        "import resource, sys, threading\nresource.setrlimit(resource.RLIMIT_STACK, (resource.RLIM_INFINITY,) * 2)\nsys.setrecursionlimit(10 ** 7)\nthreading.stack_size(1 << 28)\ndef f(x):\n    out = []\n    def down(n): return 0 if n == 0 else 1 + down(n - 1)\n    t = threading.Thread(target=lambda: out.append(down(50000))); t.start(); t.join()\n    return x * x if out == [50000] else 0\n",
    ),
    (
        "spawns, and does not fork",
        "import multiprocessing\ndef one(q, x): q.put(x * x)\ndef f(x):\n    c = multiprocessing.get_context('spawn'); q = c.Queue()\n    p = c.Process(target=one, args=(q, x)); p.start(); v = q.get(timeout=8); p.join()\n    return v\n",
    ),
    (
        "closes descriptors that it does not know",
        "import os\nos.closerange(3, 256)\ndef f(x): return x * x\n",
    ),
    (
        "prints more in all than one call may",
        "def f(x):\n    print('x' * 3000000)\n    return x * x\n",
    ),
    ("a low priority", "import os\ndef f(x):\n    os.nice(3)\n    return x * x\n"),
];

const JAVASCRIPT: &[(&str, &str)] = &[
    (
        "noisy",
        "console.log('loading'); function f(x) { for (let i = 0; i < 500; i++) console.error('x', i); return x * x }",
    ),
    ("a timer that stays", "setInterval(() => {}, 1000); module.exports = { f: (x) => x * x }"),
    ("a big whole number", "function f(x) { return BigInt(x) * BigInt(x) }"),
    (
        "modules",
        "import fs from 'fs'; export function f(x) { fs.writeFileSync('/tmp/a', String(x * x)); return Number(fs.readFileSync('/tmp/a', 'utf8')) }",
    ),
];

const PROGRAMS: &[(&str, &str, &str, &str)] = &[
    (
        "c",
        "main.c",
        "threads and noise",
        "#include <pthread.h>\n#include <stdio.h>\n#include <stdlib.h>\nstatic long long x;\nstatic void *go(void *a) { x *= x; return a; }\nint main(void) { pthread_t t; if (scanf(\"%lld\", &x) != 1) return 2; fprintf(stderr, \"noise\\n\"); pthread_create(&t, 0, go, 0); pthread_join(t, 0); char *big = malloc(100 << 20); big[0] = 1; printf(\"%lld  \\r\\n\\n\", x); free(big); return 0; }",
    ),
    (
        "shell",
        "main.sh",
        "pipes and background",
        "read x; (sleep 0.05; true) & t=$(mktemp); echo \"$x * $x\" | tr -d ' ' > \"$t\"; echo $(( $(cat \"$t\") )); wait; rm \"$t\"",
    ),
    (
        "c",
        "main.c",
        "opens its streams by name",
        "#include <stdio.h>\nint main(void) { long long x; FILE *in = fopen(\"/dev/stdin\", \"r\"), *out = fopen(\"/dev/stdout\", \"w\"); if (!in || !out || fscanf(in, \"%lld\", &x) != 1) return 1; fprintf(out, \"%lld\\n\", x * x); return 0; }",
    ),
    (
        "javascript",
        "main.js",
        "reads standard input by name",
        "const x = Number(require('fs').readFileSync('/dev/stdin', 'utf8')); console.log(x * x)",
    ),
    (
        "shell",
        "main.sh",
        "reads standard input by name",
        "x=$(cat /dev/stdin); echo $((x * x)) > /dev/stdout",
    ),
    (
        "shell",
        "main.sh",
        "a child that stays",
        "read x; sleep 30 > /dev/null 2>&1 & echo $((x * x))",
    ),
];

#[test]
fn odd_but_right_answers_pass() {
    if !needs::there(&["node"]) {
        return;
    }
    assert!(PYTHON.len() + JAVASCRIPT.len() + PROGRAMS.len() >= 25);
    let sealed = "{\"args\": [3], \"returns\": 9}\n{\"args\": [4], \"returns\": 16}";
    for (what, code) in PYTHON {
        let judged = python(sealed, code);
        assert_eq!(judged.verdict, PASS, "{what}: {judged:#?}");
    }
    for (what, code) in JAVASCRIPT {
        let judged = javascript(sealed, code);
        assert_eq!(judged.verdict, PASS, "{what}: {judged:#?}");
    }
    for (language, file, what, code) in PROGRAMS {
        let sealed = "{\"stdin\": \"12\\n\", \"stdout\": \"144\\n\"}";
        let judged = judge("program", language, file, sealed, &[(file, code)]);
        assert_eq!(judged.verdict, PASS, "{what}: {judged:#?}");
    }
}

#[test]
fn whole_numbers_of_any_length_go_in_and_come_out() {
    let digits = |text: &str, count: usize| text.repeat(count);
    let number = digits("7", 5000);
    let sealed = format!(
        "{{\"args\": [{{\"$int\": \"{number}\"}}], \"returns\": {{\"$int\": \"{number}8\"}}}}"
    );
    let judged = python(&sealed, "def f(x): return x * 10 + 8\n");
    assert_eq!(judged.verdict, PASS, "{:?}", judged.message);
    let judged = python(&sealed, "def f(x): return int(str(x) + '8')\n");
    assert!(judged.tests[0].summary.contains("ValueError"), "{:?}", judged.tests[0].summary);
}

/// What comes before a right function, in a module that unit tests load.
const MODULES: &[(&str, &str)] = &[
    ("noisy", "import sys\nprint('{\"done\": 1}')\nsys.stderr.write('x\\n' * 100)"),
    (
        "threads",
        "import threading, time\nthreading.Thread(target=time.sleep, args=(60,), daemon=True).start()",
    ),
    (
        "logging",
        "import logging\nlogging.basicConfig(level=logging.DEBUG)\nlogging.warning('hello')",
    ),
    ("temporary files", "import tempfile\ntempfile.mkdtemp(); open('cache.txt', 'w').write('x')"),
    ("an end of its own", "import atexit\natexit.register(print, 'bye')"),
    (
        "equality of its own",
        "class Berth:\n    def __init__(self, n): self.n = n\n    def __eq__(self, o): return isinstance(o, Berth) and self.n == o.n",
    ),
    (
        "tests of its own",
        "import unittest\nclass Own(unittest.TestCase):\n    def test_own(self): self.fail()",
    ),
];

#[test]
fn odd_but_right_modules_pass_unit_tests() {
    if !needs::there(&["node", "pytest"]) {
        return;
    }
    for runner in [&PYTEST, &UNITTEST] {
        for (what, head) in MODULES {
            let judged = runner.judge(&format!("{head}\n{}", PYTEST.right));
            assert_eq!(judged.verdict, PASS, "{what} ({}): {judged:#?}", runner.name);
        }
    }
    for head in [
        "console.log('x'); console.error('y');",
        "setTimeout(() => {}, 50);",
        "process.on('exit', () => console.log('bye'));",
    ] {
        let judged = NODE.judge(&format!("{head}\n{}", NODE.right));
        assert_eq!(judged.verdict, PASS, "{head}: {judged:#?}");
    }
    // An answer's own tests are its own affair.
    let own = "require('node:test').test('own', () => { throw new Error('no') });";
    let judged = NODE.judge(&format!("{}{own}\n", NODE.right));
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
    let own = "/// ```\n/// panic!();\n/// ```\npub fn documented() {}\n#[cfg(test)]\nmod tests {\n    #[test]\n    fn own() { panic!() }\n}\n";
    let judged = CARGO.judge(&format!("{}{own}", CARGO.right));
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
    let own = "#[test]\nfn own() { panic!() }\n";
    let judged = CARGO.judge_all(&[("toll.rs", CARGO.right), ("tests/own.rs", own)]);
    assert_eq!((judged.verdict, judged.notes.len()), (PASS, 1), "{judged:#?}");
}

#[test]
fn sealed_tests_may_import_each_other() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let task = |runner: &'static str, sealed| TestTask {
        form: "tests",
        language: "python",
        file: "a.py",
        table: runner,
        sealed,
        time: 40,
        head: "",
        disk: "",
    };
    let helper = ("test_helper.py", "def three(): return 3\n");
    let unittest = &[
        helper,
        (
            "test_f.py",
            "import unittest\nfrom a import f\nfrom test_helper import three\n\nclass F(unittest.TestCase):\n    def test_three(self):\n        for n in (3, 4):\n            with self.subTest(n=n): self.assertEqual(f(n), n * n)\n        self.assertEqual(f(three()), 9)\n",
        ),
        ("tests.list", "test_f.F.test_three\n"),
    ];
    let pytest = &[
        helper,
        (
            "test_f.py",
            "from a import f\nfrom test_helper import three\n\ndef test_three():\n    assert f(three()) == 9\n",
        ),
        ("tests.list", "test_f.py::test_three\n"),
    ];
    for task in [task("runner = \"unittest\"", unittest), task("runner = \"pytest\"", pytest)] {
        let judged = task.judge(&[("a.py", "def f(x): return x * x\n")]);
        assert_eq!(judged.verdict, PASS, "{judged:#?}");
        let wrong = task.judge(&[("a.py", "def f(x): return x + x\n")]);
        assert_eq!(wrong.tests[0].summary, "failed", "{wrong:#?}");
    }
}

#[test]
fn a_sealed_conftest_is_obeyed() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let sealed = &[
        ("conftest.py", "import pytest\n\n@pytest.fixture\ndef three(): return 3\n"),
        ("test_f.py", "from a import f\n\ndef test_three(three):\n    assert f(three) == 9\n"),
        ("tests.list", "test_f.py::test_three\n"),
    ];
    let task = TestTask {
        form: "tests",
        language: "python",
        file: "a.py",
        table: "runner = \"pytest\"",
        sealed,
        time: 40,
        head: "",
        disk: "",
    };
    let judged = task.judge(&[("a.py", "def f(x): return x * x\n")]);
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
    let wrong = task.judge(&[("a.py", "def f(x): return x + x\n"), ("conftest.py", "")]);
    assert_eq!((wrong.verdict.is_pass(), wrong.notes.len()), (false, 1), "{wrong:#?}");
}
