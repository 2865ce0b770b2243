//! Every language, every kind of value, every reason.

use fairtrial_core::answer::Submission;
use fairtrial_core::language::Languages;
use fairtrial_core::tree::Node;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_grading::{Docket, Judge, Toolbox, limits_of, read_folder};

use crate::env::{PASS, TestTask, fail, javascript, judge, python, sandbox, tree};
use crate::needs;

/// A value of every kind, and what it must come back as.
const VALUES: &str = r#"[null, true, false, 0, -7, 3.25, 9007199254740993, "å\u0000\"", [], [[1]],
    {"$bytes": "AP8="}, {"$float": "inf"}, {"$float": "nan"}, {"a": {"b": 1}},
    {"$map": [[1, "x"]]}, {"$set": [1, 2]}, {"$int": "123456789012345678901234567890"}]"#;

#[test]
fn every_kind_of_value_goes_in_and_comes_back() {
    if !needs::there(&["node"]) {
        return;
    }
    let flat = VALUES.replace('\n', " ");
    let sealed = format!("{{\"args\": [{flat}], \"returns\": {flat}}}");
    let same =
        python(&sealed, "def f(x):\n    assert x[9] == [[1]] and x[15] == {1, 2}\n    return x\n");
    assert_eq!(same.verdict, PASS, "{:?}", same.tests);
    // JavaScript has one kind of number: what is beyond it comes as a BigInt.
    let code = "function f(x) {\n  if (!(x[15] instanceof Set) || x[14].get(1) !== 'x') throw 1;\n  \
                if (typeof x[16] !== 'bigint' || x[10][1] !== 255) throw 2;\n  return x;\n}";
    let same = javascript(&sealed, code);
    assert_eq!(same.verdict, PASS, "{:?}", same.tests);
}

#[test]
fn tuples_sets_and_lists_are_told_apart_where_it_is_asked_for() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed = r#"{"args": [], "returns": {"$tuple": [1, 2]}}"#;
    assert_eq!(python(sealed, "f = lambda: (1, 2)").verdict, PASS);
    assert_eq!(python(sealed, "f = lambda: [1, 2]").verdict, fail(FailReason::WrongResult));
    let sealed = r#"{"args": [], "returns": [1, 2]}"#;
    assert_eq!(python(sealed, "f = lambda: (1, 2)").verdict, PASS);
    assert_eq!(python(sealed, "f = lambda: range(1, 3)").verdict, PASS);
    assert_eq!(python(sealed, "f = lambda: {1, 2}").verdict, fail(FailReason::WrongResult));
    assert_eq!(
        javascript(sealed, "const f = () => new Set([1, 2]);").verdict,
        fail(FailReason::WrongResult)
    );
}

#[test]
fn the_summary_of_a_test_names_nothing_that_is_sealed() {
    let sealed = r#"{"args": ["k"], "returns": {"secret-key": 123}}"#;
    let judged = python(sealed, "def f(x): return {'secret-key': 4}\n");
    let test = &judged.tests[0];
    assert_eq!(test.summary, "returned another value");
    assert_eq!(
        (test.expected.as_str(), test.found.as_str()),
        ("at [secret-key]: 123", "at [secret-key]: 4")
    );
    assert_eq!(judged.message, None);
}

#[test]
fn arguments_errors_and_order_are_judged() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed = "{\"args\": [[3, 1, 2]], \"args_after\": [[1, 2, 3]]}\n\
                  {\"args\": [[\"b\", \"a\"]], \"args_after\": [[\"a\", \"b\"]]}";
    assert_eq!(python(sealed, "def f(x): x.sort()").verdict, PASS);
    assert_eq!(python(sealed, "def f(x): sorted(x)").verdict, fail(FailReason::WrongResult));
    assert_eq!(javascript(sealed, "exports.f = (x) => { x.sort(); };").verdict, PASS);
    let sealed = r#"{"args": [1], "kwargs": {"by": 2}, "raises": "ValueError"}"#;
    let code = "class Deep(ValueError): pass\ndef f(x, by=0):\n    if by == 2: raise Deep('x')\n";
    assert_eq!(python(sealed, code).verdict, PASS);
    assert_eq!(python(sealed, "def f(x, by=0): raise KeyError").verdict, fail(FailReason::Crashed));
    assert_eq!(python(sealed, "def f(x, by=0): pass").verdict, fail(FailReason::WrongResult));
    let sealed = r#"{"args": [1], "kwargs": {"by": 2}, "raises": "RangeError"}"#;
    let code = "class Deep extends RangeError {}\nexport function f(x, { by }) { if (by === 2) throw new Deep('x'); }";
    assert_eq!(javascript(sealed, code).verdict, PASS);
}

