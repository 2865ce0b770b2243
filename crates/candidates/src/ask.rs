//! What asking a candidate takes and gives.

use std::time::Duration;

use fairtrial_core::answer::Submission;
use fairtrial_core::plan::Tokens;
use fairtrial_core::source::SourceError;
use fairtrial_core::verdict::VoidReason;
use serde::Serialize;

/// Who says something in a conversation.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// The setting, before anything is asked.
    System,
    /// The tool.
    User,
    /// The candidate.
    Assistant,
}

/// One thing said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Message {
    /// By whom.
    pub role: Role,
    /// What.
    pub content: String,
}

/// One thing to ask.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ask {
    /// The task's name.
    pub task: String,
    /// Which sample.
    pub sample: u32,
    /// Which attempt, from 1.
    pub attempt: u32,
    /// The whole conversation so far; it ends with the tool's turn.
    pub messages: Vec<Message>,
    /// The seed of this sample, for candidates that are sent one.
    pub seed: u64,
}

/// What came of asking.
#[derive(Debug, Clone, PartialEq)]
pub enum AskOutcome {
    /// An answer.
    Answer {
        /// What was sent.
        submission: Submission,
        /// Whether the host stopped it at a length limit.
        cut_off: bool,
    },
    /// Nothing more will come: the trial stays at what it has.
    NothingMore,
    /// No answer this time; another request may bring one.
    Again(TryAgain),
    /// No answer, by no fault of the candidate.
    Void(VoidReason, String),
    /// No answer, and asking again is no use: the address or the key is wrong.
    Halt(String),
    /// Nothing was asked: the run is stopping.
    Cancelled,
}

/// Why a request may be made again.
#[derive(Debug, Clone, PartialEq)]
pub struct TryAgain {
    /// What the trial comes to if it is not.
    pub reason: VoidReason,
    /// What happened, in words.
    pub why: String,
    /// How long the host asked to be left alone; `None` when it did not say.
    pub after: Option<Duration>,
    /// Whether nobody is there at all: asking for other tasks is no use either.
    pub unreachable: bool,
}

/// What came of asking, and of the request that it took.
#[derive(Debug, Clone, PartialEq)]
pub struct AskReply {
    /// What came of it.
    pub outcome: AskOutcome,
    /// The request; `None` for recorded answers, and where none was made.
    pub request: Option<RequestNote>,
}

/// Hears what a candidate that is asked is about to do.
pub trait Reporter {
    /// A request is about to be sent. Comes back when that is recorded; `false`: it must not be sent.
    fn requested(&mut self) -> bool;
}

/// One request.
#[derive(Debug, Clone, PartialEq)]
pub struct RequestNote {
    /// `answered`, or the reason why not.
    pub outcome: String,
    /// What the host said, without keys.
    pub detail: String,
    /// The HTTP status.
    pub status: Option<u16>,
    /// Time until the answer was whole.
    pub took: Duration,
    /// Time until its first part.
    pub first_token: Option<Duration>,
    /// Tokens.
    pub tokens: Tokens,
    /// Whether the tokens were estimated from lengths.
    pub estimated: bool,
}

/// Somebody who can be asked, from any number of threads.
pub trait Asker: Send + Sync {
    /// Asks once, and waits: at most one request. Whether there is another one is not its business.
    fn ask(&self, ask: &Ask, reporter: &mut dyn Reporter) -> AskReply;

    /// Whether an answer to a first attempt can be expected at all.
    fn has(&self, task: &str, sample: u32) -> bool;

    /// The host that its requests go to, in words; `None` when it makes none.
    fn host(&self) -> Option<&str>;
}

/// A candidate that cannot be asked as it is configured.
#[derive(Debug, thiserror::Error)]
pub enum AskerError {
    /// The environment has no key.
    #[error("candidate `{candidate}`: the environment variable `{variable}` is not set")]
    NoKey {
        /// The candidate.
        candidate: String,
        /// The variable that should hold the key.
        variable: String,
    },
    /// A header that cannot be sent.
    #[error("candidate `{candidate}`: the header `{header}` cannot be sent")]
    Header {
        /// The candidate.
        candidate: String,
        /// The header's name.
        header: String,
    },
    /// The file of recorded answers is malformed.
    #[error("candidate `{candidate}`")]
    Malformed {
        /// The candidate.
        candidate: String,
        /// Where and how.
        #[source]
        source: SourceError,
    },
}
