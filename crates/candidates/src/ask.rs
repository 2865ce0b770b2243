//! What asking a candidate takes and gives.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::image::Image;
use fairtrial_core::plan::Tokens;
use fairtrial_core::source::SourceError;
use fairtrial_core::tree::WorkTree;
use fairtrial_core::verdict::VoidReason;
use fairtrial_sandbox::Sandbox;
use fairtrial_worktree::PreparedTree;
use serde::{Deserialize, Serialize, Serializer};
use serde_json::json;

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
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// By whom.
    pub role: Role,
    /// What.
    pub content: String,
    /// What is shown with it.
    pub images: Vec<Image>,
}

impl Serialize for Message {
    /// As the protocol has it: `content` is a text, or parts where there are images.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let content = match self.images.as_slice() {
            [] => json!(self.content),
            images => {
                let image = |it: &Image| {
                    let url = format!("data:{};base64,{}", it.media_type, BASE64.encode(&it.bytes));
                    json!({ "type": "image_url", "image_url": { "url": url } })
                };
                let text = json!({ "type": "text", "text": self.content });
                std::iter::once(text).chain(images.iter().map(image)).collect()
            }
        };
        json!({ "role": self.role, "content": content }).serialize(serializer)
    }
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
    /// What the last attempt came to, which a candidate that acts starts from.
    pub last: Option<Submission>,
}

/// What came of asking.
#[derive(Debug, Clone, PartialEq)]
pub enum AskOutcome {
    /// An answer.
    Answer {
        /// What was sent.
        submission: Submission,
        /// How it ended.
        end: AnswerEnd,
    },
    /// Nothing more will come: the trial stays at what it has.
    NothingMore,
    /// No answer this time; another request may bring one.
    Again(TryAgain),
    /// No answer, by no fault of the candidate.
    Void(VoidReason, String),
    /// No answer, and asking again is no use: the address or the key is wrong.
    Halt(VoidReason, String),
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
    /// The request; `None` for recorded answers, where none was made, and where each was reported.
    pub request: Option<RequestNote>,
    /// How a candidate that acts ended.
    pub ended: Option<ActorEnd>,
    /// The record that the answer was taken over from; `None`: it was asked for.
    pub reused: Option<String>,
}

impl AskReply {
    /// A reply without a request of its own.
    #[must_use]
    pub fn bare(outcome: AskOutcome) -> Self {
        Self { outcome, request: None, ended: None, reused: None }
    }
}

/// How a candidate that acts ended, and what it said.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct ActorEnd {
    /// How its program ended, in words.
    pub ended: String,
    /// The limit of the plan that ended it: `time`, `wall`, `memory`, `requests`, `tokens`, `money` and so
    /// on; empty: none did. Then the trial is over with this attempt.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub limit: String,
    /// Standard output, head and tail.
    pub stdout: String,
    /// Standard error, head and tail.
    pub stderr: String,
    /// Seconds by the clock on the wall.
    pub wall_seconds: f64,
    /// Seconds of processor time.
    pub cpu_seconds: f64,
    /// Most memory at one time, in bytes.
    pub peak_memory: u64,
    /// How it saw the repository: `overlay`, `reflinks` or `copies`; empty: it had files of its own.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub view: String,
    /// What it asked the relay or a tool for and did not get, each with how often.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub refused: BTreeMap<String, u32>,
    /// Files that it left and that are no part of its change.
    pub left_out: usize,
}

/// Hears what a candidate that is asked does, while it does so. May be told from several threads.
pub trait Reporter: Send + Sync {
    /// A request is about to be sent. Comes back with its number when that is recorded; `None`: it must
    /// not be sent.
    fn requested(&self) -> Option<u32>;

    /// A request of that number is over, which the reply to the whole does not have.
    fn request_over(&self, number: u32, note: RequestNote);

    /// A candidate that acts has done something.
    fn step(&self, step: StepNote);

    /// Whether the run is stopping, so that a candidate that takes long should end.
    fn is_stopping(&self) -> bool;

    /// Whether what it does has come to nothing so often that it should end.
    fn is_stuck(&self) -> bool;
}

