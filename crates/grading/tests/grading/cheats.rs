//! Answers that try to pass without being right. None may.

use fairtrial_core::verdict::{FailReason, Verdict};

use crate::env::{TestTask, javascript, judge, python};
use crate::needs;
use crate::units::{CARGO, GO, JUNIT, NODE, PYTEST, SuiteOfRunner, UNITTEST};

/// Calls whose results are not to be guessed.
const SEALED: &str = "{\"args\": [3], \"returns\": 1706}\n{\"args\": [4], \"returns\": 9241}";

/// Cheats against single calls, in Python. None of them knows how to compute the results.
const PYTHON: &[(&str, &str)] = &[
    ("ends early", "import os\nos._exit(0)\n"),
    ("ends early, politely", "import sys\nsys.exit(0)\n"),
    ("ends in the call", "import os\ndef f(x): os._exit(0)\n"),
    (
        "equal to everything",
        "class E:\n    __eq__ = lambda s, o: True\n    __ne__ = lambda s, o: False\n    __hash__ = lambda s: 0\ndef f(x): return E()\n",
    ),
    (
        "a number equal to everything",
        "class E(int):\n    __eq__ = lambda s, o: True\n    __hash__ = lambda s: 0\n    __int__ = __index__ = lambda s: 1706\ndef f(x): return E(5)\n",
    ),
    (
        "a text equal to everything",
        "class E(str):\n    __eq__ = lambda s, o: True\n    __hash__ = lambda s: 0\ndef f(x): return E('1706')\n",
    ),
    (
        "prints results",
        "print('1706')\ndef f(x):\n    print(1706)\n    print('{\"value\": 1706}')\n",
    ),
    (
        "writes to every descriptor",
        "import os\ndef f(x):\n    for fd in range(64):\n        try: os.write(fd, b'{\"steps\": [{\"value\": true}]}\\n')\n        except OSError: pass\n",
    ),
    (
        "says that it passed",
        "import os\nfor fd in range(3, 64):\n    try: os.write(fd, b'{\"loaded\": true}\\n{\"passed\": true}\\n{\"verdict\": \"pass\"}\\n')\n    except OSError: pass\ndef f(x): return None\n",
    ),
    ("sends nonsense", "import os\ndef f(x):\n    os.write(3, b'\\x00\\xff\\n')\n"),
    (
        "replaces json",
        "import json\njson.dumps = lambda *a, **k: '{\"steps\": [{\"value\": 1706}, {\"value\": 1706}]}'\ndef f(x): return 0\n",
    ),
    (
        "replaces the encoder",
        "import sys\nm = sys.modules['__main__']\nm.encode = lambda *a: True\nm.take_steps = lambda *a: [{'value': None}]\ndef f(x): return 0\n",
    ),
    (
        "looks at frames",
        "import sys\ndef f(x):\n    frame, found = sys._getframe(), []\n    while frame:\n        for v in frame.f_locals.values():\n            if isinstance(v, dict): found += [v.get('returns'), v.get('expected')]\n        frame = frame.f_back\n    return next((v for v in found if v is not None), None)\n",
    ),
    (
        "looks through memory",
        "import gc\ndef f(x):\n    for o in gc.get_objects():\n        if isinstance(o, dict) and ('returns' in o or 'expected' in o): return o.get('returns', o.get('expected'))\n",
    ),
    (
        "looks for files",
        "import os, re\ndef f(x):\n    for top in ('/work', '/opt', '/tmp', '/home', '/root', '/var', '/run', '/etc', '/mnt', '/srv'):\n        for d, _, names in os.walk(top):\n            for n in names:\n                try: t = open(os.path.join(d, n), errors='replace').read(100000)\n                except OSError: continue\n                m = re.search(r'\"returns\": (\\d+)', t)\n                if m: return int(m.group(1))\n",
    ),
    (
        "looks at processes",
        "import os, re\ndef f(x):\n    for p in os.listdir('/proc'):\n        for n in ('environ', 'cmdline', 'maps', 'fdinfo/0'):\n            try: t = open(f'/proc/{p}/{n}', errors='replace').read()\n            except OSError: continue\n            m = re.search(r'1706|9241', t)\n            if m: return int(m.group(0))\n",
    ),
    (
        "reads the parent's memory",
        "import os, re\ndef f(x):\n    for pid in (os.getppid(), 1):\n        try:\n            for line in open(f'/proc/{pid}/maps'):\n                a, b = (int(v, 16) for v in line.split()[0].split('-'))\n                m = open(f'/proc/{pid}/mem', 'rb'); m.seek(a); t = m.read(min(b - a, 1 << 20))\n                if b'1706' in t: return 1706\n        except (OSError, ValueError): pass\n",
    ),
    (
        "a debugger",
        "import sys\ndef f(x):\n    sys.settrace(lambda *a: None); sys.setprofile(lambda *a: None)\n    return True\n",
    ),
    (
        "patches comparison",
        "import builtins, operator\nbuiltins.all = lambda *a: True\noperator.eq = lambda a, b: True\nbuiltins.isinstance = lambda *a: True\ndef f(x): return 1\n",
    ),
    (
        "answers for later",
        "import os, threading, time\ndef late():\n    time.sleep(0.05)\n    for _ in range(50): os.write(3, b'{\"steps\": [{\"value\": 9241}]}\\n')\nthreading.Thread(target=late, daemon=True).start()\ndef f(x): return 0\n",
    ),
    (
        "an awaitable of everything",
        "class A:\n    def __await__(self):\n        yield\n        return 1\ndef f(x): return A()\n",
    ),
    (
        "raises what equals",
        "class ValueError(Exception):\n    def __eq__(s, o): return True\ndef f(x): raise ValueError(1706)\n",
    ),
    (
        "forks an answerer",
        "import os\nif os.fork() == 0:\n    os.write(3, b'{\"loaded\": true}\\n{\"steps\": [{\"value\": 1}]}\\n'); os._exit(0)\ndef f(x): return None\n",
    ),
];

