//! Asks candidates: models behind chat-completions endpoints, agents that change files themselves, and
//! answers that were written down.
//!
//! What comes of asking is either an answer, or the reason why there is none that says nothing
//! about the candidate. Keys are read from the environment and never leave this crate but in the
//! request itself: they are cut out of whatever a host says.

mod actor;
mod agent;
mod answered;
mod ask;
mod chat;
mod classify;
mod command;
mod completion;
mod exchange;
mod leash;
mod meter;
mod pause;
mod read_fault;
mod recorded;
mod relay;
mod runtime;
mod sse;
mod tools;
mod upstream;

pub use actor::ActorAsker;
pub use agent::{AcpAsker, AgentAsker, acp_client_main, is_acp_client};
pub use ask::{
    ActorEnd, Ask, AskOutcome, AskReply, Asker, AskerError, Message, OnReply, Reporter,
    RequestNote, Role, StepNote, TryAgain, Workspace,
};
pub use chat::ChatAsker;
pub use command::CommandAsker;
pub use leash::{is_leash, leash_main};
pub use recorded::RecordedAsker;
pub use relay::{Relay, RelayConfig, RelayUse};
pub use upstream::{Unreachable, Upstream, UpstreamConfig, UpstreamResponse};