/// One thing that a candidate did.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct StepNote {
    /// What it was: `list`, `search`, `read`, `write`, `edit`, `run`.
    pub kind: String,
    /// What it was about: a path, a text, a command.
    pub subject: String,
    /// `done`, or why not.
    pub outcome: String,
    /// What came of it, head and tail.
    pub detail: String,
    /// How long it took.
    pub took: Duration,
    /// Marks of the files before and after it, where it is known to have changed them: of one file for an
    /// edit, of all for a command.
    pub files: Option<(String, String)>,
}

/// What a candidate that acts finds, and where it runs.
pub struct Workspace<'a> {
    /// Where it runs.
    pub sandbox: &'a Sandbox,
    /// The prepared repository; `None`: the task gives files.
    pub prepared: Option<Arc<PreparedTree>>,
    /// The files that the task gives.
    pub given: WorkTree,
    /// Folders of this machine that the task's programs see.
    pub show: Vec<PathBuf>,
    /// The environment of the task's programs.
    pub env: BTreeMap<String, String>,
    /// Bytes that may be written.
    pub disk: u64,
    /// Bytes of a change as a patch.
    pub patch: u64,
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
    /// What the model thought aloud, where its host keeps that apart from the answer.
    pub thought: String,
    /// How long the host asks to be left alone.
    pub wait: Option<Duration>,
    /// What it cost, in the plan's currency, where that is told; `None`: as the price says.
    pub cost: Option<f64>,
}

impl RequestNote {
    /// A request of which nothing is known but how it ended and how long it took.
    #[must_use]
    pub fn bare(outcome: &str, took: Duration) -> Self {
        Self {
            outcome: outcome.to_owned(),
            detail: String::new(),
            status: None,
            took,
            first_token: None,
            tokens: Tokens::default(),
            estimated: false,
            thought: String::new(),
            wait: None,
            cost: None,
        }
    }
}

/// Hears what came of a request, on any thread.
pub type OnReply = Box<dyn FnOnce(AskReply) + Send>;

/// Somebody who can be asked, from any number of threads.
pub trait Asker: Send + Sync {
    /// Asks once, and waits. Whether there is another attempt is not its business. `workspace` is there for
    /// candidates that act.
    fn ask(
        &self,
        ask: &Ask,
        workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply;

    /// Whether asking is one request that takes no thread meanwhile: then [`Asker::begin`] asks.
    fn answers_by_itself(&self) -> bool {
        false
    }

    /// Sends one request, which is recorded already, and comes back at once; `answered` is told what came of it. Only
    /// for one that answers by itself.
    fn begin(&self, _ask: &Ask, answered: OnReply) {
        answered(AskReply::bare(AskOutcome::Cancelled));
    }

    /// What its program says of its version, asked in the sandbox; `None` where there is nothing to ask.
    fn version(&self, _sandbox: &Sandbox) -> Option<Result<String, String>> {
        None
    }

    /// Whether it changes files itself, in a workspace.
    fn acts(&self) -> bool {
        false
    }

    /// A trial is over or left: what was kept for its next attempt may go.
    fn leave(&self, _task: &str, _sample: u32) {}

    /// Whether an answer to a first attempt can be expected at all.
    fn has(&self, _task: &str, _sample: u32) -> bool {
        true
    }

    /// Whether asking is written down as a request: it is one, or it is known what it cost.
    fn makes_requests_for(&self, _ask: &Ask) -> bool {
        self.host().is_some()
    }

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
    /// Certificates that cannot be read.
    #[error("candidate `{candidate}`: failed to read the certificates in `{path}`: {why}")]
    Trust {
        /// The candidate.
        candidate: String,
        /// Their file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// What speaks to the host cannot be made, such as when a proxy's address is none.
    #[error("candidate `{candidate}`: its host cannot be asked: {why}")]
    Client {
        /// The candidate.
        candidate: String,
        /// What is wrong.
        why: String,
    },
    /// Something that an agent consists of is not there.
    #[error("candidate `{candidate}`: `{path}` is not there")]
    Missing {
        /// The candidate.
        candidate: String,
        /// What was looked for.
        path: PathBuf,
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
