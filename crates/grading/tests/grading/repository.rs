//! Changes to repositories: right ones, wrong ones, and such as would rather change the judge.

use std::path::Path;

use fairtrial_core::answer::{AnswerEnd, Deviation, Submission};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Languages;
use fairtrial_core::plan::ReadingMode;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_grading::{Docket, Judge, JudgeOptions, JudgedSubmission, Toolbox, limits_of};

use crate::env::{PASS, fail, sandbox, tree};
use crate::needs;

/// A repository task, in memory.
struct Harbour {
    docket: Docket,
    judge: Judge,
    _store: tempfile::TempDir,
}

impl Harbour {
    /// `table` are further lines of `[repository]`; `files` lie in the task's folder.
    fn new(language: &str, table: &str, files: &[(&str, &str)]) -> Self {
        let brief = format!(
            "+++\ntitle = \"T\"\nform = \"repository\"\nlanguage = \"{language}\"\ncategory = \"c\"\n\
             difficulty = 1\n[repository]\nsource = \"source\"\n{table}\n[limits]\ntime = 12\n\
             memory = \"1 GiB\"\n+++\nDo it.\n"
        );
        let mut all = vec![
            ("docket.toml".to_owned(), "title = \"D\""),
            ("t/brief.md".to_owned(), brief.as_str()),
        ];
        all.extend(files.iter().map(|(path, text)| (format!("t/{path}"), *text)));
        let all: Vec<(&str, &str)> =
            all.iter().map(|(path, text)| (path.as_str(), *text)).collect();
        let languages = Languages::shipped();
        let docket = Docket::parse("d", &tree(&all).into(), &languages).unwrap();
        let store = tempfile::tempdir().unwrap();
        let sandbox = sandbox().with_store(store.path().join("trees")).unwrap();
        let names = docket.tasks[0].languages(&languages);
        let tools = Toolbox::find(&languages, names.into_iter(), &sandbox);
        let judge = Judge::new(languages, tools, sandbox);
        Self { docket, judge, _store: store }
    }

    fn submit(&self, submission: &Submission, reading: ReadingMode) -> JudgedSubmission {
        let task = &self.docket.tasks[0];
        let settings = &self.docket.settings;
        let limits = limits_of(self.judge.languages(), settings, task, &Default::default());
        let options = JudgeOptions { limits, reading, end: AnswerEnd::Complete, examples: false };
        self.judge.judge_submission(task, submission, options)
    }

    fn patch(&self, patch: &str) -> Judgement {
        self.submit(&Submission::Patch(patch.into()), ReadingMode::Lenient).judgement
    }

    /// Judges whole files in the place of those that are there.
    fn files(&self, files: &[(&str, &str)]) -> Judgement {
        self.submit(&Submission::Files(tree(files)), ReadingMode::Lenient).judgement
    }
}

const TOLL: &str =
    "def toll(length):\n    return length * 2\n\n\ndef label(ship):\n    return ship.upper()\n";

const TOLL_RIGHT: &str = "def toll(length):\n    if length < 0:\n        raise ValueError(\"length\")\n    return length * 3\n\n\ndef label(ship):\n    return ship.upper()\n";

const PATCH: &str = "diff --git a/harbour/toll.py b/harbour/toll.py\nindex 1111111..2222222 100644\n--- a/harbour/toll.py\n+++ b/harbour/toll.py\n\
    @@ -1,4 +1,6 @@\n def toll(length):\n-    return length * 2\n+    if length < 0:\n+        raise ValueError(\"length\")\n+    return length * 3\n \n \n";

const OLD_TESTS: &str = "from harbour.toll import label, toll\n\n\ndef test_label():\n    assert label(\"auk\") == \"AUK\"\n\n\ndef test_zero():\n    assert toll(0) == 0\n";

const NEW_TESTS: &str = "import pytest\n\nfrom harbour.toll import label, toll\n\n\ndef test_label():\n    assert label(\"auk\") == \"AUK\"\n\n\n\
    def test_zero():\n    assert toll(0) == 0\n\n\ndef test_toll():\n    assert toll(7) == 21\n\n\n@pytest.mark.parametrize(\"length\", [-1, -20])\ndef test_negative(length):\n    with pytest.raises(ValueError):\n        toll(length)\n";

