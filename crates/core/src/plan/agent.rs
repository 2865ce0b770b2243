//! Programs that change the files of a task themselves.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::budget::SpendingCaps;
use super::endpoint::{HeaderText, Patience, address_fault, two_minutes};
use super::price::Price;
use super::prompt::PromptSettings;
use crate::limits::{Bytes, Span};

/// The kinds of tool calls of the Agent Client Protocol.
const TOOL_KINDS: &[&str] =
    &["read", "edit", "delete", "move", "search", "execute", "think", "fetch", "other"];

/// A program that changes the files of a task itself, in the sandbox.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AgentCandidate {
    /// Its name in every table.
    pub name: String,
    /// The program, beside the plan unless absolute or on the search path, and its arguments. `{prompt}`,
    /// `{prompt_file}`, `{folder}`, `{endpoint}` and `{model}` are filled in; `{stdin}` alone: the prompt
    /// comes on standard input.
    pub command: Vec<String>,
    /// Folders of this machine that it sees, read-only, beside the plan unless absolute.
    #[serde(default)]
    pub show: Vec<String>,
    /// A folder that is copied into its home folder, which is fresh for each attempt.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<String>,
    /// A command that says which version it is.
    #[serde(default)]
    pub version: Vec<String>,
    /// The base address that its requests are forwarded to; none: it can reach nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoint: Option<String>,
    /// The model that it may ask for there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub model: Option<String>,
    /// The environment variable that holds the key; the agent never sees it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_env: Option<String>,
    /// Further header lines of forwarded requests. Only their names are ever written down.
    #[serde(default)]
    pub headers: BTreeMap<String, HeaderText>,
    /// Its environment, over that of the task; filled in as the command is.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Longest wait for one forwarded request.
    #[serde(default = "two_minutes")]
    pub timeout: Span,
    /// Longest waits for parts of an answer.
    #[serde(default, skip_serializing_if = "Patience::is_default")]
    pub patience: Patience,
    /// A file of certificates (PEM) that are trusted besides the machine's, beside the plan unless absolute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// How its requests are forwarded where they are none of the chat-completions protocol.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub relay: Option<RelaySettings>,
    /// Kinds of tool calls for which one that speaks the Agent Client Protocol gets leave when it asks for it:
    /// `read`, `edit`, `delete`, `move`, `search`, `execute`, `think`, `fetch`, `other`; none: for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permit: Option<Vec<String>>,
    /// What one attempt may use.
    #[serde(default)]
    pub limits: AgentLimits,
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

/// How the relay forwards requests of another HTTP API than the chat-completions protocol.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RelaySettings {
    /// The paths below the endpoint that it may ask for, such as `/messages`; it is forwarded as it is.
    pub paths: Vec<String>,
    /// The header that carries the key, where it is not `Authorization: Bearer`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub header: Option<String>,
    /// Where in an answer, or in an event of a stream, the model's name and its tokens stand.
    #[serde(default)]
    pub usage: UsagePointers,
}

/// JSON pointers (RFC 6901) to what an answer says of its cost; the last event of a stream that has one counts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct UsagePointers {
    /// Tokens read, those from the cache included.
    pub input: Vec<String>,
    /// Tokens read from the cache.
    pub cached: Vec<String>,
    /// Tokens written.
    pub output: Vec<String>,
}

/// What one attempt of an agent may use; what is not set has the default that is named.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AgentLimits {
    /// Processor time: 600 s.
    pub time: Span,
    /// Time by the clock on the wall: 900 s.
    pub wall: Span,
    /// Memory of all its processes: 2 GiB.
    pub memory: Bytes,
    /// Processes and threads: 256.
    pub processes: u32,
    /// Forwarded requests: 200.
    pub requests: u32,
    /// Tokens read and written, together; none: as many as it likes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tokens: Option<u64>,
    /// Money, in the plan's currency; none: as much as it likes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub money: Option<f64>,
}

impl Default for AgentLimits {
    fn default() -> Self {
        let seconds = |count| Span(std::time::Duration::from_secs(count));
        Self {
            time: seconds(600),
            wall: seconds(900),
            memory: Bytes::mib(2048),
            processes: 256,
            requests: 200,
            tokens: None,
            money: None,
        }
    }
}

impl AgentCandidate {
    pub(super) fn check(&self, speaks_acp: bool) -> Result<(), String> {
        let name = &self.name;
        if self.permit.is_some() && !speaks_acp {
            return Err(format!("candidate `{name}`: `permit` is for the kind `acp`"));
        }
        let known = |it: &&String| !TOOL_KINDS.contains(&it.as_str());
        if let Some(odd) = self.permit.iter().flatten().find(known) {
            let kinds = TOOL_KINDS.join("`, `");
            return Err(format!("candidate `{name}`: `permit` has `{odd}`; there are `{kinds}`"));
        }
        if speaks_acp && self.command.iter().any(|it| it.contains("{prompt") || it == "{stdin}") {
            return Err(format!(
                "candidate `{name}`: the kind `acp` gets its prompt by the protocol, not in `command`"
            ));
        }
        if let Some(relay) = &self.relay {
            relay.check(name, self.endpoint.is_some())?;
        }
        if self.command.first().is_none_or(|it| it.trim().is_empty()) {
            return Err(format!("candidate `{name}`: `command` is empty"));
        }
        if let Some(fault) = self.endpoint.as_deref().and_then(address_fault) {
            return Err(format!("candidate `{name}`: {fault}"));
        }
        match &self.endpoint {
            Some(_) if self.model.is_none() => {
                return Err(format!("candidate `{name}`: an `endpoint` needs a `model`"));
            }
            None if self.model.is_some() || self.key_env.is_some() => {
                return Err(format!(
                    "candidate `{name}`: `model` and `key_env` need an `endpoint`"
                ));
            }
            _ => {}
        }
        self.limits.check(name)?;
        self.budget.check(&format!("candidate `{name}`, `budget`"))?;
        self.price.check(name)
    }
}

impl RelaySettings {
    fn check(&self, name: &str, has_endpoint: bool) -> Result<(), String> {
        let failed = |what: &str| Err(format!("candidate `{name}`: {what}"));
        if !has_endpoint {
            return failed("`relay` needs an `endpoint`");
        }
        if self.paths.is_empty() || self.paths.iter().any(|it| !it.starts_with('/')) {
            return failed("`relay.paths` are one or several, each beginning with `/`");
        }
        let UsagePointers { input, cached, output } = &self.usage;
        if [input, cached, output].into_iter().flatten().any(|it| !it.starts_with('/')) {
            return failed("`relay.usage` has JSON pointers, each beginning with `/`");
        }
        Ok(())
    }
}

impl AgentLimits {
    pub(super) fn check(&self, candidate: &str) -> Result<(), String> {
        let nothing = [
            ("time", self.time.0.is_zero()),
            ("wall", self.wall.0.is_zero()),
            ("memory", self.memory.0 == 0),
            ("processes", self.processes == 0),
            ("requests", self.requests == 0),
            ("tokens", self.tokens == Some(0)),
            ("money", self.money.is_some_and(|it| !(it > 0.0 && it.is_finite()))),
        ];
        match nothing.iter().find(|it| it.1) {
            Some((limit, _)) => {
                Err(format!("candidate `{candidate}`: the limit `{limit}` is not above 0"))
            }
            None => Ok(()),
        }
    }
}