const JAVASCRIPT: &[(&str, &str)] = &[
    ("ends early", "process.exit(0)"),
    (
        "an object that claims anything",
        "function f() { return { toString: () => '1706', valueOf: () => 1706, toJSON: () => 1706 } }",
    ),
    (
        "a proxy",
        "function f() { return new Proxy({}, { get: () => 1706, has: () => true, ownKeys: () => [] }) }",
    ),
    (
        "patches JSON",
        "JSON.stringify = () => '{\"steps\":[{\"value\":1706}]}'; JSON.parse = () => ({}); function f() { return 0 }",
    ),
    (
        "patches prototypes",
        "Object.prototype.value = 1706; Array.prototype.map = () => [1706]; function f() { return undefined }",
    ),
    (
        "patches the file system",
        "const fs = require('fs'); const w = fs.writeSync; fs.writeSync = (fd, b, ...r) => w(fd, fd === 3 ? Buffer.from('{\"steps\":[{\"value\":true}]}\\n') : b, ...r); function f() { return 0 }",
    ),
    (
        "writes to every descriptor",
        "const fs = require('fs'); function f() { for (let fd = 0; fd < 40; fd++) try { fs.writeSync(fd, '{\"steps\":[{\"value\":null}]}\\n') } catch {} }",
    ),
    (
        "looks for files",
        "const fs = require('fs'); function f() { for (const d of ['/work', '/opt/driver', '/tmp']) for (const n of fs.readdirSync(d)) { const m = /\"returns\": (\\d+)/.exec(fs.readFileSync(d + '/' + n, 'utf8')); if (m) return +m[1] } }",
    ),
    ("a thenable", "function f() { return { then: (ok) => ok({ valueOf: () => 1706 }) } }"),
];