const PYTEST: &str = "test = \"/usr/bin/python3 -m pytest -rA -q\"\nreport = \"pytest\"\n\
    turn_green = [\"tests/test_toll.py::test_toll\", \"tests/test_toll.py::test_negative[-1]\", \"tests/test_toll.py::test_negative[-20]\"]\n\
    stay_green = [\"tests/test_toll.py::test_label\", \"tests/test_toll.py::test_zero\"]\nprotected = [\"tests/**\"]\nexpected = [\"harbour/toll.py\"]";

fn with_pytest(table: &str) -> Harbour {
    Harbour::new(
        "python",
        table,
        &[
            ("source/harbour/__init__.py", ""),
            ("source/harbour/toll.py", TOLL),
            ("source/tests/test_toll.py", OLD_TESTS),
            ("source/.gitignore", "__pycache__/\n"),
            ("source/pyproject.toml", "[tool.pytest.ini_options]\npythonpath = [\".\"]\n"),
            ("sealed/tests/test_toll.py", NEW_TESTS),
            ("proofs/right.patch", PATCH),
        ],
    )
}

#[test]
fn a_change_is_judged_by_the_tests_that_change_their_colour() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let harbour = with_pytest(PYTEST);
    let right = harbour.patch(PATCH);
    assert_eq!(right.verdict, PASS, "{right:?}");
    assert_eq!((right.counts(), right.notes.len()), ((5, 5), 0), "{:?}", right.notes);
    let facts = right.change.unwrap();
    assert_eq!((facts.added, facts.removed, facts.like_right), (3, 1, Some((1, 1))));
    let nothing = harbour.patch("");
    assert_eq!(nothing.verdict, fail(FailReason::EmptyChange));
    let part = harbour.files(&[("harbour/toll.py", &TOLL.replace("* 2", "* 3"))]);
    assert_eq!(part.verdict, fail(FailReason::WrongResult));
    assert!(part.notes[0].starts_with("2 of the 3 tests that must turn green"), "{:?}", part.notes);
    let tests_only = harbour.files(&[("tests/test_toll.py", "def test_toll(): pass\n")]);
    assert_eq!(tests_only.verdict, fail(FailReason::WrongResult));
    assert!(tests_only.notes[0].contains("`tests/test_toll.py` was put back"));
    assert_eq!(tests_only.change.unwrap().put_back, ["tests/test_toll.py"]);
    let breaks = TOLL_RIGHT.replace("upper", "lower");
    let breaks = harbour.files(&[("harbour/toll.py", &breaks)]);
    assert_eq!(breaks.verdict, fail(FailReason::BrokeWhatWorked));
    assert!(breaks.notes[0].contains("`tests/test_toll.py::test_label`"), "{:?}", breaks.notes);
    let does_not_load = harbour.files(&[("harbour/toll.py", "def toll(:\n")]);
    assert_eq!(does_not_load.verdict, fail(FailReason::DidNotBuild));
    let endless = harbour.files(&[("harbour/toll.py", "while True: pass\n")]);
    assert_eq!(endless.verdict, fail(FailReason::TimedOut));
}

#[test]
fn a_patch_that_drifted_passes_leniently_and_says_what_was_forgiven() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let harbour = with_pytest(PYTEST);
    let names = "--- a/harbour/toll.py\n+++ b/harbour/toll.py\n";
    let hunk = &PATCH[PATCH.find("@@").unwrap()..];
    for (patch, deviations) in [
        (PATCH.replace("index 1111111..2222222 100644\n", ""), vec![]),
        (format!("{names}{hunk}"), vec![]),
        (format!("{}{hunk}", names.replace("a/", "").replace("b/", "")), vec![]),
        (PATCH.replace("-1,4 +1,6", "-40,4 +44,6"), vec![Deviation::PatchLines]),
        (PATCH.replace('\n', "\r\n"), vec![Deviation::PatchLineEnds]),
        (PATCH.replace("-1,4 +1,6", "-1,9 +1,2"), vec![Deviation::PatchHead]),
    ] {
        // Lines of a text have no ends of their own.
        let text = Submission::Text(format!("```diff\n{}```\n", patch.replace('\r', "")));
        for submission in [Submission::Patch(patch.clone().into_bytes()), text] {
            let judged = harbour.submit(&submission, ReadingMode::Lenient);
            assert_eq!(judged.judgement.verdict, PASS, "{patch}: {:?}", judged.judgement.message);
            let is_text = matches!(submission, Submission::Text(_));
            let forgiven = |it: &&Deviation| !is_text || **it != Deviation::PatchLineEnds;
            let expected: Vec<Deviation> = deviations.iter().filter(forgiven).copied().collect();
            assert_eq!(judged.deviations, expected, "{patch}");
        }
    }
    let drifted = Submission::Patch(PATCH.replace("-1,4 +1,6", "-40,4 +44,6").into_bytes());
    let strict = harbour.submit(&drifted, ReadingMode::Strict).judgement;
    assert_eq!(strict.verdict, fail(FailReason::NotAsAsked));
    let unfit = harbour.patch(&PATCH.replace("length * 2", "length * 9"));
    assert_eq!(unfit.verdict, fail(FailReason::PatchDoesNotApply));
}

