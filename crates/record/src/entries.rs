//! What is written into a record, piece by piece.

use fairtrial_core::answer::{AnswerEnd, Code, Deviation, ReadingNotes, Submission};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::plan::Tokens;
use fairtrial_core::trouble::Trouble;
use fairtrial_core::verdict::Verdict;

/// An answer, before it is judged.
#[derive(Debug, Clone)]
pub struct NewAnswer {
    /// What was sent.
    pub submission: Submission,
    /// How it ended.
    pub end: AnswerEnd,
    /// How a candidate that acts ended, and what it said: a JSON object.
    pub ended_as: Option<String>,
    /// Seconds that a candidate that acts took; `None`: its requests say it.
    pub seconds: Option<f64>,
    /// When it was there, in UTC, RFC 3339.
    pub at: String,
    /// The record that it was taken over from; `None`: it was asked for.
    pub reused: Option<String>,
}

/// One thing that a candidate did on the way to an answer.
#[derive(Debug, Clone, PartialEq)]
pub struct NewStep {
    /// What it was: `read`, `edit`, `run` and so on.
    pub kind: String,
    /// What it was about: a path, a command.
    pub subject: String,
    /// `done`, or why not.
    pub outcome: String,
    /// What came of it.
    pub detail: String,
    /// Seconds that it took.
    pub seconds: f64,
    /// When it was over, in UTC, RFC 3339.
    pub at: String,
    /// Marks of the files before and after it, where it changed them.
    pub files: Option<(String, String)>,
}

/// What became of a request to a host.
#[derive(Debug, Clone, PartialEq)]
pub struct RequestResult {
    /// `answered`, or the reason why not.
    pub outcome: String,
    /// What the host said, without keys.
    pub detail: String,
    /// The HTTP status; `None` when there was none.
    pub status: Option<u16>,
    /// Seconds until the answer was whole.
    pub seconds: f64,
    /// Seconds until its first part; `None` when it did not come in parts.
    pub first_token: Option<f64>,
    /// Tokens.
    pub tokens: Tokens,
    /// Whether the tokens were estimated from lengths, since the host did not count them.
    pub estimated: bool,
    /// What it cost, in the plan's currency.
    pub cost: f64,
    /// What was thought aloud, where the host keeps that apart; empty: nothing.
    pub thought: String,
}

/// A judgement, ready to be written.
#[derive(Debug)]
pub struct NewJudgement<'a> {
    /// What judging came to.
    pub judgement: &'a Judgement,
    /// What the lenient reader forgave.
    pub deviations: &'a [Deviation],
    /// How the answer was read.
    pub reading: &'a ReadingNotes,
    /// What was judged.
    pub code: Option<&'a Code>,
    /// What goes back to the candidate.
    pub feedback: Option<&'a str>,
    /// Seconds that judging took.
    pub seconds: f64,
    /// Trouble on the way to it.
    pub trouble: Trouble,
    /// What the whole trial came to, when it is over with this attempt.
    pub trial: Option<Verdict>,
    /// When it was judged, in UTC, RFC 3339.
    pub at: &'a str,
}