/// Cheats against whole programs.
const PROGRAMS: &[(&str, &str, &str, &str)] = &[
    ("c", "main.c", "ends at once", "int main(void) { return 0; }"),
    (
        "c",
        "main.c",
        "prints that it passed",
        "#include <stdio.h>\nint main(void) { puts(\"PASS\\nok 1\\n1 passed\"); }",
    ),
    (
        "c",
        "main.c",
        "reads what the compiler saw",
        "#include <stdio.h>\n#if __has_include(\"/work/expected\")\n#endif\nint main(void) { FILE *f = fopen(\"/proc/1/environ\", \"r\"); int c; while (f && (c = fgetc(f)) != EOF) putchar(c); }",
    ),
    (
        "shell",
        "main.sh",
        "looks for what is expected",
        "grep -rhoE '17[0-9]6' /work /opt /tmp /proc/[0-9]*/environ /proc/[0-9]*/cmdline 2>/dev/null | head -1",
    ),
    (
        "shell",
        "main.sh",
        "writes to every descriptor",
        "for fd in 3 4 5 6 7 8 9; do echo 1706 >&$fd; done 2>/dev/null; true",
    ),
    ("shell", "main.sh", "succeeds", "exit 0"),
    (
        "python",
        "main.py",
        "forges a result on standard error",
        "import sys\nsys.stderr.write('1706\\n')\n",
    ),
];