/// What a cheat prints in the place of a runner.
const FORGED: &str = "print(\"PASSED tests/test_toll.py::test_toll\\nPASSED tests/test_toll.py::test_negative[-1]\\nPASSED tests/test_toll.py::test_negative[-20]\\n\
    PASSED tests/test_toll.py::test_label\\nPASSED tests/test_toll.py::test_zero\\n5 passed in 0.01s\", flush=True)";

#[test]
fn no_change_that_meddles_with_pytest_passes() {
    if !needs::there(&["pytest"]) {
        return;
    }
    let harbour = with_pytest(PYTEST);
    let forge = format!("import os\n{FORGED}\nos._exit(0)\n");
    let hook = "import pytest\n@pytest.hookimpl(hookwrapper=True)\ndef pytest_runtest_makereport(item, call):\n    out = yield\n    report = out.get_result()\n    report.outcome = \"passed\"\n    report.longrepr = None\n";
    let patch_runner = "import _pytest.runner as r\nold = r.CallInfo.from_call.__func__\ndef new(cls, func, when, **kw):\n    info = old(cls, func, when, **kw)\n    info.excinfo = None\n    return info\nr.CallInfo.from_call = classmethod(new)\n";
    let silence = "import builtins, _pytest.python as p\nold = p.Function.runtest\ndef runtest(self):\n    try:\n        old(self)\n    except BaseException:\n        pass\np.Function.runtest = runtest\n";
    let at_exit = "import atexit, os\natexit.register(lambda: os._exit(0))\n";
    let skip = "import pytest\npytest.skip = None\nimport _pytest.outcomes as o\no.fail = lambda *a, **k: None\n";
    let equal = "class Any:\n    def __eq__(self, other): return True\n    def __mul__(self, other): return self\ndef toll(length):\n    return Any()\ndef label(ship):\n    return Any()\n";
    let with = |code: &str| format!("{code}\n{TOLL}");
    let addopts =
        "[tool.pytest.ini_options]\naddopts = \"-p harbour.evil\"\npythonpath = [\".\"]\n";
    for (what, files) in [
        ("a module in the place of pytest", vec![("pytest.py", forge.clone())]),
        (
            "a package in its place",
            vec![("pytest/__init__.py", forge.clone()), ("pytest/__main__.py", forge.clone())],
        ),
        ("a conftest at the top", vec![("conftest.py", hook.to_owned())]),
        ("a conftest beside the tests", vec![("tests/conftest.py", hook.to_owned())]),
        (
            "an entry point",
            vec![
                ("x-1.dist-info/entry_points.txt", "[pytest11]\nx = harbour.evil\n".to_owned()),
                ("x-1.dist-info/METADATA", "Name: x\nVersion: 1\n".to_owned()),
                ("harbour/evil.py", hook.to_owned()),
            ],
        ),
        (
            "a plugin by the manifest",
            vec![("pyproject.toml", addopts.to_owned()), ("harbour/evil.py", hook.to_owned())],
        ),
        (
            "a start-up file",
            vec![("sitecustomize.py", forge.clone()), ("usercustomize.py", forge.clone())],
        ),
        ("ini files", vec![("pytest.ini", "[pytest]\naddopts = --co\n".to_owned())]),
        (
            "an end while it is loaded",
            vec![("harbour/toll.py", "import os\nos._exit(0)\n".to_owned())],
        ),
        ("a forged report", vec![("harbour/toll.py", forge.clone())]),
        ("a forged report and the true one", vec![("harbour/toll.py", with(FORGED))]),
        ("a patched runner", vec![("harbour/toll.py", with(patch_runner))]),
        ("a patched test", vec![("harbour/toll.py", with(silence))]),
        ("another exit status", vec![("harbour/toll.py", with(at_exit))]),
        ("patched outcomes", vec![("harbour/toll.py", with(skip))]),
        ("a value that equals all", vec![("harbour/toll.py", equal.to_owned())]),
        (
            "the tests themselves",
            vec![("tests/test_toll.py", "def test_toll(): pass\n".to_owned())],
        ),
        (
            "standard library in its place",
            vec![(
                "harbour/toll.py",
                with(
                    "import sys\nsys.modules['pytest'].raises = lambda *a, **k: __import__('contextlib').suppress(Exception)",
                ),
            )],
        ),
    ] {
        let files: Vec<(&str, &str)> =
            files.iter().map(|(path, text)| (*path, text.as_str())).collect();
        let judged = harbour.files(&files);
        assert!(matches!(judged.verdict, Verdict::Fail(_)), "{what}: {judged:?}");
    }
}

