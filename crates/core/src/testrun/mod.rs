//! What a test runner reports, read: one outcome a test.
//!
//! Everything here was written in the candidate's own process or beside it, so it is taken to be
//! hostile: sizes are bounded, nothing is believed about order or number, and whether it is to be
//! believed at all is for others to say.

mod go;
mod junit;
mod libtest;
mod lines;
mod node;
mod printed;
mod pytest;
mod tap;
mod unittest;

pub use printed::{Printed, PrintedReport, PrintedTests, StatedCounts, is_meant, read_printed};

use serde::{Deserialize, Serialize};

use crate::verdict::{UnknownWord, worded};
use std::fmt;
use std::str::FromStr;

/// Largest report that is read, in bytes.
pub const REPORT_MAX: usize = 8 << 20;

/// Most tests of a report.
pub const TESTS_MAX: usize = 10_000;

/// Longest name and longest message of a test that are kept, in bytes.
const NAME_MAX: usize = 400;
const MESSAGE_MAX: usize = 4 << 10;

worded! {
    /// How a runner writes down what came of its tests.
    ReportKind {
        /// Lines of our own drivers.
        Lines = "lines",
        /// JUnit XML.
        Junit = "junit",
        /// TAP, versions 12 to 14.
        Tap = "tap",
        /// What `cargo test` prints.
        Libtest = "libtest",
        /// What `go test -json` prints.
        Go = "go",
    }
}

/// One test that ran.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportedTest {
    /// Its name, as its runner has it.
    pub name: String,
    /// What came of it.
    pub status: Status,
    /// What its runner said of a failure.
    pub message: String,
}

/// What came of a test.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    /// It passed.
    Passed,
    /// It did not.
    Failed,
    /// It was not run.
    Skipped,
}

/// A report, read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TestReport {
    /// Its tests, in the order of the report.
    pub tests: Vec<ReportedTest>,
    /// What a driver said when all was over; `None` where there is no driver, or it did not come to
    /// its end.
    pub mark: Option<String>,
    /// What a driver noticed that no honest program does.
    pub evidence: Vec<String>,
    /// The tests of which the answer's own code decided whether an assertion holds, such as by what it calls
    /// equal. Known only where tests run apart from it.
    pub decided: Vec<String>,
    /// The places of twins (assertions with another expectation) that held by what the answer's code decided.
    pub held: Vec<String>,
    /// Whether the answer's process was over before the tests, where it is another.
    pub gone: bool,
    /// Why tests could not even be loaded, in the runner's words.
    pub broken: Option<String>,
}

/// Why a report cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReportError {
    /// It has more bytes than are read.
    #[error("the report has more than {} MiB", REPORT_MAX >> 20)]
    TooLarge,
    /// It has more tests than are counted.
    #[error("the report has more than {TESTS_MAX} tests")]
    TooMany,
    /// It is not what it should be.
    #[error("the report is malformed: {0}")]
    Malformed(String),
}

/// Reads a report.
///
/// # Errors
/// When it is too large, or malformed beyond use.
pub fn read(kind: ReportKind, bytes: &[u8]) -> Result<TestReport, ReportError> {
    if bytes.len() > REPORT_MAX {
        return Err(ReportError::TooLarge);
    }
    let text = String::from_utf8_lossy(bytes);
    let report = match kind {
        ReportKind::Lines => lines::read(&text)?,
        ReportKind::Junit => junit::read(&text)?,
        ReportKind::Tap => tap::read(&text),
        ReportKind::Libtest => libtest::read(&text),
        ReportKind::Go => go::read(&text)?,
    };
    if report.tests.len() > TESTS_MAX {
        return Err(ReportError::TooMany);
    }
    Ok(report)
}

impl ReportedTest {
    fn new(name: &str, status: Status, message: &str) -> Self {
        Self { name: cut(name, NAME_MAX), status, message: cut(message.trim(), MESSAGE_MAX) }
    }
}

