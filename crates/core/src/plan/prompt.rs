//! The wording around what a candidate must know.

use serde::{Deserialize, Serialize};

/// Templates of prompts; what is `None` is worded as shipped, or as the plan does.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PromptSettings {
    /// Of the first prompt of a trial.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// Of what goes back after a failure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repair: Option<String>,
    /// Whether images that a task shows are sent; they are when nobody says otherwise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub images: Option<bool>,
}

impl PromptSettings {
    /// Whether nothing is said.
    #[must_use]
    pub fn is_default(&self) -> bool {
        *self == Self::default()
    }
}
