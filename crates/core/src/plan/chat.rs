//! Models behind an endpoint.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::agent::AgentLimits;
use super::budget::SpendingCaps;
use super::endpoint::{HeaderText, Patience, address_fault, sixteen_mib, two_minutes};
use super::price::Price;
use super::prompt::PromptSettings;
use crate::limits::{Bytes, Span};

/// A model behind a chat-completions endpoint.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChatCandidate {
    /// Its name in every table.
    pub name: String,
    /// The base address; `/chat/completions` is put behind it.
    pub endpoint: String,
    /// The model's name there.
    pub model: String,
    /// The environment variable that holds the key; none: no key is sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_env: Option<String>,
    /// The system message.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system: Option<String>,
    /// Whether the answer is to come as a stream of events.
    #[serde(default)]
    pub stream: bool,
    /// Whether each sample sends a `seed` of its own, drawn from the plan's.
    #[serde(default)]
    pub send_seed: bool,
    /// Longest wait for one answer.
    #[serde(default = "two_minutes")]
    pub timeout: Span,
    /// Longest waits for parts of an answer.
    #[serde(default, skip_serializing_if = "Patience::is_default")]
    pub patience: Patience,
    /// Longest answer that is read, in bytes of what the host sends; a longer one counts as cut off.
    #[serde(default = "sixteen_mib", skip_serializing_if = "is_sixteen_mib")]
    pub longest_answer: Bytes,
    /// A file of certificates (PEM) that are trusted besides the machine's, beside the plan unless absolute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// How often one request is sent again after a fault of the host.
    #[serde(default = "three")]
    pub retries: u32,
    /// Further header lines. Their values can be keys: only their names are ever written down.
    #[serde(default)]
    pub headers: BTreeMap<String, HeaderText>,
    /// Whether it acts: our own small agent gives it tools to read and change files and to run commands.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub acts: bool,
    /// What one attempt of one that acts may use.
    #[serde(default, skip_serializing_if = "is_default")]
    pub limits: AgentLimits,
    /// Sampling settings, sent as they are: `temperature`, `top_p`, `max_tokens` and so on.
    #[serde(default)]
    pub sampling: BTreeMap<String, serde_json::Value>,
    /// What it costs.
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
    /// Free labels, such as size class or weights.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
}

fn is_default(limits: &AgentLimits) -> bool {
    *limits == AgentLimits::default()
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde hands a reference")]
fn is_sixteen_mib(longest: &Bytes) -> bool {
    *longest == sixteen_mib()
}

const fn three() -> u32 {
    3
}

/// Request fields that the tool sets itself.
const RESERVED: &[&str] =
    &["model", "messages", "stream", "stream_options", "n", "seed", "tools", "tool_choice"];

/// How often one request may be sent again.
const RETRIES_MAX: u32 = 50;

impl ChatCandidate {
    pub(super) fn check(&self) -> Result<(), String> {
        let name = &self.name;
        if let Some(fault) = address_fault(&self.endpoint) {
            return Err(format!("candidate `{name}`: {fault}"));
        }
        if let Some(key) = RESERVED.iter().find(|&&key| self.sampling.contains_key(key)) {
            return Err(format!("candidate `{name}`: `sampling` may not set `{key}`"));
        }
        if self.acts && self.stream {
            return Err(format!("candidate `{name}`: one that acts is not asked for a stream"));
        }
        if !self.acts && !is_default(&self.limits) {
            return Err(format!("candidate `{name}`: `limits` are for candidates that act"));
        }
        self.limits.check(name)?;
        if self.retries > RETRIES_MAX {
            let found = self.retries;
            return Err(format!(
                "candidate `{name}`: `retries` is at most {RETRIES_MAX}, not {found}"
            ));
        }
        self.budget.check(&format!("candidate `{name}`, `budget`"))?;
        self.price.check(name)
    }
}