fn cut(text: &str, most: usize) -> String {
    text[..text.floor_char_boundary(most)].to_owned()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read_tests(kind: ReportKind, text: &str) -> Vec<(String, Status)> {
        let report = read(kind, text.as_bytes()).unwrap();
        report.tests.into_iter().map(|it| (it.name, it.status)).collect()
    }

    fn pair(name: &str, status: Status) -> (String, Status) {
        (name.to_owned(), status)
    }

    #[test]
    fn junit_xml_of_several_makers_is_read() {
        let text = r#"<?xml version="1.0"?><!-- x --><testsuites><testsuite name="s" tests="4">
            <testcase classname="harbour.TollTest" name="dues()" time="0.1"/>
            <testcase classname="harbour.TollTest" name="wrong()"><failure message="expected: &lt;3&gt;">at x</failure><system-out><![CDATA[<testcase name="forged"/>]]></system-out></testcase>
            <testcase name="alone"><error>boom</error></testcase>
            <testcase name="later"><skipped/></testcase></testsuite></testsuites>"#;
        let expected = [
            pair("harbour.TollTest.dues()", Status::Passed),
            pair("harbour.TollTest.wrong()", Status::Failed),
            pair("alone", Status::Failed),
            pair("later", Status::Skipped),
        ];
        assert_eq!(read_tests(ReportKind::Junit, text), expected);
        let report = read(ReportKind::Junit, text.as_bytes()).unwrap();
        assert_eq!(report.tests[1].message, "expected: <3>\nat x");
        for bad in ["", "<a>", "no xml", "<testsuite><testcase/></testsuite>", "<!DOCTYPE x>"] {
            assert!(read(ReportKind::Junit, bad.as_bytes()).is_err(), "{bad}");
        }
    }

    #[test]
    fn tap_with_subtests_and_directives_is_read() {
        let text = "TAP version 13\n# Subtest: berths\n    # Subtest: fits\n    ok 1 - fits\n      ---\n      duration_ms: 1\n      ...\n    not ok 2 - too long\n      ---\n      error: 'no'\n      ...\n    1..2\nnot ok 1 - berths\nok 2 - tolls # SKIP later\nnot ok 3 - dues # TODO some day\nok 4\n1..4\n";
        let expected = [
            pair("berths > fits", Status::Passed),
            pair("berths > too long", Status::Failed),
            pair("tolls", Status::Skipped),
            pair("dues", Status::Failed),
            pair("test 5", Status::Passed),
        ];
        assert_eq!(read_tests(ReportKind::Tap, text), expected);
        let report = read(ReportKind::Tap, text.as_bytes()).unwrap();
        assert_eq!(report.tests[1].message, "error: 'no'");
    }

    #[test]
    fn what_cargo_and_go_print_is_read() {
        let text = "running 3 tests\ntest tolls::dues ... ok\nnoise\ntest tolls::free ... FAILED\ntest slow ... ignored\n\nfailures:\n\n---- tolls::free stdout ----\nassertion failed\n\ntest result: FAILED. 1 passed; 1 failed\n";
        let expected = [
            pair("tolls::dues", Status::Passed),
            pair("tolls::free", Status::Failed),
            pair("slow", Status::Skipped),
        ];
        assert_eq!(read_tests(ReportKind::Libtest, text), expected);
        let text = "{\"Action\":\"run\",\"Test\":\"TestDues\"}\n{\"Action\":\"output\",\"Test\":\"TestDues\",\"Output\":\"no\\n\"}\n{\"Action\":\"fail\",\"Test\":\"TestDues\"}\n{\"Action\":\"pass\",\"Test\":\"TestBerth/long\"}\n{\"Action\":\"pass\",\"Test\":\"TestBerth\"}\n{\"Action\":\"fail\",\"Package\":\"x\"}\n";
        let expected = [
            pair("TestDues", Status::Failed),
            pair("TestBerth/long", Status::Passed),
            pair("TestBerth", Status::Passed),
        ];
        assert_eq!(read_tests(ReportKind::Go, text), expected);
    }

    #[test]
    fn lines_of_our_drivers_are_read_and_nothing_else_passes_for_them() {
        let text = "{\"test\": \"a\", \"status\": \"passed\"}\n{\"test\": \"b\", \"status\": \"failed\", \"message\": \"no\"}\n{\"evidence\": \"x\"}\n{\"done\": \"mark\"}\n";
        let report = read(ReportKind::Lines, text.as_bytes()).unwrap();
        assert_eq!(report.tests.len(), 2);
        assert_eq!((report.mark.as_deref(), report.evidence.len()), (Some("mark"), 1));
        for bad in ["{\"test\": 1}", "[]", "{\"test\": \"a\", \"status\": \"won\"}", "{}"] {
            assert!(read(ReportKind::Lines, bad.as_bytes()).is_err(), "{bad}");
        }
    }

    fn printed(kind: PrintedReport, stdout: &str, stderr: &str) -> Vec<(String, Status)> {
        let (stdout, stderr) = (stdout.as_bytes(), stderr.as_bytes());
        let from = Printed { file: None, stdout, stderr, root: "/work" };
        let tests = read_printed(kind, &from).unwrap().tests;
        tests.into_iter().map(|it| (it.name, it.status)).collect()
    }

    #[test]
    fn a_sharp_that_begins_no_directive_belongs_to_the_name() {
        let text = "ok 1 - berth #4 is free\nok 2 - toll # skipper pays\nok 3 - later # SKIP\nok 4 - c\\#\n";
        let expected = [
            pair("berth #4 is free", Status::Passed),
            pair("toll", Status::Skipped),
            pair("later", Status::Skipped),
            pair("c#", Status::Passed),
        ];
        assert_eq!(read_tests(ReportKind::Tap, text), expected);
    }

    #[test]
    fn pytest_s_summary_and_its_verbose_lines_are_read() {
        let text = "PASSED tests/test_a.py::test_p[a b]\nSKIPPED [1] tests/test_a.py:6: later\nXFAIL t.py::x - reason: y\nXPASS t.py::xp \n\
            ERROR tests/test_a.py::test_fix - RuntimeError: b\nFAILED tests/test_a.py::test_p[c - d] - AssertionError: a - b\nFAILED t.py::bad - no [x] - y\n\
            PASSED tests/test_a.py::test_fix\nFAILED nothing\n== 2 failed, 3 passed, 1 skipped, 1 error in 0.07s (0:00:01) ===\n";
        let expected = [
            pair("tests/test_a.py::test_p[a b]", Status::Passed),
            pair("t.py::x", Status::Skipped),
            pair("t.py::xp", Status::Passed),
            pair("tests/test_a.py::test_fix", Status::Failed),
            pair("tests/test_a.py::test_p[c - d]", Status::Failed),
            pair("t.py::bad", Status::Failed),
        ];
        assert_eq!(printed(PrintedReport::Pytest, text, ""), expected);
        let from = Printed { file: None, stdout: text.as_bytes(), stderr: b"", root: "" };
        let stated = read_printed(PrintedReport::Pytest, &from).unwrap().stated;
        assert_eq!(stated, Some(StatedCounts { passed: 3, failed: 3 }));
        let text = "tests/test_a.py::test_x PASSED        [  7%]\ntests/test_a.py::test_s SKIPPED (later) [100%]\n";
        let expected = [
            pair("tests/test_a.py::test_x", Status::Passed),
            pair("tests/test_a.py::test_s", Status::Skipped),
        ];
        assert_eq!(printed(PrintedReport::Pytest, text, ""), expected);
    }

    #[test]
    fn unittest_s_lines_are_read_whatever_tests_print() {
        let text = "test_e (tests.test_a.T.test_e) ... expected failure\ntest_sub (tests.test_a.T.test_sub) ... \n  test_sub (tests.test_a.T.test_sub) (i=1) ... FAIL\n\
            test_u (tests.test_a.T.test_u)\nFirst line of docs. ... noise ok\nFAIL\ntest_v (tests.test_a.T) ... ok\ntest_n (tests.test_a.T.test_n) ... printed\nok\n\
            test_w (tests.test_a.T.test_w) ... skipped 'q'\n\n======\nFAIL: test_sub (tests.test_a.T.test_sub) (i=1)\n------\nTraceback\n\n======\nERROR: test_u (tests.test_a.T.test_u)\nFirst line\n------\nwhy\n\n\
            Ran 5 tests in 0.002s\n\nFAILED (failures=2)\n";
        let expected = [
            pair("tests.test_a.T.test_e", Status::Skipped),
            pair("tests.test_a.T.test_sub", Status::Failed),
            pair("tests.test_a.T.test_u", Status::Failed),
            pair("tests.test_a.T.test_v", Status::Passed),
            pair("tests.test_a.T.test_n", Status::Passed),
            pair("tests.test_a.T.test_w", Status::Skipped),
        ];
        assert_eq!(printed(PrintedReport::Unittest, "", text), expected);
    }

    #[test]
    fn targets_packages_and_files_stand_before_names() {
        let stdout = "\nrunning 1 test\ntest toll::free ... ok\n\ntest result: ok. 1 passed; 0 failed; 0 ignored\n\nrunning 1 test\ntest free ... FAILED\n\nfailures:\n\n---- free stdout ----\nno\n\n\
            test result: FAILED. 0 passed; 1 failed; 0 ignored\n";
        let stderr = "   Compiling harbour v0.1.0\n     Running unittests src/lib.rs (target/debug/deps/harbour-0f1a)\n     Running tests/tolls.rs (target/debug/deps/tolls-93ab)\n";
        let expected =
            [pair("harbour::toll::free", Status::Passed), pair("tolls::free", Status::Failed)];
        assert_eq!(printed(PrintedReport::Cargo, stdout, stderr), expected);
        let mixed = stdout.replacen("\nrunning", &format!("{stderr}\nrunning"), 1);
        assert_eq!(printed(PrintedReport::Cargo, &mixed, "")[0].0, "tolls::toll::free");
        let events = "{\"Action\":\"pass\",\"Package\":\"merrow/tolls\",\"Test\":\"TestFree\"}\n";
        assert_eq!(
            printed(PrintedReport::Go, events, ""),
            [pair("merrow/tolls::TestFree", Status::Passed)]
        );
        let file = "{\"name\":\"in\",\"nesting\":1,\"file\":\"/work/test/a.js\",\"passed\":true}\n{\"name\":\"deep\",\"nesting\":2,\"file\":\"/work/test/a.js\",\"passed\":false}\n\
            {\"name\":\"inner\",\"nesting\":1,\"passed\":false,\"is_suite\":true}\n{\"name\":\"group\",\"nesting\":0,\"file\":\"/work/test/a.js\",\"passed\":false,\"is_suite\":true}\n\
            {\"name\":\"top\",\"nesting\":0,\"file\":\"/work/test/b.js\",\"passed\":true}\n";
        let from = Printed { file: Some(file.as_bytes()), stdout: b"", stderr: b"", root: "/work" };
        let tests = read_printed(PrintedReport::Node, &from).unwrap().tests;
        let names: Vec<&str> = tests.iter().map(|it| it.name.as_str()).collect();
        assert_eq!(
            names,
            ["test/a.js > group > in", "test/a.js > group > inner > deep", "test/b.js > top"]
        );
        assert!(
            is_meant("test/a.js > group > in", "group > in")
                && !is_meant("test/a.js > group > in", "n")
        );
    }

    #[test]
    fn what_is_too_much_is_refused() {
        let kinds = ReportKind::ALL;
        let large = vec![b' '; REPORT_MAX + 1];
        assert!(kinds.iter().all(|&kind| read(kind, &large) == Err(ReportError::TooLarge)));
        let many = "ok 1 - x\n".repeat(TESTS_MAX + 1);
        assert_eq!(read(ReportKind::Tap, many.as_bytes()), Err(ReportError::TooMany));
        let long = format!("ok 1 - {}\n", "å".repeat(9000));
        assert!(read_tests(ReportKind::Tap, &long)[0].0.len() <= NAME_MAX);
        let deep = "<testsuite>".repeat(200_000);
        assert!(read(ReportKind::Junit, deep.as_bytes()).is_err());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(300))]

        #[test]
        fn no_bytes_make_a_reader_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            for &kind in ReportKind::ALL {
                let _ = read(kind, &bytes);
            }
        }

        #[test]
        fn nothing_that_looks_like_a_report_does_either(
            parts in proptest::collection::vec(prop_oneof![
                Just("<testcase name=\""), Just("\">"), Just("</testcase>"), Just("<failure"),
                Just("<![CDATA["), Just("]]>"), Just("&#x0;"), Just("&amp;"), Just("<testsuite>"),
                Just("ok 1 - "), Just("not ok "), Just("\n    "), Just("# Subtest: "), Just("  ---\n"),
                Just("test a ... "), Just("FAILED\n"), Just("---- a stdout ----\n"), Just("1..9\n"),
                Just("{\"Action\":\"pass\",\"Test\":\""), Just("\"}\n"), Just("{\"test\":\""), Just("\u{202e}å"),
                Just("PASSED a::b[c - "), Just("] - x\n"), Just("PASSED [ 3%]\n"), Just("test_a (b.c) ... "),
                Just("FAIL: test_a (b.c)\n"), Just("running 1 test\n"), Just("Running x (a/b-c)\n"),
                Just("{\"name\":\"n\",\"nesting\":3,\"passed\":true}\n"), Just("3 failed, "), Just(" in 1s\n"),
            ], 0..60),
        ) {
            let text = parts.concat();
            for &kind in ReportKind::ALL {
                if let Ok(report) = read(kind, text.as_bytes()) {
                    prop_assert!(report.tests.iter().all(|it| it.name.len() <= NAME_MAX));
                }
            }
            for &kind in PrintedReport::ALL {
                let text = text.as_bytes();
                for file in [None, Some(text)] {
                    let from = Printed { file, stdout: text, stderr: text, root: "/work" };
                    if let Ok(report) = read_printed(kind, &from) {
                        prop_assert!(report.tests.iter().all(|it| it.name.len() <= NAME_MAX));
                    }
                }
            }
        }
    }
}
