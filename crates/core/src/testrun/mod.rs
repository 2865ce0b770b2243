//! What a test runner reports, read: one outcome a test.
//!
//! Everything here was written in the candidate's own process or beside it, so it is taken to be
//! hostile: sizes are bounded, nothing is believed about order or number, and whether it is to be
//! believed at all is for others to say.

mod go;
mod junit;
mod libtest;
mod lines;
mod tap;

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
            ], 0..60),
        ) {
            let text = parts.concat();
            for &kind in ReportKind::ALL {
                if let Ok(report) = read(kind, text.as_bytes()) {
                    prop_assert!(report.tests.iter().all(|it| it.name.len() <= NAME_MAX));
                }
            }
        }
    }
}
