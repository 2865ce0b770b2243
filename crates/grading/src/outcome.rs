//! From the outcomes of tests to a judgement.

use fairtrial_core::judgement::{Judgement, TestOutcome, Usage};
use fairtrial_core::verdict::{FailReason, Verdict};
use fairtrial_sandbox::{Accounting, Outcome};

/// A sealed test, as far as everybody may know it.
#[derive(Debug, Clone, PartialEq)]
pub struct SealedTest {
    /// Its name.
    pub name: String,
    /// Its weight in partial credit.
    pub points: f64,
}

/// Tests that may run out of time before the rest is no longer run.
pub const TIMEOUTS_MAX: usize = 2;

/// Every sealed test, failed for one reason without being run.
pub fn nothing_run(
    sealed: &[SealedTest],
    reason: FailReason,
    message: Option<String>,
) -> Judgement {
    let not_run = |test: &SealedTest| TestOutcome {
        failed: Some(reason),
        summary: "not run".to_owned(),
        ..TestOutcome::passed(&test.name, false, test.points)
    };
    let tests = sealed.iter().map(not_run).collect();
    Judgement { tests, message, ..Judgement::bare(Verdict::Fail(reason)) }
}

/// What a run used.
pub fn usage(outcome: &Outcome) -> Usage {
    Usage {
        wall_seconds: outcome.wall.as_secs_f64(),
        cpu_seconds: outcome.cpu.as_secs_f64(),
        peak_memory: outcome.peak_memory,
        bytes_out: outcome.bytes_out(),
        started: outcome.started,
        denied: outcome.denied.clone(),
        accounting: word(outcome.accounting),
    }
}

/// How it was measured, in a word.
pub fn word(accounting: Accounting) -> String {
    match accounting {
        Accounting::Group => "group",
        Accounting::Polling => "polling",
    }
    .to_owned()
}

/// Puts the outcomes of tests together: the reason is that of the first sealed test that failed.
pub fn resolve(tests: Vec<TestOutcome>, message: Option<String>) -> Judgement {
    let failed = tests.iter().filter(|test| !test.visible).find_map(|test| test.failed);
    let verdict = failed.map_or(Verdict::Pass, Verdict::Fail);
    Judgement { tests, message, ..Judgement::bare(verdict) }
}

/// Whether the visible examples are wanted: something sealed failed.
pub fn any_failed(tests: &[TestOutcome]) -> bool {
    tests.iter().any(|test| test.failed.is_some())
}