/// What is asynchronous is no value, unless the task says that it is waited for.
#[test]
fn what_is_asynchronous_is_waited_for_where_the_task_says_so() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed: &[(&str, &str)] = &[("calls.jsonl", r#"{"args": [3], "returns": 9}"#)];
    let worker = "const { Worker } = require('worker_threads'); const f = (x) => new Promise((ok, no) => { const w = new Worker('require(\"worker_threads\").parentPort.postMessage(require(\"worker_threads\").workerData ** 2)', { eval: true, workerData: x }); w.on('message', ok); w.on('error', no) })";
    for (language, file, code) in [
        (
            "python",
            "a.py",
            "import asyncio\nasync def f(x):\n    await asyncio.sleep(0.01)\n    return x * x\n",
        ),
        ("javascript", "a.js", "const f = async (x) => { await null; return x * x }"),
        ("javascript", "a.js", worker),
    ] {
        let task = |table| TestTask {
            form: "call",
            language,
            file,
            table,
            sealed,
            time: 20,
            head: "",
            disk: "",
        };
        let judged = task("awaits = true\nname = \"f\"").judge(&[(file, code)]);
        assert_eq!(judged.verdict, PASS, "{code}: {judged:#?}");
        let judged = task("name = \"f\"").judge(&[(file, code)]);
        assert_eq!(judged.verdict, fail(FailReason::WrongResult), "{code}");
    }
    let late = "const f = async (x) => { throw new Error('x') }";
    assert_eq!(
        javascript(r#"{"args": [3], "returns": 9}"#, late).verdict,
        fail(FailReason::WrongResult)
    );
}

#[test]
fn values_are_what_they_are_and_errors_what_their_language_has() {
    if !needs::there(&["node"]) {
        return;
    }
    let list = r#"{"args": [3], "returns": [0, 1, 2]}"#;
    for right in [
        "return range(x)",
        "from collections import deque; return deque(range(x))",
        "return dict.fromkeys(range(x)).keys()",
        "return tuple(range(x))",
        "from array import array; return array('i', range(x))",
    ] {
        assert_eq!(python(list, &format!("def f(x): {right}\n")).verdict, PASS, "{right}");
    }
    for wrong in
        ["return (i for i in range(x))", "return map(int, range(x))", "return set(range(x))"]
    {
        assert_eq!(
            python(list, &format!("def f(x): {wrong}\n")).verdict,
            fail(FailReason::WrongResult),
            "{wrong}"
        );
    }
    let own =
        "class deque:\n    def __iter__(self): return iter([0, 1, 2])\ndef f(x): return deque()\n";
    assert_eq!(python(list, own).verdict, fail(FailReason::WrongResult));
    for (sealed, right, wrong) in [
        (r#"{"args": [1], "returns": {"$map": [[1, 2]]}}"#, "{1: 2}", "{'1': 2}"),
        (r#"{"args": [1], "returns": {"1": 2}}"#, "{'1': 2}", "{1: 2}"),
        (r#"{"args": [1], "returns": {"null": 2}}"#, "{'null': 2}", "{None: 2}"),
        (r#"{"args": [1], "returns": {"$map": [[null, 2]]}}"#, "{None: 2}", "{'null': 2}"),
        (r#"{"args": [1], "returns": {"true": 2}}"#, "{'true': 2}", "{True: 2}"),
        (r#"{"args": [1], "returns": {"$bytes": "YQ=="}}"#, "b'a'", "'a'"),
    ] {
        assert_eq!(python(sealed, &format!("def f(x): return {right}\n")).verdict, PASS, "{right}");
        assert_eq!(
            python(sealed, &format!("def f(x): return {wrong}\n")).verdict,
            fail(FailReason::WrongResult),
            "{wrong}"
        );
    }
    let raises = r#"{"args": [1], "raises": "ValueError"}"#;
    let own = "class ValueError(Exception): pass\ndef f(x): raise ValueError('x')\n";
    assert_eq!(python(raises, own).verdict, fail(FailReason::Crashed));
    let derived =
        "Base = ValueError\nclass ValueError(Base): pass\ndef f(x): raise ValueError('x')\n";
    assert_eq!(python(raises, derived).verdict, PASS);
    let raises = r#"{"args": [1], "raises": "TideError"}"#;
    assert_eq!(
        python(raises, "class TideError(Exception): pass\ndef f(x): raise TideError\n").verdict,
        PASS
    );
    let raises = r#"{"args": [1], "raises": "RangeError"}"#;
    for own in [
        "class RangeError extends Error {}\nfunction f(x) { throw new RangeError('x') }",
        "function f(x) { const e = new Error('x'); e.name = 'RangeError'; throw e }",
    ] {
        assert_eq!(javascript(raises, own).verdict, fail(FailReason::Crashed), "{own}");
    }
    assert_eq!(javascript(raises, "function f(x) { [].length = -1 }").verdict, PASS);
}

#[test]
fn every_way_to_offer_a_function_in_javascript_is_found() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed = r#"{"args": [2], "returns": 4}"#;
    for code in [
        "function f(x) { return 2 * x; }",
        "module.exports = { f: (x) => 2 * x };",
        "module.exports = (x) => 2 * x;",
        "exports.f = (x) => 2 * x;",
        "export const f = (x) => 2 * x;",
        "export default function (x) { return 2 * x; }",
        "import path from 'path';\nfunction f(x) { return path.sep.length * 2 * x; }",
        "'use strict';\nlet f = function (x) { return 2 * x; };\nconsole.log(f(1));",
    ] {
        assert_eq!(javascript(sealed, code).verdict, PASS, "{code}");
    }
    let missing = javascript(sealed, "const g = 1;");
    assert_eq!(missing.verdict, fail(FailReason::DidNotBuild));
    assert!(missing.message.unwrap().contains("does not define f"));
}

#[test]
fn one_crash_does_not_take_the_other_calls_along() {
    let sealed = "{\"args\": [1], \"returns\": 1}\n{\"args\": [0], \"returns\": 0}\n{\"args\": [3], \"returns\": 3}";
    let code = "import os\ndef f(x):\n    if x == 0: os.abort()\n    return x\n";
    let judged = python(sealed, code);
    assert_eq!((judged.verdict, judged.counts()), (fail(FailReason::Crashed), (2, 3)));
    assert_eq!(judged.tests[1].summary, "ended by signal 6 (SIGABRT)");
    assert!((judged.credit() - 2.0 / 3.0).abs() < 1e-9);
    // One that always dies is not started for ever.
    let many = "{\"args\": [0], \"returns\": 0}\n".repeat(12);
    let judged = python(&many, code);
    assert_eq!(judged.counts(), (0, 12));
    assert_eq!(judged.tests[11].summary, "not run");
}

#[test]
fn after_two_timeouts_the_rest_is_not_run() {
    let sealed = "{\"args\": [0], \"returns\": 0}\n".repeat(6);
    for code in ["def f(x):\n    while True: pass\n", "import time\ndef f(x): time.sleep(9)\n"] {
        let judged = python(&sealed, code);
        assert_eq!((judged.verdict, judged.counts()), (fail(FailReason::TimedOut), (0, 6)));
        let summary = |place: usize| judged.tests[place].summary.as_str();
        assert!(summary(1).contains("more than"), "{}", summary(1));
        assert_eq!(summary(5), "not run");
        assert_eq!(judged.notes, [""; 0]);
    }
}

#[test]
fn what_comes_out_of_the_sandbox_is_bounded() {
    let sealed = r#"{"args": [], "returns": 1}"#;
    let long = python(sealed, "def f(): return 'x' * (17 << 20)\n");
    assert_eq!(long.verdict, fail(FailReason::TooMuchOutput), "{:?}", long.tests);
    let deep = "def f():\n    x = []\n    for _ in range(5000): x = [x]\n    return x\n";
    assert_eq!(python(sealed, deep).verdict, fail(FailReason::WrongResult));
    let name = "def f(): raise type('E' * 100000, (Exception,), {})('m' * 100000)\n";
    let judged = python(sealed, name);
    assert_eq!(judged.verdict, fail(FailReason::Crashed));
    assert!(judged.tests[0].summary.len() < 200 && judged.tests[0].found.len() < 5000);
    for garbage in
        ["{", "[]", "\\xff", "{\"value\": {\"$tupel\": 1}}", "{\"raised\": {\"kinds\": []}}"]
    {
        let code = format!("import os\ndef f():\n    os.write(3, b'{garbage}\\n')\n    return 2\n");
        assert!(matches!(python(sealed, &code).verdict, Verdict::Fail(_)), "{garbage}");
    }
}

#[test]
fn a_memory_error_is_out_of_memory_and_no_crash() {
    if !needs::there(&["node"]) {
        return;
    }
    let sealed = r#"{"args": [], "returns": 1}"#;
    let judged = python(sealed, "def f(): return bytearray(1 << 60)\n");
    assert_eq!(judged.verdict, fail(FailReason::OutOfMemory));
    let judged = javascript(
        sealed,
        "function f() { const x = []; for (;;) x.push(new Array(1e5).fill(1.5)); }",
    );
    assert_eq!(judged.verdict, fail(FailReason::OutOfMemory), "{:?}", judged.tests);
}

#[test]
fn a_program_gets_arguments_files_and_input_and_leaves_files() {
    let sealed = r#"{"args": ["-n", "a b"], "stdin": "tide", "files": {"in/x.txt": "5"},
        "stdout": "-n|a b|tide|5|3\n", "files_after": {"out.txt": "done\n"}, "status": 3}"#
        .replace('\n', " ");
    let code = "import sys, os\nprint('|'.join(sys.argv[1:] + [sys.stdin.read(), open('in/x.txt').read(), \
                open('depths.txt').readline().strip()]))\nopen('out.txt', 'w').write('done')\nsys.exit(3)\n";
    let judged = judge("program", "python", "main.py", &sealed, &[("main.py", code)]);
    assert_eq!(judged.verdict, PASS, "{:?}", judged.tests);
    let no_file = code.replace("open('out.txt', 'w').write('done')", "pass");
    let judged = judge("program", "python", "main.py", &sealed, &[("main.py", &no_file)]);
    assert_eq!(judged.verdict, fail(FailReason::WrongResult));
    assert_eq!(judged.tests[0].expected, "the file `out.txt`");
}

#[test]
fn a_task_says_how_much_its_runs_may_write() {
    let sealed = &[("cases.jsonl", "{\"stdout\": \"fair\"}")][..];
    let code = |mib: u32| format!("open('f', 'wb').write(bytes({mib} << 20))\nprint('fair')\n");
    let task = TestTask {
        form: "program",
        language: "python",
        file: "a.py",
        sealed,
        ..TestTask::default()
    };
    assert_eq!(task.judge(&[("a.py", &code(8))]).verdict, PASS);
    let narrow = TestTask { disk: "3 MiB", ..task };
    assert_eq!(narrow.judge(&[("a.py", &code(1))]).verdict, PASS);
    let full = narrow.judge(&[("a.py", &code(8))]);
    assert!(matches!(full.verdict, Verdict::Fail(_)), "{full:#?}");
}

#[test]
fn each_case_begins_with_a_fresh_folder() {
    let sealed = "{\"stdout\": \"new\"}\n{\"stdout\": \"new\"}";
    let code = "[ -e mark ] && echo old || echo new; touch mark /tmp/mark; [ -e /tmp/old ] && echo old; touch /tmp/old";
    let judged = judge("program", "shell", "main.sh", sealed, &[("main.sh", code)]);
    assert_eq!(judged.verdict, PASS, "{:?}", judged.tests);
}

#[test]
fn compiled_languages_are_built_once_and_told_why_they_do_not_build() {
    if !needs::there(&["javac", "c++"]) {
        return;
    }
    let sealed = "{\"stdin\": \"2 3\", \"stdout\": \"5\"}\n{\"stdin\": \"4 5\", \"stdout\": \"9\"}";
    for (language, file, good, bad) in [
        (
            "c",
            "main.c",
            "#include <stdio.h>\nint main(void) { int a, b; scanf(\"%d %d\", &a, &b); printf(\"%d\\n\", a + b); }",
            "int main(void) { return x; }",
        ),
        (
            "c++",
            "main.cpp",
            "#include <iostream>\nint main() { int a, b; std::cin >> a >> b; std::cout << a + b; }",
            "int main() { return x; }",
        ),
        (
            "rust",
            "main.rs",
            "fn main() { let t = std::io::read_to_string(std::io::stdin()).unwrap(); let s: i32 = t.split_whitespace().map(|x| x.parse::<i32>().unwrap()).sum(); println!(\"{s}\"); }",
            "fn main() { x }",
        ),
        (
            "java",
            "Main.java",
            "public class Main { public static void main(String[] a) { var s = new java.util.Scanner(System.in); System.out.println(s.nextInt() + s.nextInt()); } }",
            "class Main { int x = y; }",
        ),
    ] {
        let judged = judge("program", language, file, sealed, &[(file, good)]);
        assert_eq!(judged.verdict, PASS, "{language}: {judged:?}");
        let judged = judge("program", language, file, sealed, &[(file, bad)]);
        assert_eq!(
            (judged.verdict, judged.counts()),
            (fail(FailReason::DidNotBuild), (0, 2)),
            "{language}"
        );
        assert!(judged.message.unwrap().contains(file), "{language}");
    }
}

/// Sources beside the answer's are built with it; headers and programs of their own are not, and whatever a
/// file is called, it is no option of the compiler.
#[test]
fn further_sources_are_built_with_the_answer() {
    if !needs::there(&["c++"]) {
        return;
    }
    let (header, level) = ("int level();\n", "#include \"tide.hpp\"\nint level() { return 3; }\n");
    let main = "#include <iostream>\n#include \"tide.hpp\"\nint main() { std::cout << level(); }\n";
    let other = "int main() { return 1; }\n";
    let files = [
        ("main.cpp", main),
        ("tide.hpp", header),
        ("parts/tide.cpp", "#include \"../tide.hpp\"\nint level() { return 3; }\n"),
        ("other.cpp", other),
        ("-Wfatal-errors.cpp", "static int unused;\n"),
    ];
    assert_eq!(judge("program", "c++", "main.cpp", "{\"stdout\": \"3\"}", &files).verdict, PASS);
    let twice = [files[0], files[1], files[2], ("tide.cpp", level)];
    let judged = judge("program", "c++", "main.cpp", "{\"stdout\": \"3\"}", &twice);
    assert_eq!(judged.verdict, fail(FailReason::DidNotBuild), "it is defined twice");
}

#[test]
fn a_compiler_is_confined_like_anything_else() {
    let secret = concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml");
    let code = format!(
        "#include <stdio.h>\nconst char *s =\n#include \"{secret}\"\n;\nint main(void) {{ puts(s); }}"
    );
    let judged = judge("program", "c", "main.c", "{\"stdout\": \"x\"}", &[("main.c", &code)]);
    assert_eq!(judged.verdict, fail(FailReason::DidNotBuild));
    assert!(judged.message.unwrap().contains("No such file"));
}

#[test]
fn a_missing_tool_is_void_and_told() {
    let mut languages = Languages::shipped();
    let reef = "[reef]\ntitle='Reef'\ntags=[]\nextensions=['reef']\ntool=['reefc']\nrun=['{tool}']";
    languages.add("r.toml", reef).unwrap();
    let files = tree(&[
        ("docket.toml", "title = \"D\""),
        (
            "t/brief.md",
            "+++\ntitle='T'\nform='program'\nlanguage='reef'\ncategory='c'\ndifficulty=1\n[program]\nfile='m.reef'\n+++\nx\n",
        ),
        ("t/sealed/cases.jsonl", "{\"stdout\": \"\"}"),
    ]);
    let docket = Docket::parse("d", &files.into(), &languages).unwrap();
    let tools = Toolbox::find(&languages, ["reef"].into_iter(), &sandbox());
    let task = &docket.tasks[0];
    let limits = limits_of(&languages, &docket.settings, task, &Default::default());
    let judged = Judge::new(languages, tools, sandbox()).judge_files(
        task,
        &tree(&[("m.reef", "")]),
        limits,
        false,
    );
    assert_eq!(judged.verdict, Verdict::Void(VoidReason::ToolMissing));
    assert_eq!(judged.notes, ["reef cannot be run here: `reefc` is not on the search path"]);
}

#[test]
fn answers_see_the_standard_library_and_the_packages_that_the_task_names() {
    // Debian's Python has pytest, and with it what that needs.
    let import = "import pluggy, sys\n";
    let sealed = "{\"args\": [3], \"returns\": 3}";
    let code = format!("{import}def f(x): return x\n");
    let judged = python(sealed, &code);
    assert_eq!(judged.verdict, fail(FailReason::DidNotBuild), "{judged:#?}");
    assert!(judged.message.unwrap().contains("No module named 'pluggy'"));
    let program = |code: &str| judge("program", "python", "main.py", CASE, &[("main.py", code)]);
    let judged = program(&format!("{import}print(int(input()) * 2)"));
    assert_eq!(judged.verdict, fail(FailReason::Crashed), "{judged:#?}");
    let found = &judged.tests[0].found;
    assert!(found.contains("line 1, in <module>") && !found.contains("driver"), "{found}");
    // What a program finds is as ever.
    let whole = "import inspect, sys\nassert __name__ == '__main__' and __file__ == '/work/main.py', __file__\n\
        assert sys.argv == ['main.py'] and sys.path[0] == '/work', (sys.argv, sys.path)\nclass A: pass\n\
        import pickle\nassert type(pickle.loads(pickle.dumps(A()))) is A\n\
        def twice(n): return n * 2\nassert 'n * 2' in inspect.getsource(twice)\nprint(twice(int(input())))\nexit()\n";
    assert_eq!(program(whole).verdict, PASS, "{:#?}", program(whole));
    let named = |packages: &str| {
        let head = format!("packages = [{packages}]");
        let sealed = &[("calls.jsonl", sealed)];
        TestTask {
            form: "call",
            language: "python",
            file: "a.py",
            table: "name = \"f\"",
            head: &head,
            sealed,
            time: 20,
            disk: "",
        }
        .judge(&[("a.py", &code)])
    };
    // Where some Python has pip, as most have, it can be named; what it has beside it cannot be imported.
    if let Some(pip) = std::env::var_os("FAIRTRIAL_TEST_ALL").map(|_| named("\"pip\"")) {
        let shown = pip.message.as_deref().or(pip.notes.first().map(String::as_str));
        assert!(shown.is_some_and(|it| it.contains("No module named 'pluggy'") || it.contains("not all")), "{pip:#?}");
    }
    let missing = named("\"no-such-package\"");
    assert_eq!(missing.verdict, Verdict::Void(VoidReason::ToolMissing), "{missing:#?}");
    assert!(missing.notes[0].contains("python with no-such-package"), "{:?}", missing.notes);
}

const CASE: &str = "{\"stdin\": \"3\", \"stdout\": \"6\"}";

#[test]
fn building_has_time_of_its_own() {
    let files = tree(&[
        ("docket.toml", "title = \"D\""),
        (
            "t/brief.md",
            "+++\ntitle='T'\nform='tests'\nlanguage='rust'\ncategory='c'\ndifficulty=1\n[tests]\nfile='toll.rs'\n\
             runner='cargo'\n[limits]\ntime=0.2\n+++\nx\n",
        ),
        (
            "t/sealed/tests/toll.rs",
            "#[test]\nfn short() {\n    assert_eq!(answer::toll(3), 6);\n}\n",
        ),
        ("t/sealed/tests.list", "short\n"),
    ]);
    let languages = Languages::shipped();
    let docket = Docket::parse("d", &files.into(), &languages).unwrap();
    let (task, sandbox) = (&docket.tasks[0], sandbox());
    let mut tools = Toolbox::find(&languages, ["rust"].into_iter(), &sandbox);
    tools.find_runner(&languages, "rust", "cargo", &sandbox);
    let limits = limits_of(&languages, &docket.settings, task, &Default::default());
    let answer = tree(&[("toll.rs", "pub fn toll(n: i32) -> i32 {\n    n * 2\n}\n")]);
    let judged = Judge::new(languages, tools, sandbox).judge_files(task, &answer, limits, false);
    assert_eq!(judged.verdict, PASS, "{judged:#?}");
}

#[test]
fn what_does_not_fit_the_calls_is_told_without_them() {
    // The sealed calls have a method that the example does not have.
    let head = "[[example]]\nsteps = [{ new = [] }, { call = \"one\", args = [], returns = 1 }]";
    let sealed = "{\"steps\": [{\"new\": []}, {\"call\": \"harbour_secret\", \"args\": [1706], \"returns\": 1}]}";
    let task = |code: &str| {
        let sealed = &[("calls.jsonl", sealed)];
        let table = "name = \"Hold\"";
        TestTask {
            form: "call",
            language: "rust",
            file: "a.rs",
            table,
            head,
            sealed,
            time: 20,
            disk: "",
        }
        .judge(&[("a.rs", code)])
    };
    let own = "pub struct Hold;\nimpl Hold {\n    pub fn new() -> Self { Hold }\n";
    let lacks = task(&format!("{own}    pub fn one(&self) -> i32 {{ 1 }}\n}}\n"));
    assert_eq!(lacks.verdict, fail(FailReason::DidNotBuild));
    let shown = lacks.message.unwrap();
    assert!(shown.contains("do not fit `Hold`") && !shown.contains("secret"), "{shown}");
    let broken = task(&format!("{own}    pub fn one(&self) -> i32 {{ \"one\" }}\n}}\n"));
    let shown = broken.message.unwrap();
    assert!(shown.contains("mismatched types") && shown.contains("a.rs:4"), "{shown}");
    assert!(!shown.contains("secret") && !shown.contains("fairtrial"), "{shown}");
}

#[test]
fn a_docket_is_read_without_what_is_somebody_s_own_and_tasks_with_all_they_have() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    std::fs::create_dir_all(path("a/given/.config")).unwrap();
    std::fs::create_dir_all(path("a/.git")).unwrap();
    for name in ["a/brief.md", "a/given/run.sh", "a/given/.config/x", ".hidden", "a/.git/config"] {
        std::fs::write(path(name), "x").unwrap();
    }
    let runnable = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(path("a/given/run.sh"), runnable).unwrap();
    std::os::unix::fs::symlink("/etc/passwd", path("link")).unwrap();
    std::os::unix::fs::symlink("/etc/passwd", path("a/given/link")).unwrap();
    let files = read_folder(folder.path(), 1 << 20).unwrap();
    let names: Vec<&str> = files.iter().map(|it| it.0.as_str()).collect();
    assert_eq!(names, ["a/brief.md", "a/given/.config/x", "a/given/link", "a/given/run.sh"]);
    let given = files.below("a/given/");
    let node = |name: &str| given.iter().find(|it| it.0.as_str() == name).unwrap().1.clone();
    assert_eq!(node("link"), Node::Link { to: b"/etc/passwd".to_vec() }, "it was not followed");
    assert!(matches!(node("run.sh"), Node::File { executable: true, .. }));
    assert!(read_folder(&path("none"), 1 << 20).is_err());
}

#[test]
fn the_demo_s_proofs_are_what_their_names_say() {
    if !needs::there(&["node", "javac", "c++"]) {
        return;
    }
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/docket");
    let languages = Languages::shipped();
    let docket = fairtrial_grading::read_docket(&folder, &languages).unwrap();
    let tasks = &docket.tasks;
    let sandbox = sandbox();
    let names = tasks.iter().flat_map(|task| task.languages(&languages));
    let mut tools = Toolbox::find(&languages, names, &sandbox);
    for task in tasks {
        if let Some(runner) = task.form.runner() {
            tools.find_runner(&languages, &task.language, runner, &sandbox);
        }
    }
    let judge = Judge::new(languages, tools, sandbox);
    for task in tasks {
        let limits = limits_of(judge.languages(), &docket.settings, task, &Default::default());
        assert!(task.proofs.iter().any(|it| it.right) && task.proofs.iter().any(|it| !it.right));
        for proof in &task.proofs {
            let Submission::Files(files) = &proof.answer else { continue };
            let judged = judge.judge_files(task, files, limits, false);
            let shown = format!("{}, {}: {judged:#?}", task.name, proof.name);
            assert_eq!(judged.verdict == PASS, proof.right, "{shown}");
            assert!(!judged.verdict.is_void(), "{shown}");
        }
    }
}
