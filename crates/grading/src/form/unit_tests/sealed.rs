//! Sealed unit tests: which must be there, and what a run of them comes to.
//!
//! Every expected test must have been reported as passed, and no other may have been reported.

use std::collections::BTreeMap;

use serde::Deserialize;

use fairtrial_core::source::SourceError;
use fairtrial_core::testrun::{ReportedTest, Status};
use fairtrial_core::tree::{FileTree, RelPath};

/// The `[tests]` table of a brief.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TestsSettings {
    /// The file that the answer gives.
    pub file: RelPath,
    /// The runner, one of those of the task's language.
    pub runner: String,
    /// Whether the tests run in a process of their own. `None`: they do where the runner can have it so.
    #[serde(default)]
    pub process: Option<TestsProcess>,
    /// Files that runners pick up by themselves and that the candidate may give all the same.
    #[serde(default)]
    pub allow: Vec<RelPath>,
}

/// Where sealed tests run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TestsProcess {
    /// In a process and a sandbox of their own.
    Apart,
    /// In the answer's process.
    Shared,
}

/// The sealed part.
#[derive(Debug, Clone, PartialEq)]
pub struct SealedTests {
    /// The files, as they are put beside the answer.
    pub files: FileTree,
    /// The names of all tests, as the runner reports them.
    pub names: Vec<String>,
}

/// The file that lists the names.
pub const LIST: &str = "tests.list";

/// Reads the list of names: one a line; blank lines and lines that begin with `#` do not count.
///
/// # Errors
/// When there is no name, or one stands there twice.
pub fn parse_list(file: &str, text: &str) -> Result<Vec<String>, SourceError> {
    let mut names: Vec<String> = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let name = line.trim();
        if name.is_empty() || name.starts_with('#') {
            continue;
        }
        if names.iter().any(|known| known == name) {
            let message = format!("the test `{name}` stands here twice");
            return Err(SourceError::at_line(file, index + 1, message));
        }
        names.push(name.to_owned());
    }
    if names.is_empty() {
        return Err(SourceError::whole(file, "it names no test; one name a line is expected"));
    }
    Ok(names)
}

/// What one test came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ResolvedTest {
    /// Its name.
    pub name: String,
    /// Why it does not count as passed; `None` when it passed.
    pub wrong: Option<Wrong>,
    /// What the runner said.
    pub message: String,
}

/// Why a test does not count as passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrong {
    /// It failed.
    Failed,
    /// It was not run, or not reported.
    Missing,
    /// It was skipped.
    Skipped,
    /// Nobody knows it.
    Unknown,
}

/// What a run came to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ResolvedTests {
    /// Every expected test, then those that nobody knows.
    pub tests: Vec<ResolvedTest>,
    /// What shows that the report is not to be believed.
    pub evidence: Vec<String>,
}

/// Holds what was reported against what must be there.
#[must_use]
pub fn resolve(expected: &[String], reported: &[ReportedTest]) -> ResolvedTests {
    let mut resolved = ResolvedTests::default();
    let mut by_name = BTreeMap::<&str, &ReportedTest>::new();
    for test in reported {
        if by_name.insert(&test.name, test).is_some_and(|before| before.status != test.status) {
            resolved.evidence.push(format!("the test `{}` was reported in two ways", test.name));
        }
    }
    for name in expected {
        let (wrong, message) = match by_name.get(name.as_str()) {
            Some(test) => (
                match test.status {
                    Status::Passed => None,
                    Status::Failed => Some(Wrong::Failed),
                    Status::Skipped => Some(Wrong::Skipped),
                },
                test.message.clone(),
            ),
            None => (Some(Wrong::Missing), String::new()),
        };
        resolved.tests.push(ResolvedTest { name: name.clone(), wrong, message });
    }
    for test in reported {
        // What skips itself and is in nobody's list says nothing.
        if !expected.contains(&test.name) && test.status != Status::Skipped {
            let message = test.message.clone();
            let wrong = Some(Wrong::Unknown);
            resolved.tests.push(ResolvedTest { name: test.name.clone(), wrong, message });
        }
    }
    resolved
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reported(tests: &[(&str, Status)]) -> Vec<ReportedTest> {
        let one = |(name, status): &(&str, Status)| ReportedTest {
            name: (*name).to_owned(),
            status: *status,
            message: String::new(),
        };
        tests.iter().map(one).collect()
    }

    fn resolved(tests: &[(&str, Status)]) -> (Vec<Option<Wrong>>, Vec<String>) {
        let names = ["m::a".to_owned(), "m::b".to_owned()];
        let resolved = resolve(&names, &reported(tests));
        (resolved.tests.iter().map(|it| it.wrong).collect(), resolved.evidence)
    }

    #[test]
    fn every_expected_test_must_be_there_and_no_other() {
        use Status::{Failed, Passed, Skipped};
        let none: Vec<String> = Vec::new();
        let all = resolved(&[("m::a", Passed), ("m::b", Passed)]);
        assert_eq!(all, (vec![None, None], none.clone()));
        let some = resolved(&[("m::a", Failed), ("m::c", Passed)]);
        assert_eq!(
            some,
            (vec![Some(Wrong::Failed), Some(Wrong::Missing), Some(Wrong::Unknown)], none.clone())
        );
        let skipped = resolved(&[("m::a", Passed), ("m::b", Skipped)]);
        assert_eq!(skipped, (vec![None, Some(Wrong::Skipped)], none.clone()));
        let left_out = resolved(&[("m::a", Passed), ("m::b", Passed), ("m::c", Skipped)]);
        assert_eq!(left_out, (vec![None, None], none.clone()));
        // Nothing could be loaded: that is no tampering.
        assert_eq!(resolved(&[]), (vec![Some(Wrong::Missing); 2], none));
        let twice = resolved(&[("m::a", Passed), ("m::b", Failed), ("m::b", Passed)]);
        assert!(twice.1[0].contains("in two ways"));
    }

    #[test]
    fn a_list_has_each_name_once() {
        assert_eq!(parse_list("l", "# all\na\n\n b \n").unwrap(), ["a", "b"]);
        assert_eq!(parse_list("l", "a\nb\na").unwrap_err().line, Some(3));
        assert!(parse_list("l", "# none\n").is_err());
    }
}