const BOARD: &str = "'use strict';\nfunction rows(n) { return n; }\nfunction top(list) { return list[0]; }\nmodule.exports = { rows, top };\n";

const BOARD_TESTS: &str = "const { test } = require('node:test');\nconst assert = require('node:assert');\nconst { rows, top } = require('../lib/board');\n\
    test('top', () => { assert.strictEqual(top([4, 5]), 4); });\ntest('rows', () => { assert.strictEqual(rows(3), 6); });\ntest('no rows', () => { assert.throws(() => rows(-1), /rows/); });\n";

#[test]
fn no_change_that_meddles_with_node_s_runner_passes() {
    if !needs::there(&["node"]) {
        return;
    }
    for command in ["npm test", "node --test --test-reporter=tap"] {
        if command.starts_with("npm") && !Path::new("/usr/bin/npm").exists() {
            continue;
        }
        let table = format!(
            "test = \"{command}\"\nreport = \"node\"\nturn_green = [\"rows\", \"no rows\"]\nstay_green = [\"top\"]\nprotected = [\"test/**\"]"
        );
        let harbour = Harbour::new(
            "javascript",
            &table,
            &[
                (
                    "source/package.json",
                    "{\"name\": \"b\", \"scripts\": {\"test\": \"node --test\"}}",
                ),
                ("source/lib/board.js", BOARD),
                ("source/test/board.test.js", &BOARD_TESTS.replace("rows(3), 6", "rows(0), 0")),
                ("sealed/test/board.test.js", BOARD_TESTS),
            ],
        );
        let right = BOARD.replace("return n;", "if (n < 0) throw new Error('rows'); return n * 2;");
        let judged = harbour.files(&[("lib/board.js", &right)]);
        assert_eq!(judged.verdict, PASS, "{command}: {judged:?}");
        let forged = "TAP version 13\\nok 1 - top\\nok 2 - rows\\nok 3 - no rows\\n1..3\\n# tests 3\\n# pass 3\\n# fail 0\\n";
        let print = format!("process.stdout.write('{forged}'); process.exit(0);");
        let manifest = format!(
            "{{\"name\": \"b\", \"scripts\": {{\"test\": \"node -e \\\"{}\\\"\"}}}}",
            print.replace('\\', "\\\\")
        );
        let patched = "const a = require('node:assert'); for (const k of ['strictEqual', 'deepStrictEqual', 'throws', 'ok', 'equal']) a[k] = () => {};";
        let stopped = "process.exit(0);";
        let report = "require('fs').writeFileSync('/tmp/report', ['top', 'rows', 'no rows'].map((name) => JSON.stringify({ name, nesting: 0, file: '/work/test/board.test.js', passed: true })).join('\\n')); process.exit(0);";
        let events = "const t = require('node:test'); t.test = (name, f) => require('node:module') && t.it(name, () => {});";
        for (what, files) in [
            ("another command", vec![("package.json", manifest.clone())]),
            ("a forged report", vec![("lib/board.js", print.clone())]),
            ("patched assertions", vec![("lib/board.js", format!("{patched}\n{BOARD}"))]),
            ("an end while it is loaded", vec![("lib/board.js", stopped.to_owned())]),
            ("a report of its own", vec![("lib/board.js", report.to_owned())]),
            ("a patched runner", vec![("lib/board.js", format!("{events}\n{BOARD}"))]),
            (
                "modules beside the tests",
                vec![("test/node_modules/node:assert/index.js", patched.to_owned())],
            ),
        ] {
            let files: Vec<(&str, &str)> =
                files.iter().map(|(path, text)| (*path, text.as_str())).collect();
            let judged = harbour.files(&files);
            assert!(matches!(judged.verdict, Verdict::Fail(_)), "{command}, {what}: {judged:?}");
        }
    }
}

