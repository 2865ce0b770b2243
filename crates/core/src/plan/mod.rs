//! A plan: what is put on trial, on which tasks, and how.

mod agent;
mod budget;
mod candidate;
mod chat;
mod command;
mod document;
mod endpoint;
mod host;
mod price;
mod prompt;

pub use agent::{AgentCandidate, AgentLimits, RelaySettings, UsagePointers};
pub use budget::{Budget, Cap, Spending, SpendingCaps};
pub use candidate::{Candidate, RecordedCandidate};
pub use chat::ChatCandidate;
pub use command::CommandCandidate;
pub use document::{Dockets, Feedback, Plan, PublishedFigure, ReadingMode};
pub use endpoint::{HeaderText, HeaderVariable, Patience};
pub use host::HostSettings;
pub use price::{Price, Tokens};
pub use prompt::PromptSettings;
