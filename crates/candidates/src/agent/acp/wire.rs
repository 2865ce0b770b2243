//! What the tool and the client inside say to each other: a line of JSON each.

use serde::{Deserialize, Serialize};

use crate::ask::StepNote;

/// What the tool says.
#[derive(Debug, Serialize, Deserialize)]
pub struct TurnOrder {
    /// The prompt of the turn that begins.
    pub prompt: String,
    /// Kinds of tool calls that get leave; `None`: all do.
    pub permit: Option<Vec<String>>,
}

/// What the client says.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    /// The agent has done something.
    Step(StepNote),
    /// The turn is over.
    Turn {
        /// Why, as the protocol words it: `end_turn`, `max_tokens`, `refusal` and so on.
        stop: String,
        /// What it said last.
        last_words: String,
    },
    /// There will be no more turns.
    Failed {
        /// Why, in words that follow the agent's name.
        why: String,
    },
}
