//! Runners of unit tests.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::testrun::ReportKind;
use crate::tree::RelPath;

/// A runner of unit tests. Further places to fill: `{report}`, where a report is to be written
/// when it is not printed; `{files}`, alone in its argument, for the sealed test files.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TestRunner {
    /// Arguments with which the tool succeeds when the runner is there. Empty: it comes with the
    /// tool.
    #[serde(default)]
    pub probe: Vec<String>,
    /// Further programs that are needed, found on the search path.
    #[serde(default)]
    pub also: Vec<String>,
    /// Files that are put beside the answer, by path, such as a manifest.
    #[serde(default)]
    pub lay: BTreeMap<String, String>,
    /// Commands that fail when the answer does not build or load by itself, without any test. What
    /// they print then goes back to the candidate.
    #[serde(default)]
    pub check: Vec<Vec<String>>,
    /// Commands that build the answer by itself, before any sealed file is there.
    #[serde(default)]
    pub build_answer: Vec<Vec<String>>,
    /// Commands that make something to run.
    #[serde(default)]
    pub build: Vec<Vec<String>>,
    /// The command that runs the tests.
    pub command: Vec<String>,
    /// How it runs tests apart from the answer; `None`: it cannot.
    #[serde(default)]
    pub apart: Option<ApartRunner>,
    /// How it reports.
    pub report: ReportKind,
    /// The file that it reports to; empty: it prints the report, or one of our drivers sends it.
    #[serde(default)]
    pub file: String,
    /// As which language's its tests are taken apart, to be written anew for each run where they share a process with
    /// the answer: `python`, `javascript`, `rust`, `go` or `java`; empty: they are not.
    #[serde(default)]
    pub twins: String,
    /// Of older definitions, and no longer used.
    #[serde(default, skip_serializing)]
    pub canaries: String,
    /// Of older definitions, and no longer used.
    #[serde(default, skip_serializing)]
    pub failed_status: Vec<i32>,
    /// How the files are called that hold tests: `test_*.py`; several with white space between.
    #[serde(default)]
    pub pattern: String,
    /// What other files of the language say that hold tests, too. Empty: none do.
    #[serde(default)]
    pub mark: String,
    /// Whether files that hold tests are blank when the tests are run, since they were built or are
    /// sent to the driver.
    #[serde(default)]
    pub blank: bool,
    /// Files that it picks up by itself, which are not taken from a candidate: names, endings after
    /// `*`, folders before `/`, or beginnings of whole paths after `/`.
    #[serde(default)]
    pub config: Vec<String>,
    /// Environment set for build and run.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// What shows whether it can be run.
    pub sample: Option<TestRunnerSample>,
}

/// What tests can be taken apart as.
pub(super) const TWINS: &[&str] = &["python", "javascript", "rust", "go", "java"];

/// How a runner's tests run in a process of their own, and the answer's modules in another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ApartRunner {
    /// The command that runs the tests.
    pub command: Vec<String>,
    /// The command that serves the answer.
    pub serve: Vec<String>,
    /// How many streams there are between the two.
    pub links: usize,
    /// What stands in the code of an answer that compares its objects itself. Without it, that is found out by
    /// running the tests once more.
    #[serde(default)]
    pub decides: Vec<String>,
    /// Sealed files that the answer's side has, too: settings by which both are loaded.
    #[serde(default)]
    pub share: Vec<String>,
}

/// A sealed test of one name, and an answer for which it holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TestRunnerSample {
    /// The answer's file.
    pub file: RelPath,
    /// What is in it.
    pub answer: String,
    /// The file of the test.
    pub test: RelPath,
    /// What is in it.
    pub code: String,
    /// The test's name, as the runner reports it.
    pub name: String,
}

impl TestRunner {
    /// Whether a file is one that the runner picks up by itself.
    #[must_use]
    pub fn is_config(&self, path: &RelPath) -> bool {
        let name = path.as_str().rsplit('/').next().unwrap_or_default();
        let in_folder = |known: &str| {
            let folder = known.strip_suffix('/');
            folder.is_some_and(|it| path.as_str().split('/').rev().skip(1).any(|part| part == it))
        };
        self.config.iter().any(|known| match known.strip_prefix('/') {
            Some(start) => path.as_str().starts_with(start),
            None => fits(known, name) || known == path.as_str() || in_folder(known),
        })
    }

    /// Whether a file holds tests, by its name.
    #[must_use]
    pub fn is_test_file(&self, path: &RelPath) -> bool {
        let name = path.as_str().rsplit('/').next().unwrap_or_default();
        self.pattern.split_whitespace().any(|pattern| fits(pattern, name))
    }

    /// Whether a file holds tests, by its name or, where it has the ending of such a file, by what it says.
    #[must_use]
    pub fn has_tests(&self, path: &RelPath, bytes: &[u8]) -> bool {
        let ending = |name: &str| name.rsplit_once('.').map(|it| it.1.to_owned());
        let has_ending = || {
            let own = ending(path.as_str());
            own.is_some() && self.pattern.split_whitespace().any(|it| ending(it) == own)
        };
        let says = || {
            let mark = self.mark.as_bytes();
            !mark.is_empty() && bytes.windows(mark.len()).any(|it| it == mark)
        };
        self.is_test_file(path) || (has_ending() && says())
    }
}

/// A name, with at most one `*`.
fn fits(pattern: &str, name: &str) -> bool {
    match pattern.split_once('*') {
        None => pattern == name,
        Some((head, tail)) => {
            name.len() >= head.len() + tail.len() && name.starts_with(head) && name.ends_with(tail)
        }
    }
}
