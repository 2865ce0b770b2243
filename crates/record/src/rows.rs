//! What is read out of a record, row by row.

use fairtrial_core::answer::{AnswerEnd, ReadingNotes};
use fairtrial_core::plan::Tokens;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::Verdict;

/// Which trials are wanted; `None` is any.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Selection {
    /// The candidate's name.
    pub candidate: Option<String>,
    /// The task's name.
    pub task: Option<String>,
    /// Which sample, from 1.
    pub sample: Option<u32>,
    /// The trial's number in the record.
    pub number: Option<i64>,
    /// `pass`, `fail` or `void`.
    pub verdict: Option<String>,
    /// Why it failed or is void.
    pub reason: Option<String>,
}

impl Selection {
    /// One trial.
    #[must_use]
    pub fn of(key: &TrialKey) -> Self {
        Self {
            candidate: Some(key.candidate.clone()),
            task: Some(key.task.clone()),
            sample: Some(key.sample),
            ..Self::default()
        }
    }
}

/// A trial in figures: what standings and lists need of it.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialSummary {
    /// Its number in the record, in the order in which trials were begun.
    pub number: i64,
    /// Which trial.
    pub key: TrialKey,
    /// What it came to; `None` while it is under way.
    pub verdict: Option<Verdict>,
    /// Attempts.
    pub attempts: u32,
    /// Sealed tests that passed in the last attempt, and sealed tests.
    pub tests: (u32, u32),
    /// Seconds that the candidate took to answer, faults of the host left out.
    pub seconds: f64,
    /// Tokens, all requests together.
    pub tokens: Tokens,
    /// What it cost, all requests together.
    pub cost: f64,
}

/// A trial, as far as it has come.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialRow {
    /// Its number in the record.
    pub number: i64,
    /// Which trial.
    pub key: TrialKey,
    /// How often it was begun: from 1, more when it was void before, or held again.
    pub round: u32,
    /// The first round that counts; what earlier ones brought was set aside.
    pub counts_from: u32,
    /// The digest of its first prompt.
    pub prompt: String,
    /// What it came to; `None` while it is under way.
    pub verdict: Option<Verdict>,
    /// When it was begun.
    pub begun: String,
    /// When it was over.
    pub ended: Option<String>,
    /// How a person says that it was helped.
    pub helped: Option<String>,
    /// The attempts, in order.
    pub attempts: Vec<AttemptRow>,
    /// The requests of all rounds, in order.
    pub requests: Vec<RequestRow>,
    /// What a candidate that acts did, in all rounds, in order.
    pub steps: Vec<StepRow>,
}

/// One thing that a candidate did on the way to an answer.
#[derive(Debug, Clone, PartialEq)]
pub struct StepRow {
    /// In which round of the trial.
    pub round: u32,
    /// For which attempt.
    pub attempt: u32,
    /// Which one, from 1.
    pub number: u32,
    /// When it was over.
    pub at: String,
    /// What it was: `read`, `edit`, `run` and so on.
    pub kind: String,
    /// What it was about: a path, a command.
    pub subject: String,
    /// `done`, or why not.
    pub outcome: String,
    /// The digest of what came of it.
    pub detail: Option<String>,
    /// Seconds that it took.
    pub seconds: f64,
    /// Marks of the files before and after it, where it changed them.
    pub files: Option<(String, String)>,
}

/// An attempt, as far as it has come.
#[derive(Debug, Clone, PartialEq)]
pub struct AttemptRow {
    /// Which attempt of the trial, from 1.
    pub number: u32,
    /// `text`, `files` or `patch`.
    pub answer_kind: String,
    /// The digest of the answer.
    pub answer: String,
    /// How the answer ended.
    pub end: AnswerEnd,
    /// What it came to; `None` until it is judged.
    pub verdict: Option<Verdict>,
    /// Sealed tests that passed.
    pub tests_passed: u32,
    /// Sealed tests.
    pub tests_total: u32,
    /// The share of points earned, 0 to 1.
    pub credit: f64,
    /// What the lenient reader forgave.
    pub deviations: Vec<String>,
    /// How the answer was read.
    pub reading: ReadingNotes,
    /// The digest of what was judged: files, or a patch where there is a `change`.
    pub code: Option<String>,
    /// The digest of what the change does, for an answer to a repository.
    pub change: Option<String>,
    /// The digest of how a candidate that acts ended.
    pub ended_as: Option<String>,
    /// The digest of the error or compiler message.
    pub message: Option<String>,
    /// What a person should know of how it was judged.
    pub notes: Vec<String>,
    /// The digest of the feedback.
    pub feedback: Option<String>,
    /// Seconds that judging took.
    pub judge_seconds: f64,
    /// The digest of its tests; `None` until it is judged.
    pub tests: Option<String>,
    /// Trouble on the way to it; `None`: it was not looked for.
    pub trouble: Option<Trouble>,
    /// Seconds that a candidate that acts took; `None`: its requests say it.
    pub answer_seconds: Option<f64>,
    /// The record that the answer was taken over from; `None`: it was asked for.
    pub reused: Option<String>,
}

/// A request.
#[derive(Debug, Clone, PartialEq)]
pub struct RequestRow {
    /// In which round of the trial.
    pub round: u32,
    /// For which attempt.
    pub attempt: u32,
    /// Which try, from 1.
    pub number: u32,
    /// When it was sent, in UTC, RFC 3339.
    pub sent: String,
    /// `answered`, `under way`, or why not.
    pub outcome: String,
    /// What the host said.
    pub detail: String,
    /// The HTTP status.
    pub status: Option<u16>,
    /// Seconds until the answer was whole.
    pub seconds: f64,
    /// Seconds until its first part.
    pub first_token: Option<f64>,
    /// Tokens.
    pub tokens: Tokens,
    /// Whether the tokens are an estimate.
    pub estimated: bool,
    /// What it cost.
    pub cost: f64,
    /// The digest of what was thought aloud; `None`: nothing was, or the host does not tell.
    pub thought: Option<String>,
}

impl TrialRow {
    /// Seconds that the candidate took to answer, faults of the host left out.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        let acted: Vec<f64> = self.attempts.iter().filter_map(|it| it.answer_seconds).collect();
        if !acted.is_empty() {
            return acted.iter().sum();
        }
        let answered = self.counted().filter(|it| it.outcome == "answered");
        answered.fold(0.0, |sum, it| sum + it.seconds)
    }

    /// The requests that count.
    fn counted(&self) -> impl Iterator<Item = &RequestRow> {
        self.requests.iter().filter(|it| it.round >= self.counts_from)
    }

    /// What it cost, all requests that count together.
    #[must_use]
    pub fn cost(&self) -> f64 {
        self.counted().fold(0.0, |sum, it| sum + it.cost)
    }

    /// Tokens, all requests that count together.
    #[must_use]
    pub fn tokens(&self) -> Tokens {
        self.counted().fold(Tokens::default(), |sum, it| sum + it.tokens)
    }
}
