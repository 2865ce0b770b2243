//! What the runners of whole repositories report: to a file that they were given, or on their streams.
//!
//! Names alone collide in a repository, so each carries the file, class, package or target that it is of,
//! as its runner writes that: `tests/test_tides.py::test_gap`, `test/tides.js > gap`, `tides::gap`.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::verdict::{UnknownWord, worded};
use std::fmt;
use std::str::FromStr;

use super::{
    REPORT_MAX, ReportError, ReportedTest, Status, TESTS_MAX, TestReport, go, junit, libtest, node,
    pytest, tap, unittest,
};

worded! {
    /// How the results of a repository's tests are read.
    PrintedReport {
        /// JUnit XML.
        Junit = "junit",
        /// TAP.
        Tap = "tap",
        /// The lines of `pytest -rA`, or of `pytest -v`.
        Pytest = "pytest",
        /// The lines of `python -m unittest -v`.
        Unittest = "unittest",
        /// What Node's own runner reports.
        Node = "node",
        /// The lines of `cargo test`.
        Cargo = "cargo",
        /// The events of `go test -json`.
        Go = "go",
    }
}

/// What a run of tests left behind.
#[derive(Debug, Clone, Copy)]
pub struct Printed<'a> {
    /// The file that it was given to report to, where it was written.
    pub file: Option<&'a [u8]>,
    /// Standard output.
    pub stdout: &'a [u8],
    /// Standard error.
    pub stderr: &'a [u8],
    /// The folder of the repository, as the tests saw it.
    pub root: &'a str,
}

/// Tests as a runner itself counted them, in its last words.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct StatedCounts {
    /// Those that passed.
    pub passed: usize,
    /// Those that did not.
    pub failed: usize,
}

/// A run's report, read: each test once.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PrintedTests {
    /// Every test, in the order in which they were first reported. One that was reported in several
    /// ways has the worst of them.
    pub tests: Vec<ReportedTest>,
    /// What the runner says that it counted; `None` where it says nothing, or nobody reads it.
    pub stated: Option<StatedCounts>,
}

/// Reads what a run of tests left behind.
///
/// # Errors
/// When it is too large, or malformed beyond use.
pub fn read_printed(kind: PrintedReport, from: &Printed<'_>) -> Result<PrintedTests, ReportError> {
    let all = [from.file.unwrap_or_default(), from.stdout, from.stderr];
    if all.iter().any(|it| it.len() > REPORT_MAX) {
        return Err(ReportError::TooLarge);
    }
    let text = String::from_utf8_lossy;
    let file = from.file.filter(|it| !it.is_empty());
    let main = text(file.unwrap_or(from.stdout));
    let (report, stated) = match kind {
        PrintedReport::Junit => (junit::read(&main)?, None),
        PrintedReport::Tap => (tap::read(&main), tap::stated(&main)),
        PrintedReport::Pytest => (pytest::read(&main), pytest::stated(&main)),
        PrintedReport::Unittest => (unittest::read(&[&text(from.stderr), &main]), None),
        PrintedReport::Node => match file {
            Some(_) => (node::read(&main, from.root), None),
            None => (tap::read(&main), tap::stated(&main)),
        },
        PrintedReport::Cargo => libtest::read_targets(&main, &text(from.stderr)),
        PrintedReport::Go => (go::read_packages(&main)?, None),
    };
    if report.tests.len() > TESTS_MAX {
        return Err(ReportError::TooMany);
    }
    Ok(PrintedTests { tests: each_once(report, from.root), stated })
}

/// Each test once, under a name in which the repository's own folder does not stand.
fn each_once(report: TestReport, root: &str) -> Vec<ReportedTest> {
    let prefix = format!("{root}/");
    let (mut tests, mut places) = (Vec::<ReportedTest>::new(), BTreeMap::<String, usize>::new());
    for mut test in report.tests {
        if let Some(rest) = test.name.strip_prefix(&prefix) {
            test.name = rest.to_owned();
        }
        match places.get(&test.name) {
            Some(&at) => {
                let worse = rank(test.status) > rank(tests[at].status);
                if worse {
                    tests[at] = test;
                }
            }
            None => {
                places.insert(test.name.clone(), tests.len());
                tests.push(test);
            }
        }
    }
    tests
}

const fn rank(status: Status) -> u8 {
    match status {
        Status::Passed => 0,
        Status::Skipped => 1,
        Status::Failed => 2,
    }
}

/// Whether a reported test is meant by a name: that name, or one with more of what it is of before it.
#[must_use]
pub fn is_meant(reported: &str, name: &str) -> bool {
    reported.strip_suffix(name).is_some_and(|before| {
        before.is_empty() || ["::", " > ", ".", "/"].iter().any(|it| before.ends_with(it))
    })
}