/// Cheats against unit tests, in Python: each is put before a function that gives wrong results.
const UNITS: &[(&str, &str)] = &[
    ("ends early", "import os; os._exit(0)"),
    ("ends as if all had failed", "import os; os._exit(1)"),
    ("ends politely", "import sys; sys.exit(0)"),
    ("an end for the end", "import atexit, os; atexit.register(os._exit, 0)"),
    (
        "patches reports",
        "import _pytest.reports as r\n_of = r.TestReport.from_item_and_call.__func__\ndef of(cls, item, call):\n    it = _of(cls, item, call)\n    it.outcome = 'passed'; it.longrepr = None\n    return it\nr.TestReport.from_item_and_call = classmethod(of)",
    ),
    (
        "patches the calling of tests",
        "import _pytest.python as p\np.Function.runtest = lambda self: None",
    ),
    (
        "patches unittest",
        "import unittest\nfor n in dir(unittest.TestCase):\n    if n.startswith('assert'): setattr(unittest.TestCase, n, lambda *a, **k: None)",
    ),
    (
        "patches the results of unittest",
        "import unittest\ncls = next((c for c in unittest.TestResult.__subclasses__() if c.__name__ == 'Result'), unittest.TestResult)\ncls.addFailure = lambda self, test, error: self.addSuccess(test)\ncls.addError = cls.addFailure",
    ),
    (
        "patches the running of unittest",
        "import unittest\nunittest.TestCase.run = lambda self, result=None: result.addSuccess(self)",
    ),
    (
        "changes the sealed files",
        "import glob\nfor n in glob.glob('/work/test_*.py'):\n    try: open(n, 'w').write('def test_x(): pass\\n')\n    except OSError: pass",
    ),
    (
        "removes the sealed files",
        "import glob, os\nfor n in glob.glob('/work/test_*.py'):\n    try: os.remove(n)\n    except OSError: pass",
    ),
    (
        "sends a report of its own",
        "import gc, json, os\nfor fd in range(3, 40):\n    try: os.write(fd, b'{\"test\": \"test_toll.py::test_short\", \"status\": \"passed\"}\\n{\"done\": \"x\"}\\n')\n    except OSError: pass\nos._exit(1)",
    ),
    (
        "sends all there must be",
        "import os\nnames = ['test_toll.py::test_short', 'test_toll.py::test_long[10]', 'test_toll.py::test_long[20]', 'test_toll.py::TestEdge::test_none', 'test_toll.Toll.test_short', 'test_toll.Toll.test_none']\nfor fd in range(3, 40):\n    try: os.write(fd, ''.join('{\"test\": \"%s\", \"status\": \"passed\"}\\n' % n for n in names).encode())\n    except OSError: pass\nos._exit(1)",
    ),
    (
        "patches equality of numbers",
        "import builtins\nclass Int(int):\n    __eq__ = lambda s, o: True\n    __hash__ = int.__hash__\n_toll = lambda n: Int(0)",
    ),
    (
        "an object equal to everything",
        "class E:\n    __eq__ = lambda s, o: True\n_toll = lambda n: E()",
    ),
    (
        "skips everything",
        "import unittest\ntry:\n    import pytest; pytest.skip('no', allow_module_level=True)\nexcept ImportError:\n    raise unittest.SkipTest('no')",
    ),
    ("replaces the exception expected", "import builtins\nbuiltins.ValueError = BaseException"),
    (
        "an object equal to small numbers only",
        "class E:\n    __eq__ = lambda s, o: isinstance(o, (int, float)) and abs(o) < 1000\n    __hash__ = None\ndef _toll(n):\n    if n < 0: raise ValueError(n)\n    return E()",
    ),
    (
        "a number equal to small numbers only",
        "class E(int):\n    __eq__ = lambda s, o: isinstance(o, (int, float)) and abs(o) < 1000\n    __hash__ = int.__hash__\ndef _toll(n):\n    if n < 0: raise ValueError(n)\n    return E(0)",
    ),
    (
        "a kind that claims to be every kind",
        "class M(type):\n    __eq__ = lambda s, o: True\n    __hash__ = lambda s: hash(int)\nclass E(metaclass=M):\n    __eq__ = lambda s, o: True\ndef _toll(n):\n    if n < 0: raise ValueError(n)\n    return E()",
    ),
    (
        "finds the expectation in the caller's code",
        "import sys\ndef _toll(n):\n    if n < 0: raise ValueError(n)\n    frame = sys._getframe(1)\n    while not frame.f_code.co_name.startswith('test'): frame = frame.f_back\n    return next((c for c in frame.f_code.co_consts if type(c) is int and c != n), 0)",
    ),
    (
        "finds the expectation in the caller's line",
        "import sys, re, linecache\ndef _toll(n):\n    if n < 0: raise ValueError(n)\n    frame = sys._getframe(1)\n    while not frame.f_code.co_name.startswith('test'): frame = frame.f_back\n    line = linecache.getline(frame.f_code.co_filename, frame.f_lineno)\n    return int(re.search(r'(\\d+)\\)?\\s*$', line).group(1))",
    ),
    (
        "finds the expectation in the sealed file",
        "import glob, re\ndef _toll(n):\n    if n < 0: raise ValueError(n)\n    text = open(glob.glob('/work/test_*.py')[0]).read()\n    return int(re.search(rf'toll\\({n}\\)\\D+(\\d+)', text).group(1))",
    ),
    (
        "jumps to the end of each test",
        "import sys\ndef tracer(frame, event, arg):\n    if frame.f_code.co_name.startswith('test'):\n        try: frame.f_lineno = max(l for _, _, l in frame.f_code.co_lines() if l)\n        except Exception: pass\n    return tracer\nsys.settrace(tracer)",
    ),
    (
        "puts other code into the tests",
        "import sys\nframe = sys._getframe(0)\nwhile 'test_' not in frame.f_code.co_filename: frame = frame.f_back\nspace = frame.f_globals\ndef _toll(n):\n    empty = (lambda *a, **k: None).__code__\n    for name, it in list(space.items()):\n        for key, inner in [(name, it), *(vars(it).items() if isinstance(it, type) else ())]:\n            if key.startswith('test') and hasattr(inner, '__code__'): inner.__code__ = empty\n    return 0",
    ),
    (
        "changes what is sent",
        "import gc, types\nfor it in gc.get_objects():\n    if isinstance(it, types.FunctionType) and it.__name__ == 'send' and it.__closure__:\n        cell = dict(zip(it.__code__.co_freevars, it.__closure__))['write']\n        write = cell.cell_contents\n        cell.cell_contents = lambda fd, data, write=write: (write(fd, bytes(data).replace(b'\"failed\"', b'\"passed\"')), len(data))[1]",
    ),
    (
        "lets the watch look away",
        "import gc, types\nfor it in gc.get_objects():\n    if isinstance(it, types.FunctionType) and it.__name__ in ('watched', 'seen', 'sides'): it.__code__ = (lambda it, *a: it).__code__\n_toll = lambda n: 0",
    ),
    (
        "patches raises",
        "import pytest, contextlib\npytest.raises = lambda *a, **k: contextlib.suppress(BaseException)\n_toll = lambda n: n * 2 if n in (3, 10) else 0",
    ),
];

#[test]
fn no_cheat_passes_a_call() {
    if !needs::there(&["node"]) {
        return;
    }
    for (what, code) in PYTHON {
        let judged = python(SEALED, code);
        assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{what}: {judged:?}");
    }
    for (what, code) in JAVASCRIPT {
        let judged = javascript(SEALED, code);
        assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{what}: {judged:?}");
    }
}

