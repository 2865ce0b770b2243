//! Sealed tests that share a process with the answer: no cheat passes their twins.
//!
//! `tests/cheats` has a suite, a right answer and the cheats for each runner.

use std::path::PathBuf;

use fairtrial_core::judgement::Judgement;
use fairtrial_core::verdict::{FailReason, Verdict};

use crate::env::{PASS, TestTask, fail};
use crate::needs;
use crate::suites::{borrowed, files_of};

/// A suite that was cheated.
struct Cheated {
    language: &'static str,
    runner: &'static str,
    file: &'static str,
    /// How many cheats there are at least.
    least: usize,
    /// Cheats that are not only found to be wrong but called tampering.
    named: &'static [&'static str],
}

const RUST: Cheated = Cheated {
    language: "rust",
    runner: "cargo",
    file: "toll.rs",
    least: 13,
    named: &[
        "is_equal_to_everything",
        "is_equal_to_small_numbers",
        "prints_all_that_is_printed_where_all_holds",
        "prints_what_the_runner_prints",
        "starts_before_the_program_does",
    ],
};

const GO: Cheated = Cheated {
    language: "go",
    runner: "go",
    file: "toll.go",
    least: 13,
    named: &[
        "is_equal_to_everything",
        "prints_all_that_is_printed_where_all_holds",
        "prints_what_the_runner_prints",
    ],
};

const JAVA: Cheated = Cheated {
    language: "java",
    runner: "junit5",
    file: "Toll.java",
    least: 12,
    named: &[
        "is_equal_to_everything",
        "writes_the_report_and_all_that_is_noted_where_all_holds",
        "writes_the_report_and_nothing_else",
    ],
};

impl Cheated {
    fn folder(&self) -> PathBuf {
        PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/cheats").join(self.runner)
    }

    /// Judges an answer, in which lines that begin with `@@@ ` begin a further file of that name.
    fn judge(&self, code: &str) -> Judgement {
        let mut parts = code.split("@@@ ");
        let mut files = vec![(self.file, parts.next().unwrap_or_default())];
        files.extend(parts.filter_map(|it| it.split_once('\n')));
        let table = format!("runner = \"{}\"", self.runner);
        TestTask {
            form: "tests",
            language: self.language,
            file: self.file,
            table: &table,
            sealed: &borrowed(&files_of(&self.folder().join("sealed"))),
            time: 10,
            ..TestTask::default()
        }
        .judge(&files)
    }

    fn check(&self) {
        let right = files_of(&self.folder());
        let right = right.iter().find(|it| it.0.starts_with("right.")).unwrap();
        let judged = self.judge(&right.1);
        assert_eq!((judged.verdict, judged.notes.len()), (PASS, 0), "{}: {judged:#?}", self.runner);
        let cheats = files_of(&self.folder().join("cheats"));
        assert!(cheats.len() >= self.least, "{}", cheats.len());
        let judge = |(name, code): &(String, String)| {
            let judged = self.judge(code);
            let shown = format!("{name} ({}): {judged:#?}", self.runner);
            assert!(!judged.verdict.is_pass() && !judged.verdict.is_void(), "{shown}");
            let name = name.split('.').next().unwrap();
            let is_named = judged.verdict == fail(FailReason::Tampering);
            assert!(is_named || !self.named.contains(&name), "{shown}");
        };
        let (some, others) = cheats.split_at(cheats.len() / 2);
        std::thread::scope(|scope| {
            scope.spawn(|| some.iter().for_each(judge));
            others.iter().for_each(judge);
        });
        let known = |name: &&str| cheats.iter().any(|it| it.0.starts_with(*name));
        assert!(self.named.iter().all(known));
    }
}

#[test]
fn no_cheat_passes_twins_in_rust() {
    RUST.check();
}

#[test]
fn no_cheat_passes_twins_in_go() {
    if needs::there(&["go"]) {
        GO.check();
    }
}

#[test]
fn no_cheat_passes_twins_in_java() {
    if needs::there(&["junit5"]) {
        JAVA.check();
    }
}

/// Tests each of which needs that the one before it ran.
fn in_order() -> String {
    let one = |n: usize| {
        let last = n - 1;
        format!(
            "func Test{n}(t *testing.T) {{\n\tif paid != 2*{last} {{\n\t\tt.Error(paid)\n\t}}\n\tpaid = Toll({n})\n}}\n\n"
        )
    };
    format!(
        "package answer\n\nimport \"testing\"\n\nvar paid int\n\n{}",
        (1..5).map(one).collect::<String>()
    )
}

#[test]
fn tests_that_need_their_order_are_told_so_and_can_have_it() {
    if !needs::there(&["go"]) {
        return;
    }
    let code = in_order();
    let sealed: &[(&str, &str)] =
        &[("toll_test.go", &code), ("tests.list", "Test1\nTest2\nTest3\nTest4\n")];
    let judge = |table: &str| {
        TestTask {
            form: "tests",
            language: "go",
            file: "toll.go",
            table,
            sealed,
            time: 10,
            ..TestTask::default()
        }
        .judge(&[("toll.go", "package answer\n\nfunc Toll(n int) int { return n * 2 }\n")])
    };
    let judged = judge("runner = \"go\"");
    assert_eq!(judged.verdict, fail(FailReason::WrongResult), "{judged:#?}");
    let said = judged.tests.iter().find(|it| it.failed.is_some()).map(|it| it.found.as_str());
    assert!(said.is_some_and(|it| it.contains("in another order")), "{judged:#?}");
    let judged = judge("runner = \"go\"\nprocess = \"shared\"");
    assert_eq!((judged.verdict, judged.notes.len()), (PASS, 0), "{judged:#?}");
}

/// What is put in place of something in a right answer, for one that is wrong, or ends with an error.
const WRONG: &[(&str, &str, &str)] = &[
    ("cargo", "n * 2\n", "n * 3\n"),
    ("cargo", "n * 2\n", "[6, 8][n as usize]\n"),
    ("cargo", "format!(\"Ahoy, {n}!\")", "n[..99].to_owned()"),
    ("go", "n * 2 ", "n * 3 "),
    ("go", "return \"Ahoy, \"", "return n[:99] + \"Ahoy, \""),
    ("go", "h > 20", "h > 99"),
    ("junit5", "return n * 2;", "return n * 3;"),
    ("junit5", "\"Ahoy, \" + n", "\"Ahoy, \" + n.substring(99)"),
    ("junit5", "return n * 2;", "return n > 20 ? null : 1;"),
];

#[test]
fn what_is_wrong_or_ends_with_an_error_is_no_tampering() {
    if !needs::there(&["go", "junit5"]) {
        return;
    }
    for (runner, right, wrong) in WRONG {
        let suite = [RUST, GO, JAVA].into_iter().find(|it| it.runner == *runner).unwrap();
        let files = files_of(&suite.folder());
        let code = &files.iter().find(|it| it.0.starts_with("right.")).unwrap().1;
        assert!(code.contains(right), "{runner}: {right}");
        let judged = suite.judge(&code.replace(right, wrong));
        let is_honest = matches!(
            judged.verdict,
            Verdict::Fail(FailReason::WrongResult | FailReason::Crashed | FailReason::DidNotBuild)
        );
        assert!(is_honest, "{runner}: {wrong}: {judged:#?}");
    }
}