#[test]
fn a_crate_is_judged_by_cargo_and_its_settings_are_its_own() {
    if !needs::there(&["cargo"]) {
        return;
    }
    let lib = "pub fn toll(length: u32) -> u32 {\n    length * 2\n}\n\n#[cfg(test)]\nmod tests {\n    #[test]\n    fn zero() {\n        assert_eq!(super::toll(0), 0);\n    }\n}\n";
    let table = "test = \"cargo test --offline\"\nreport = \"cargo\"\nturn_green = [\"tolls::seven\"]\nstay_green = [\"harbour::tests::zero\", \"tolls::zero\"]\n\
        prepare = [\"cargo build --offline --tests\"]\nprotected = [\"tests/**\"]";
    let tests = "#[test]\nfn zero() {\n    assert_eq!(harbour::toll(0), 0);\n}\n\n#[test]\nfn seven() {\n    assert_eq!(harbour::toll(7), 21);\n}\n";
    let harbour = Harbour::new(
        "rust",
        table,
        &[
            (
                "source/Cargo.toml",
                "[package]\nname = \"harbour\"\nversion = \"0.1.0\"\nedition = \"2021\"\n",
            ),
            (
                "source/Cargo.lock",
                "version = 3\n\n[[package]]\nname = \"harbour\"\nversion = \"0.1.0\"\n",
            ),
            ("source/.gitignore", "/target\n"),
            ("source/src/lib.rs", lib),
            (
                "source/tests/tolls.rs",
                "#[test]\nfn zero() {\n    assert_eq!(harbour::toll(0), 0);\n}\n",
            ),
            ("sealed/tests/tolls.rs", tests),
        ],
    );
    let right = lib.replace("* 2", "* 3");
    let judged = harbour.files(&[("src/lib.rs", &right)]);
    assert_eq!(judged.verdict, PASS, "{judged:?}");
    let exits =
        lib.replace("length * 2", "if length == 7 { std::process::exit(0) }\n    length * 2");
    for (what, files) in [
        ("an unchanged crate", vec![("README.md", "x".to_owned())]),
        ("a runner of its own", vec![(".cargo/config.toml", "[target.x86_64-unknown-linux-gnu]\nrunner = \"true\"\n".to_owned())]),
        ("an end in the middle", vec![("src/lib.rs", exits)]),
        ("what does not compile", vec![("src/lib.rs", "pub fn toll(".to_owned())]),
        ("no tests at all", vec![("Cargo.toml", "[package]\nname = \"harbour\"\nversion = \"0.1.0\"\nedition = \"2021\"\nautotests = false\n".to_owned())]),
    ] {
        let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (*path, text.as_str())).collect();
        let judged = harbour.files(&files);
        assert!(matches!(judged.verdict, Verdict::Fail(_)), "{what}: {judged:?}");
    }
}

#[test]
fn a_task_that_does_not_hold_is_void_with_the_reason() {
    if !needs::there(&["pytest"]) {
        return;
    }
    for (from, to, part) in [
        (
            "stay_green = [",
            "stay_green = [\"tests/test_toll.py::nobody\", ",
            "`tests/test_toll.py::nobody` is not reported",
        ),
        ("-rA -q", "--co -q", "no result of a test can be read as `pytest`"),
        (
            "test = \"/usr/bin",
            "prepare = [\"echo why; exit 4\"]\ntest = \"/usr/bin",
            "`prepare` command 1 (`echo why; exit 4`) ended with status 4: why",
        ),
        (
            "test = \"/usr/bin",
            "show = [\"/\"]\ntest = \"/usr/bin",
            "holds more than code under trial may see",
        ),
    ] {
        let judged = with_pytest(&PYTEST.replacen(from, to, 1)).patch(PATCH);
        assert_eq!(judged.verdict, Verdict::Void(VoidReason::Preflight), "{part}: {judged:?}");
        assert!(judged.notes[0].contains(part), "{part}: {:?}", judged.notes);
    }
    let green_before = PYTEST
        .replace("stay_green = [\"tests/test_toll.py::test_label\", ", "stay_green = [")
        .replace("turn_green = [", "turn_green = [\"tests/test_toll.py::test_label\", ");
    let judged = with_pytest(&green_before).patch(PATCH);
    assert_eq!(judged.verdict, Verdict::Void(VoidReason::Preflight));
    assert!(
        judged.notes[0].contains("of `turn_green` `tests/test_toll.py::test_label` passes"),
        "{:?}",
        judged.notes
    );
}