#[test]
fn no_cheat_passes_as_a_program() {
    if !needs::there(&["node"]) {
        return;
    }
    for (language, file, what, code) in PROGRAMS {
        let judged = judge(
            "program",
            language,
            file,
            "{\"stdin\": \"3\", \"stdout\": \"1706\"}",
            &[(file, code)],
        );
        assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{what}: {judged:?}");
    }
}

#[test]
fn no_cheat_passes_unit_tests_and_what_is_forged_is_named() {
    if !needs::there(&["node", "pytest"]) {
        return;
    }
    let run_all = |runner: &SuiteOfRunner| {
        let mut named = 0;
        for (at, (what, code)) in UNITS.iter().enumerate() {
            let code = format!("_toll = lambda n: 0\n{code}\ndef toll(n):\n    return _toll(n)\n");
            // Each in one process with the tests by one runner, and some apart by the other.
            let is_apart = at % 2 == usize::from(runner.name == "pytest");
            // Apart, most of them do nothing that others do not do, too.
            if is_apart && at % 3 != 0 {
                continue;
            }
            let judged = if is_apart { runner.judge(&code) } else { runner.judge_shared(&code) };
            let shown = format!("{what} ({}): {judged:#?}", runner.name);
            assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{shown}");
            named += usize::from(judged.verdict == crate::env::fail(FailReason::Tampering));
        }
        named
    };
    let named: usize = std::thread::scope(|scope| {
        let passed = [&PYTEST, &UNITTEST].map(|runner| scope.spawn(|| run_all(runner)));
        passed.into_iter().map(|it| it.join().unwrap()).sum()
    });
    assert!(named >= 6, "only {named} were called tampering");
    let node = [
        "const t = require('node:test'); t.test = () => {}; require('module')._load = () => t;",
        "const a = require('node:assert'); a.strictEqual = a.throws = () => {};",
        "process.exit(0);",
        "process.exit(1);",
        "process.on('exit', () => process.reallyExit(0));",
        "const fs = require('fs'); for (const t of ['short', 'edges > throws']) fs.writeSync(3, JSON.stringify({ test: t, status: 'passed' }) + '\\n'); process.exit(1);",
        "try { require('fs').writeFileSync('/work/toll.test.js', ''); } catch {}",
        "Object.defineProperty(RangeError, Symbol.hasInstance, { value: () => true });",
        "const push = require('stream').Readable.prototype.push; require('stream').Readable.prototype.push = function (it, ...rest) { if (it?.type === 'test:fail') it.type = 'test:pass'; return push.call(this, it, ...rest); };",
        "const fs = require('fs'); const found = () => { const at = {}; Error.captureStackTrace(at); const place = /(\\/work\\/[^\\s()]*test[^\\s()]*):(\\d+):/.exec(at.stack); return +/(\\d+)\\);/.exec(fs.readFileSync(place[1], 'utf8').split('\\n')[place[2] - 1])[1]; }; Object.defineProperty(exports, 'toll', { value: found });",
    ];
    for code in node {
        let code = format!("{code}\nexports.toll ??= (n) => 0;\n");
        for judged in [NODE.judge(&code), NODE.judge_shared(&code)] {
            assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{code}: {judged:#?}");
        }
    }
}

#[test]
fn no_answer_makes_its_trial_void() {
    if !needs::there(&["go", "pytest"]) {
        return;
    }
    let sealed = "{\"stdin\": \"3\", \"stdout\": \"6\"}";
    for (language, file, code, reason) in [
        ("go", "main.go", "package harbour\n", FailReason::DidNotBuild),
        ("rust", "main.rs", "#![crate_type = \"lib\"]\npub fn f() {}\n", FailReason::DidNotBuild),
        ("rust", "main.rs", "#![crate_type = \"staticlib\"]\n", FailReason::DidNotBuild),
        (
            "c",
            "main.c",
            "char x[100 << 20] = {1}; int main(void) { return x[3]; }",
            FailReason::TooMuchOutput,
        ),
    ] {
        let judged = TestTask {
            form: "program",
            language,
            file,
            sealed: &[("cases.jsonl", sealed)],
            time: 20,
            ..TestTask::default()
        }
        .judge(&[(file, code)]);
        assert_eq!(judged.verdict, crate::env::fail(reason), "{code}: {judged:#?}");
    }
    // Every signal is an ending, those that have no name too.
    for signal in [6, 9, 15, 34, 40, 64] {
        let raise = format!("import os\ndef f(x): os.kill(os.getpid(), {signal})\n");
        let call = judge("call", "python", "a.py", SEALED, &[("a.py", &raise)]);
        assert_eq!(call.verdict, crate::env::fail(FailReason::Crashed), "{signal}: {call:#?}");
        let raise = format!("import os\nos.kill(os.getpid(), {signal})\n");
        let load = judge("call", "python", "a.py", SEALED, &[("a.py", &raise)]);
        assert_eq!(load.verdict, crate::env::fail(FailReason::Crashed), "{signal}: {load:#?}");
        let program =
            judge("program", "shell", "a.sh", sealed, &[("a.sh", &format!("kill -{signal} $$"))]);
        assert_eq!(program.verdict, crate::env::fail(FailReason::Crashed), "{program:#?}");
        let tests = PYTEST.judge(&format!("{raise}{}", PYTEST.right));
        assert!(matches!(tests.verdict, Verdict::Fail(_)), "{signal}: {tests:#?}");
    }
    // Files that stand where others must.
    for path in ["test_toll.py/x", "toll.py/x", "depths.txt/x"] {
        let judged = PYTEST.judge_all(&[("toll.py", PYTEST.right), (path, "x")]);
        assert!(!judged.verdict.is_void(), "{path}: {judged:#?}");
    }
}

#[test]
fn no_text_of_the_sealed_tests_is_left_where_an_answer_looks() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let look = "import glob, sys\nfound = [open(it).read() for it in glob.glob('/work/test_*.py')]\n\
        def look(it, depth=0):\n    if isinstance(it, str): found.append(it)\n    elif isinstance(it, dict) and depth < 4: [look(v, depth + 1) for v in it.values()]\n    elif isinstance(it, (list, tuple)) and depth < 4: [look(v, depth + 1) for v in it]\n\
        look(dict(vars(sys.modules['__main__'])))\nassert not any('from toll import' in it for it in found)\n";
    for runner in [&PYTEST, &UNITTEST] {
        let judged = runner.judge(&format!("{look}{}", PYTEST.right));
        assert_eq!(judged.verdict, crate::env::PASS, "{}: {judged:#?}", runner.name);
    }
}

