//! What judging an attempt came to, test by test.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::change::ChangeFacts;
use crate::verdict::{FailReason, Verdict};

/// One attempt, judged.
#[derive(Debug, Clone, PartialEq)]
pub struct Judgement {
    /// What it came to.
    pub verdict: Verdict,
    /// Every sealed test, and the visible examples where they were run.
    pub tests: Vec<TestOutcome>,
    /// Why the answer did not build or load, fit to be shown to the candidate: it was made where no
    /// sealed test was. `None` when it did.
    pub message: Option<String>,
    /// What a person should know of how it was judged, such as a layer of the sandbox that was
    /// not there.
    pub notes: Vec<String>,
    /// What the change does, where the answer is one to a repository.
    pub change: Option<Box<ChangeFacts>>,
}

/// One test, judged. What it holds of the sealed part is for people who may unseal it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TestOutcome {
    /// Its name.
    pub name: String,
    /// Whether it is an example that candidates may see.
    pub visible: bool,
    /// What it must do, in a repository: `turn green` or `stay green`; empty elsewhere.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub role: String,
    /// Why it failed; `None` when it passed.
    pub failed: Option<FailReason>,
    /// What happened, in a sentence that holds neither input nor expectation.
    pub summary: String,
    /// What went in.
    pub input: String,
    /// What was expected; empty when it passed.
    pub expected: String,
    /// What came instead; empty when it passed.
    pub found: String,
    /// Its weight in partial credit.
    pub points: f64,
    /// The share of its points that was earned, where a checker gave some but not all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<f64>,
    /// In how many of the runs it failed, where it was run again and they differ.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unstable: Option<Unstable>,
    /// What the run used; `None` where it was not run.
    pub usage: Option<Usage>,
}

impl TestOutcome {
    /// A test that passed; what went in and came out is not set yet.
    #[must_use]
    pub fn passed(name: &str, visible: bool, points: f64) -> Self {
        Self {
            name: name.to_owned(),
            visible,
            role: String::new(),
            failed: None,
            summary: String::new(),
            input: String::new(),
            expected: String::new(),
            found: String::new(),
            points,
            share: None,
            unstable: None,
            usage: None,
        }
    }

    /// Whether it was run at all: what was not has failed with its answer, and says so.
    #[must_use]
    pub fn was_run(&self) -> bool {
        self.failed.is_none() || !self.summary.starts_with("not run")
    }
}

/// A test that fails in some runs and holds in others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unstable {
    /// Runs in which it failed.
    pub failed: u32,
    /// Runs in all.
    pub runs: u32,
}

/// What a run used.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Usage {
    /// Seconds by the clock on the wall.
    pub wall_seconds: f64,
    /// Seconds of processor time, all processes together.
    pub cpu_seconds: f64,
    /// Most memory at one time, in bytes.
    pub peak_memory: u64,
    /// Bytes on standard output and standard error together.
    #[serde(default)]
    pub bytes_out: u64,
    /// Processes and threads that were started; `None` where the kernel does not tell.
    #[serde(default)]
    pub started: Option<u32>,
    /// System calls that were refused, by name, and how often.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub denied: BTreeMap<String, u64>,
    /// How it was measured: `group`, by a control group, or `polling`.
    #[serde(default)]
    pub accounting: String,
}

impl Judgement {
    /// A judgement without tests.
    #[must_use]
    pub fn bare(verdict: Verdict) -> Self {
        Self { verdict, tests: Vec::new(), message: None, notes: Vec::new(), change: None }
    }

    /// Sealed tests that passed, and sealed tests.
    #[must_use]
    pub fn counts(&self) -> (usize, usize) {
        let sealed = self.tests.iter().filter(|test| !test.visible);
        let passed = sealed.clone().filter(|test| test.failed.is_none()).count();
        (passed, sealed.count())
    }

    /// The share of the sealed tests' points that were earned, from 0 to 1.
    #[must_use]
    pub fn credit(&self) -> f64 {
        let sealed = || self.tests.iter().filter(|test| !test.visible);
        let all: f64 = sealed().map(|test| test.points).sum();
        let share = |test: &TestOutcome| match test.failed {
            None => 1.0,
            Some(_) => test.share.unwrap_or(0.0),
        };
        let earned: f64 = sealed().map(|test| share(test) * test.points).sum();
        if all > 0.0 {
            earned / all
        } else if self.verdict.is_pass() {
            1.0
        } else {
            0.0
        }
    }
}
