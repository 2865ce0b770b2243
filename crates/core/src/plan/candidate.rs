//! Who stands trial.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::agent::AgentCandidate;
use super::budget::SpendingCaps;
use super::chat::ChatCandidate;
use super::command::CommandCandidate;
use super::price::Price;
use super::prompt::PromptSettings;

/// Who stands trial, with its full configuration.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase", deny_unknown_fields)]
pub enum Candidate {
    /// A model behind a chat-completions endpoint.
    Chat(ChatCandidate),
    /// A program that asks for us.
    Command(CommandCandidate),
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
    /// What tokens cost, where the lines count them.
    #[serde(default, skip_serializing_if = "is_free")]
    pub price: Price,
    /// Free labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
}

fn is_free(price: &Price) -> bool {
    *price == Price::default()
}

impl Candidate {
    /// Its name in every table.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Chat(chat) => &chat.name,
            Self::Command(command) => &command.name,
            Self::Recorded(recorded) => &recorded.name,
            Self::Agent(agent) | Self::Acp(agent) => &agent.name,
        }
    }

    /// Its free labels.
    #[must_use]
    pub fn labels(&self) -> &BTreeMap<String, String> {
        match self {
            Self::Chat(chat) => &chat.labels,
            Self::Command(command) => &command.labels,
            Self::Recorded(recorded) => &recorded.labels,
            Self::Agent(agent) | Self::Acp(agent) => &agent.labels,
        }
    }

    /// The tasks that it stands for; empty: all.
    #[must_use]
    pub fn tasks(&self) -> &[String] {
        match self {
            Self::Chat(chat) => &chat.tasks,
            Self::Command(command) => &command.tasks,
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
            Self::Command(command) => command.system.as_deref(),
            Self::Recorded(_) | Self::Agent(_) | Self::Acp(_) => None,
        }
    }

    /// The base address that its requests go to; `None`: it makes none.
    #[must_use]
    pub fn endpoint(&self) -> Option<&str> {
        match self {
            Self::Chat(chat) => Some(&chat.endpoint),
            Self::Agent(agent) | Self::Acp(agent) => agent.endpoint.as_deref(),
            Self::Command(_) | Self::Recorded(_) => None,
        }
    }

    /// Whether it works on files, rather than answering in words.
    #[must_use]
    pub fn acts(&self) -> bool {
        match self {
            Self::Chat(chat) => chat.acts,
            Self::Agent(_) | Self::Acp(_) => true,
            Self::Command(_) | Self::Recorded(_) => false,
        }
    }

    /// The wording of its prompts, where it has its own.
    #[must_use]
    pub fn prompt(&self) -> Option<&PromptSettings> {
        match self {
            Self::Chat(chat) => Some(&chat.prompt),
            Self::Command(command) => Some(&command.prompt),
            Self::Agent(agent) | Self::Acp(agent) => Some(&agent.prompt),
            Self::Recorded(_) => None,
        }
        .filter(|it| !it.is_default())
    }

    /// What it may spend, where it has caps of its own.
    #[must_use]
    pub fn budget(&self) -> SpendingCaps {
        match self {
            Self::Chat(chat) => chat.budget,
            Self::Command(command) => command.budget,
            Self::Agent(agent) | Self::Acp(agent) => agent.budget,
            Self::Recorded(_) => SpendingCaps::default(),
        }
    }

    /// What its tokens cost.
    #[must_use]
    pub fn price(&self) -> Price {
        match self {
            Self::Chat(chat) => chat.price,
            Self::Command(command) => command.price,
            Self::Agent(agent) | Self::Acp(agent) => agent.price,
            Self::Recorded(recorded) => recorded.price,
        }
    }
}
