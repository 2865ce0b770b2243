//! Who stands trial.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::agent::AgentCandidate;
use super::budget::Caps;
use super::chat::ChatCandidate;
use super::price::Price;

/// Who stands trial, with its full configuration.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase", deny_unknown_fields)]
pub enum Candidate {
    /// A model behind a chat-completions endpoint.
    Chat(ChatCandidate),
    /// Answers that were written down.
    Recorded(RecordedCandidate),
    /// A program that changes the files itself.
    Agent(AgentCandidate),
    /// A program that does so and speaks the Agent Client Protocol.
    Acp(AgentCandidate),
}

/// Answers that were written down.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordedCandidate {
    /// Its name in every table.
    pub name: String,
    /// The JSON Lines file of answers, beside the plan unless absolute.
    pub path: String,
    /// Free labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
}

impl Candidate {
    /// Its name in every table.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Chat(chat) => &chat.name,
            Self::Recorded(recorded) => &recorded.name,
            Self::Agent(agent) | Self::Acp(agent) => &agent.name,
        }
    }

    /// Its free labels.
    #[must_use]
    pub fn labels(&self) -> &BTreeMap<String, String> {
        match self {
            Self::Chat(chat) => &chat.labels,
            Self::Recorded(recorded) => &recorded.labels,
            Self::Agent(agent) | Self::Acp(agent) => &agent.labels,
        }
    }

    /// The tasks that it stands for; empty: all.
    #[must_use]
    pub fn tasks(&self) -> &[String] {
        match self {
            Self::Chat(chat) => &chat.tasks,
            Self::Agent(agent) | Self::Acp(agent) => &agent.tasks,
            Self::Recorded(_) => &[],
        }
    }

    /// Whether it stands for a task.
    #[must_use]
    pub fn takes(&self, task: &str) -> bool {
        self.tasks().is_empty() || self.tasks().iter().any(|it| it == task)
    }

    /// The system message, where it has one.
    #[must_use]
    pub fn system(&self) -> Option<&str> {
        match self {
            Self::Chat(chat) => chat.system.as_deref(),
            Self::Recorded(_) | Self::Agent(_) | Self::Acp(_) => None,
        }
    }

    /// The base address that its requests go to; `None`: it makes none.
    #[must_use]
    pub fn endpoint(&self) -> Option<&str> {
        match self {
            Self::Chat(chat) => Some(&chat.endpoint),
            Self::Agent(agent) | Self::Acp(agent) => agent.endpoint.as_deref(),
            Self::Recorded(_) => None,
        }
    }

    /// What it may spend, where it has caps of its own.
    #[must_use]
    pub fn budget(&self) -> Caps {
        match self {
            Self::Chat(chat) => chat.budget,
            Self::Agent(agent) | Self::Acp(agent) => agent.budget,
            Self::Recorded(_) => Caps::default(),
        }
    }

    /// What it costs; recorded answers cost nothing.
    #[must_use]
    pub fn price(&self) -> Price {
        match self {
            Self::Chat(chat) => chat.price,
            Self::Agent(agent) | Self::Acp(agent) => agent.price,
            Self::Recorded(_) => Price::default(),
        }
    }
}
