//! What sealed unit tests cost that run apart from the answer, against the same files run plainly.

use std::path::Path;
use std::process::ExitCode;

use fairtrial_benches::{job, pair, print};
use fairtrial_core::language::Languages;
use fairtrial_core::limits::Limits;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_grading::{Docket, Judge, PosedTask, Toolbox};
use fairtrial_sandbox::{Archive, Demand, Ending, Job, Sandbox, Tier, helper_main, is_helper};

const ROUNDS: usize = 12;
const TESTS: usize = 50;

const SUMS_DECIDING: &str = "def sum_of(xs):\n    return sum(xs)\nclass Sum:\n    def __init__(self, n): self.n = n\n    def __eq__(self, other): return self.n == other.n\n";

/// A runner, its suite, and how it is run plainly.
struct Suite {
    language: &'static str,
    runner: &'static str,
    answer: (&'static str, &'static str),
    test_file: &'static str,
    tests: String,
    names: String,
    plain: &'static [&'static str],
}

/// Fifty tests of three assertions each; where `decides` is set, on objects that compare themselves.
fn pytest(decides: bool) -> Suite {
    let test = |n: usize| {
        let third = if decides {
            format!("Sum({n}) == Sum({n})")
        } else {
            format!("sum_of([{n}, {n}]) == {}", 2 * n)
        };
        format!(
            "def test_{n}():\n    assert sum_of([{n}, 1]) == {}\n    assert sum_of([]) == 0\n    assert {third}\n\n",
            n + 1
        )
    };
    Suite {
        language: "python",
        runner: "pytest",
        answer: if decides {
            ("sums.py", SUMS_DECIDING)
        } else {
            ("sums.py", "def sum_of(xs):\n    return sum(xs)\nSum = None\n")
        },
        test_file: "test_sums.py",
        tests: format!(
            "from sums import Sum, sum_of\n\n{}",
            (0..TESTS).map(test).collect::<String>()
        ),
        names: (0..TESTS).map(|n| format!("test_sums.py::test_{n}\n")).collect(),
        plain: &["-B", "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_sums.py"],
    }
}

/// The same in node, run plainly in one of two ways: by its test runner, or the file alone.
fn node(plain: &'static [&'static str]) -> Suite {
    let test = |n: usize| {
        format!(
            "test('n{n}', () => {{ assert.strictEqual(sumOf([{n}, 1]), {}); assert.strictEqual(sumOf([]), 0); assert.deepStrictEqual(pair({n}), [{n}, {n}]); }});\n",
            n + 1
        )
    };
    Suite {
        language: "javascript",
        runner: "node",
        answer: (
            "sums.js",
            "exports.sumOf = (xs) => xs.reduce((a, b) => a + b, 0);\nexports.pair = (n) => [n, n];\n",
        ),
        test_file: "sums.test.js",
        tests: format!(
            "const {{ test }} = require('node:test');\nconst assert = require('node:assert');\nconst {{ sumOf, pair }} = require('./sums.js');\n{}",
            (0..TESTS).map(test).collect::<String>()
        ),
        names: (0..TESTS).map(|n| format!("n{n}\n")).collect(),
        plain,
    }
}

fn task(suite: &Suite) -> PosedTask {
    let brief = format!(
        "+++\ntitle = \"T\"\nform = \"tests\"\nlanguage = \"{}\"\ncategory = \"c\"\ndifficulty = 1\n\
         [tests]\nfile = \"{}\"\nrunner = \"{}\"\n+++\nAdd.\n",
        suite.language, suite.answer.0, suite.runner
    );
    let mut files = FileTree::new();
    for (path, text) in [
        ("docket.toml".to_owned(), "title = \"D\"".to_owned()),
        ("t/brief.md".to_owned(), brief),
        ("t/sealed/tests.list".to_owned(), suite.names.clone()),
        (format!("t/sealed/{}", suite.test_file), suite.tests.clone()),
    ] {
        files.insert(RelPath::parse(&path).expect("a path"), text.into_bytes());
    }
    Docket::parse("d", &files.into(), &Languages::shipped()).expect("a docket").tasks.remove(0)
}

fn measure(what: &str, suite: &Suite) {
    let open = || {
        Sandbox::open(Path::new("/proc/self/exe"), Demand::Only(Tier::Full)).expect("the full tier")
    };
    let sandbox = open();
    let languages = Languages::shipped();
    let mut tools = Toolbox::find(&languages, [suite.language].into_iter(), &sandbox);
    tools.find_runner(&languages, suite.language, suite.runner, &sandbox);
    let tool = tools.runner(suite.language, suite.runner).expect("the runner").clone();
    let path = |text: &str| RelPath::parse(text).expect("a path");
    let answer = FileTree::from([(path(suite.answer.0), suite.answer.1.as_bytes().to_vec())]);
    let mut both = answer.clone();
    both.insert(path(suite.test_file), suite.tests.clone().into_bytes());
    let layer = Archive::of(&both).expect("an archive");
    let program = tool.program.to_string_lossy().into_owned();
    let command: Vec<&str> =
        [program.as_str()].into_iter().chain(suite.plain.iter().copied()).collect();
    let plain = Job { layers: vec![&layer], ..job(&command, tool.folders.clone()) };
    let judge = Judge::new(languages, tools, open());
    let task = task(suite);
    let found = pair(
        ROUNDS,
        || {
            let judged = judge.judge_files(&task, &answer, Limits::default(), false);
            assert!(judged.verdict.is_pass(), "{judged:?}");
        },
        || {
            let outcome = sandbox.run(&plain).expect("it runs");
            assert_eq!(outcome.ending, Ending::Exited(0), "{outcome:?}");
        },
    );
    print(what, found);
}

fn main() -> ExitCode {
    if is_helper() {
        return helper_main();
    }
    measure("pytest, 50 tests apart, against a plain run", &pytest(false));
    measure("the same with objects that compare themselves, and twins", &pytest(true));
    let by_runner = node(&["--test", "sums.test.js"]);
    measure("node, 50 tests apart, against a plain run", &by_runner);
    measure("the same against the file run without node's runner", &node(&["sums.test.js"]));
    ExitCode::SUCCESS
}
