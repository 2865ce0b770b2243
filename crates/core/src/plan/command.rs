//! Programs that ask for us, where an endpoint speaks something else than chat completions.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::budget::SpendingCaps;
use super::endpoint::{HeaderText, sixteen_mib, two_minutes};
use super::price::Price;
use super::prompt::PromptSettings;
use crate::limits::{Bytes, Span};

/// A program that reads one request, a JSON object, and writes one answer, another. It is the user's own, and not
/// confined.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CommandCandidate {
    /// Its name in every table.
    pub name: String,
    /// The program, beside the plan where it has a slash and is not absolute, or on the search path, and its arguments.
    pub command: Vec<String>,
    /// Variables that it gets besides `PATH`, `HOME`, `LANG`, `LC_ALL` and `TMPDIR`. Their values can be keys: they are
    /// written nowhere.
    #[serde(default)]
    pub env: BTreeMap<String, HeaderText>,
    /// What it hands on as the model's name; empty: nothing.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub model: String,
    /// The system message.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system: Option<String>,
    /// Longest wait for one answer.
    #[serde(default = "two_minutes")]
    pub timeout: Span,
    /// How often it is run again after a fault.
    #[serde(default = "three")]
    pub retries: u32,
    /// Longest answer that is read, in bytes.
    #[serde(default = "sixteen_mib")]
    pub longest_answer: Bytes,
    /// Sampling settings, handed on as they are.
    #[serde(default)]
    pub sampling: BTreeMap<String, serde_json::Value>,
    /// What its tokens cost.
    #[serde(default)]
    pub price: Price,
    /// The wording of its prompts, where it has its own.
    #[serde(default, skip_serializing_if = "PromptSettings::is_default")]
    pub prompt: PromptSettings,
    /// What it may spend on all its trials together.
    #[serde(default, skip_serializing_if = "SpendingCaps::is_none")]
    pub budget: SpendingCaps,
    /// The tasks that it stands for; empty: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tasks: Vec<String>,
    /// Free labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
}

const fn three() -> u32 {
    3
}

impl CommandCandidate {
    pub(super) fn check(&self) -> Result<(), String> {
        let name = &self.name;
        if self.command.first().is_none_or(|it| it.trim().is_empty()) {
            return Err(format!("candidate `{name}`: `command` is empty"));
        }
        if self.retries > 50 {
            let found = self.retries;
            return Err(format!("candidate `{name}`: `retries` is at most 50, not {found}"));
        }
        self.budget.check(&format!("candidate `{name}`, `budget`"))?;
        self.price.check(name)
    }
}