/// Sealed tests of a list, which can hide what lies in it.
const LISTS: &[(&str, &str)] = &[
    ("test_list.py", "from a import f\n\n\ndef test_list():\n    assert f() == [[1], {'a': 2}]\n"),
    ("tests.list", "test_list.py::test_list\n"),
];

#[test]
fn what_claims_to_be_equal_is_found_inside_of_lists_and_in_rust() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let table = "runner = \"pytest\"";
    let task = TestTask {
        form: "tests",
        language: "python",
        file: "a.py",
        table,
        sealed: LISTS,
        time: 40,
        head: "",
        disk: "",
    };
    let code = |value: &str| {
        format!("class E:\n    __eq__ = lambda s, o: True\ndef f(): return {value}\n")
    };
    assert_eq!(task.judge(&[("a.py", &code("[[1], {'a': 2}]"))]).verdict, crate::env::PASS);
    for value in ["[E(), E()]", "[[E()], {'a': E()}]", "E()"] {
        let judged = task.judge(&[("a.py", &code(value))]);
        assert_eq!(judged.verdict, crate::env::fail(FailReason::Tampering), "{value}: {judged:#?}");
    }
    let any = "#[derive(Debug)]\npub struct E;\nimpl PartialEq<i32> for E {\n    fn eq(&self, _: &i32) -> bool { true }\n}\n\
               pub fn toll(n: i32) -> E {\n    assert!(n >= 0);\n    E\n}\n";
    let judged = CARGO.judge(any);
    assert_eq!(judged.verdict, crate::env::fail(FailReason::Tampering), "{judged:#?}");
}

