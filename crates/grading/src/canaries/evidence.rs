//! What canaries show of a report.

use fairtrial_core::testrun::{ReportedTest, Status};

/// A test that was made up for one run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Canary {
    /// Its name, as the runner reports it; of some runners only the end is known.
    pub name: String,
    /// Whether it holds when nobody interferes.
    pub holds: bool,
    /// The sealed test that it is a changed copy of: then it is sure to fail only where that one
    /// holds.
    pub copy_of: Option<String>,
}

/// Whether the test of this name was reported as passed.
fn passed(reported: &[ReportedTest], name: &str) -> bool {
    reported.iter().any(|test| test.status == Status::Passed && ends_with_name(&test.name, name))
}

impl Canary {
    /// Whether a reported name is its own.
    pub fn is_meant(&self, reported: &str) -> bool {
        ends_with_name(reported, &self.name)
    }
}

/// What a canary shows that is not there: a run that was cut short lacks some, too.
pub const NOT_REPORTED: &str = "a test that must run was not reported";

/// What canaries show: that a report is not to be believed. `any_held` says that some sealed test passed, as
/// was reported.
#[must_use]
pub fn canary_evidence(
    canaries: &[Canary],
    reported: &[ReportedTest],
    any_held: bool,
) -> Vec<String> {
    let mut evidence = Vec::new();
    for canary in canaries {
        let seen = reported.iter().find(|test| canary.is_meant(&test.name));
        if canary.copy_of.as_deref().is_some_and(|name| !passed(reported, name)) {
            continue;
        }
        let what = match (seen.map(|it| it.status), canary.holds) {
            (Some(Status::Passed), false) => "a test that must fail was reported as passed",
            (Some(Status::Skipped), _) => "a test that must run was skipped",
            (Some(Status::Failed), true) if any_held => "a test that must pass failed",
            (None, _) if any_held => NOT_REPORTED,
            _ => continue,
        };
        evidence.push(what.to_owned());
    }
    evidence
}

/// Runners put file, class or package before a test's own name.
fn ends_with_name(name: &str, end: &str) -> bool {
    let own = name.strip_suffix("()").unwrap_or(name);
    own.strip_suffix(end)
        .is_some_and(|before| before.is_empty() || before.ends_with([':', '.', '>', ' ', '/']))
}
