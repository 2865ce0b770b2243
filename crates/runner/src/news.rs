//! What happens in a run, as it happens.

use fairtrial_core::answer::AnswerEnd;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::RequestResult;

use crate::budget::CapOwner;

/// Something that happened in a run.
#[derive(Debug, Clone, PartialEq)]
pub enum RunNews<'a> {
    /// The session has begun.
    Begun {
        /// Trials that the plan asks for.
        trials: usize,
    },
    /// The plan is not what its record was begun with, in a way that is noted.
    Changed {
        /// How, in words.
        what: &'a str,
    },
    /// A trial was begun, or is resumed.
    TrialBegun {
        /// Which one.
        key: &'a TrialKey,
        /// In which round of it.
        round: u32,
    },
    /// A request is sent.
    RequestSent {
        /// For which trial.
        key: &'a TrialKey,
        /// For which attempt.
        attempt: u32,
        /// Its number among those of the attempt.
        number: u32,
    },
    /// A request is over.
    RequestOver {
        /// For which trial.
        key: &'a TrialKey,
        /// For which attempt.
        attempt: u32,
        /// Its number among those of the attempt.
        number: u32,
        /// What came of it.
        result: &'a RequestResult,
    },
    /// An answer is on disk.
    Answered {
        /// Of which trial.
        key: &'a TrialKey,
        /// Of which attempt.
        attempt: u32,
        /// How it ended.
        end: AnswerEnd,
    },
    /// An answer was judged.
    Judged {
        /// Of which trial.
        key: &'a TrialKey,
        /// Of which attempt.
        attempt: u32,
        /// What it came to.
        verdict: Verdict,
        /// Sealed tests that passed, and all.
        tests: (usize, usize),
    },
    /// A trial is over.
    TrialOver {
        /// Which one.
        key: &'a TrialKey,
        /// What it came to.
        verdict: Verdict,
        /// Attempts.
        attempts: u32,
    },
    /// A candidate is no longer asked.
    Halted {
        /// Which one.
        candidate: &'a str,
        /// Why.
        why: &'a str,
    },
    /// A cap is reached.
    CapReached {
        /// Whose.
        owner: &'a CapOwner,
    },
    /// The run was stopped and waits for what is under way.
    Stopping {
        /// Trials under way.
        under_way: usize,
    },
    /// The session is over.
    Over {
        /// Whether it was stopped.
        stopped: bool,
    },
}