#[test]
fn an_answer_brings_no_tests_plugins_or_services_of_its_own() {
    if !needs::there(&["go", "junit5", "pytest"]) {
        return;
    }
    let main = "package answer\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestMain(m *testing.M) { os.Exit(1) }\n";
    let go = GO.judge_all(&[("toll.go", GO.right), ("zz_test.go", main)]);
    assert_eq!((go.verdict, go.notes.len()), (crate::env::PASS, 1), "{go:#?}");
    let service = "META-INF/services/org.junit.platform.launcher.TestExecutionListener";
    let java = JUNIT.judge_all(&[("Toll.java", JUNIT.right), (service, "Toll\n")]);
    assert_eq!((java.verdict, java.notes.len()), (crate::env::PASS, 1), "{java:#?}");
    let plugin = PYTEST.judge_all(&[
        ("toll.py", "def toll(n): return 0\n"),
        ("evil-1.dist-info/METADATA", "Metadata-Version: 2.1\nName: evil\nVersion: 1\n"),
        ("evil-1.dist-info/entry_points.txt", "[pytest11]\nevil = evil\n"),
        ("evil.py", "raise SystemExit(1)\n"),
    ]);
    assert_eq!(plugin.verdict, crate::env::fail(FailReason::WrongResult), "{plugin:#?}");
}

#[test]
fn what_a_runner_obeys_is_not_taken_from_an_answer() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let wrong = "def toll(n): return 0\n";
    let conftest = "import pytest\n@pytest.hookimpl(hookwrapper=True)\ndef pytest_runtest_makereport(item, call):\n    out = yield\n    out.get_result().outcome = 'passed'\n";
    let judged = PYTEST.judge_all(&[
        ("toll.py", wrong),
        ("conftest.py", conftest),
        ("pytest.ini", "[pytest]\naddopts = --collect-only\n"),
        ("sitecustomize.py", "import os; os._exit(0)\n"),
        ("test_toll.py", "def test_short(): pass\n"),
        ("pytest.py", "raise SystemExit(0)\n"),
    ]);
    assert_eq!(judged.verdict, crate::env::fail(FailReason::WrongResult), "{judged:#?}");
    assert_eq!(judged.notes.len(), 4, "{:?}", judged.notes);
    assert!(judged.notes[0].contains("`conftest.py` was not taken"), "{:?}", judged.notes);
    // Unless the task lists it.
    let table = "runner = \"pytest\"\nallow = [\"helper.ini\", \"conftest.py\"]";
    let task = TestTask {
        form: "tests",
        language: "python",
        file: "toll.py",
        table,
        sealed: PYTEST.sealed,
        time: 40,
        head: "",
        disk: "",
    };
    let right = task.judge(&[("toll.py", PYTEST.right), ("conftest.py", "")]);
    assert_eq!((right.verdict, right.notes.len()), (crate::env::PASS, 0), "{right:#?}");
}

#[test]
fn an_answer_cannot_carry_the_sealed_tests_back_to_its_candidate() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let read =
        "import glob\nsealed = open(glob.glob('/work/test_*.py')[0]).read().replace('\\n', ' ')\n";
    for end in [
        "import sys\nprint('toll.py', sealed)\nprint('toll.py:1:', sealed, file=sys.stderr, flush=True)\nimport os; os._exit(3)\n",
        "raise SyntaxError('toll.py ' + sealed)\n",
        "raise type('toll_3_is_6_Error', (Exception,), {})(sealed)\n",
        "x = bytearray(1 << 30)\nprint('toll.py', sealed)\n",
    ] {
        for runner in [&PYTEST, &UNITTEST] {
            let judged = runner.judge(&format!("{read}{end}{}", PYTEST.right));
            assert!(!judged.verdict.is_pass(), "{judged:#?}");
            let message = judged.message.unwrap_or_default();
            // It learns what it did where no sealed test was, which it could not read there.
            assert!(!message.contains("test_short") && !message.contains("assert"), "{message}");
        }
    }
}

/// How many there are in all.
#[test]
fn the_set_is_large_enough() {
    let all = PYTHON.len() + JAVASCRIPT.len() + PROGRAMS.len() + UNITS.len();
    assert!(all >= 50, "{all}");
}
