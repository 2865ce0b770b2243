//! A plan: what is put on trial, on which tasks, and how.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::limits::{Bytes, LimitSettings, Span};
use crate::source::{SourceError, parse_toml};
use crate::verdict::{UnknownWord, worded};

worded! {
    /// What goes back to a candidate whose answer failed.
    #[derive(Default)]
    Feedback {
        /// The kind of failure, and nothing else.
        Verdict = "verdict",
        /// The visible examples that failed, too, and why an answer did not build or load: all that
        /// can be reported without a word of the sealed tests.
        #[default]
        Examples = "examples",
        /// The first sealed test that failed, too, in full: for tests that are no secret.
        Open = "open",
    }
}

worded! {
    /// Which reading of an answer is judged.
    #[derive(Default)]
    ReadingMode {
        /// Code is found whatever surrounds it.
        #[default]
        Lenient = "lenient",
        /// The answer must be exactly what the prompt asks for.
        Strict = "strict",
    }
}

/// `plan.toml`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// What people call the plan.
    #[serde(default)]
    pub title: String,
    /// Folders of tasks, beside the plan unless absolute.
    pub docket: Dockets,
    /// Goes at each task.
    #[serde(default = "one")]
    pub samples: u32,
    /// Answers within one trial: the first and its repairs.
    #[serde(default = "one")]
    pub attempts: u32,
    /// What goes back after a failure.
    #[serde(default)]
    pub feedback: Feedback,
    /// Which reading of an answer is judged.
    #[serde(default)]
    pub reading: ReadingMode,
    /// What every random choice depends on.
    #[serde(default)]
    pub seed: u64,
    /// Trials run at the same time.
    #[serde(default = "four")]
    pub parallel: u32,
    /// The currency of all prices, such as `EUR`.
    #[serde(default = "currency")]
    pub currency: String,
    /// Files of further languages, beside the plan.
    #[serde(default, alias = "recipes")]
    pub languages: Vec<String>,
    /// Limits that win over those of dockets and tasks.
    #[serde(default)]
    pub limits: LimitSettings,
    /// Who stands trial.
    #[serde(rename = "candidate")]
    pub candidates: Vec<Candidate>,
}

const fn one() -> u32 {
    1
}

const fn four() -> u32 {
    4
}

fn currency() -> String {
    "USD".to_owned()
}

/// One docket or several.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged, expecting = "a folder, or a list of folders")]
pub enum Dockets {
    /// `docket = "folder"`.
    One(String),
    /// `docket = ["folder", "folder"]`.
    Many(Vec<String>),
}

impl Dockets {
    /// The folders, in the order given.
    #[must_use]
    pub fn folders(&self) -> &[String] {
        match self {
            Self::One(folder) => std::slice::from_ref(folder),
            Self::Many(folders) => folders,
        }
    }
}

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
}

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
    /// How often one request is sent again after a fault of the host.
    #[serde(default = "three")]
    pub retries: u32,
    /// Further header lines. Their values can be keys: only their names are ever written down.
    #[serde(default, serialize_with = "names_alone")]
    pub headers: BTreeMap<String, String>,
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

/// Writes the names of headers, with nothing of their values.
fn names_alone<S: serde::Serializer>(
    headers: &BTreeMap<String, String>,
    to: S,
) -> Result<S::Ok, S::Error> {
    to.collect_map(headers.keys().map(|name| (name, "not kept")))
}

const fn two_minutes() -> Span {
    Span(std::time::Duration::from_secs(120))
}

const fn three() -> u32 {
    3
}

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
    #[serde(default, serialize_with = "names_alone")]
    pub headers: BTreeMap<String, String>,
    /// Its environment, over that of the task; filled in as the command is.
    #[serde(default)]
    pub env: BTreeMap<String, String>,
    /// Longest wait for one forwarded request.
    #[serde(default = "two_minutes")]
    pub timeout: Span,
    /// What one attempt may use.
    #[serde(default)]
    pub limits: AgentLimits,
    /// What its tokens cost.
    #[serde(default)]
    pub price: Price,
    /// The tasks that it stands for; empty: all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tasks: Vec<String>,
    /// Free labels.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
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

/// Prices per million tokens, in the plan's currency.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Price {
    /// Tokens read.
    #[serde(default)]
    pub input: f64,
    /// Tokens read from the host's cache; `None`: as `input`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cached_input: Option<f64>,
    /// Tokens written.
    #[serde(default)]
    pub output: f64,
}

/// Tokens of one request or of many.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tokens {
    /// Read, those from the cache included.
    pub input: u64,
    /// Read from the cache.
    pub cached: u64,
    /// Written.
    pub output: u64,
}

impl Price {
    /// What `tokens` cost, in the plan's currency.
    #[must_use]
    pub fn of(&self, tokens: Tokens) -> f64 {
        let cached = tokens.cached.min(tokens.input);
        let fresh = tokens.input - cached;
        let cached_price = self.cached_input.unwrap_or(self.input);
        (fresh as f64 * self.input
            + cached as f64 * cached_price
            + tokens.output as f64 * self.output)
            / 1e6
    }
}

impl Candidate {
    /// Its name in every table.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Chat(chat) => &chat.name,
            Self::Recorded(recorded) => &recorded.name,
            Self::Agent(agent) => &agent.name,
        }
    }

    /// Its free labels.
    #[must_use]
    pub fn labels(&self) -> &BTreeMap<String, String> {
        match self {
            Self::Chat(chat) => &chat.labels,
            Self::Recorded(recorded) => &recorded.labels,
            Self::Agent(agent) => &agent.labels,
        }
    }

    /// The tasks that it stands for; empty: all.
    #[must_use]
    pub fn tasks(&self) -> &[String] {
        match self {
            Self::Chat(chat) => &chat.tasks,
            Self::Agent(agent) => &agent.tasks,
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
            Self::Recorded(_) | Self::Agent(_) => None,
        }
    }

    /// What it costs; recorded answers cost nothing.
    #[must_use]
    pub fn price(&self) -> Price {
        match self {
            Self::Chat(chat) => chat.price,
            Self::Agent(agent) => agent.price,
            Self::Recorded(_) => Price::default(),
        }
    }
}

/// Request fields that the tool sets itself.
const RESERVED: &[&str] =
    &["model", "messages", "stream", "stream_options", "n", "seed", "tools", "tool_choice"];

impl Plan {
    /// Reads a plan.
    ///
    /// # Errors
    /// With line and column: bad TOML, an unknown key; a name used twice, a number out of range.
    pub fn parse(file: &str, text: &str) -> Result<Self, SourceError> {
        let plan: Self = parse_toml(file, text)?;
        plan.check().map_err(|message| SourceError::whole(file, message))?;
        Ok(plan)
    }

    fn check(&self) -> Result<(), String> {
        for (key, value, most) in [
            ("samples", self.samples, 1000),
            ("attempts", self.attempts, 100),
            ("parallel", self.parallel, 256),
        ] {
            if !(1..=most).contains(&value) {
                return Err(format!("`{key}` is 1 to {most}, not {value}"));
            }
        }
        if self.docket.folders().is_empty() {
            return Err("`docket` names no folder".to_owned());
        }
        if self.candidates.is_empty() {
            return Err("there is no [[candidate]]".to_owned());
        }
        let mut names = BTreeSet::new();
        for candidate in &self.candidates {
            let name = candidate.name();
            if name.trim().is_empty() || name.chars().any(char::is_control) {
                return Err("a candidate's `name` is empty or has control characters".to_owned());
            }
            if !names.insert(name) {
                return Err(format!("two candidates are called `{name}`"));
            }
            match candidate {
                Candidate::Chat(chat) => chat.check()?,
                Candidate::Agent(agent) => agent.check()?,
                Candidate::Recorded(_) => {}
            }
        }
        Ok(())
    }
}

impl AgentCandidate {
    fn check(&self) -> Result<(), String> {
        let name = &self.name;
        if self.command.first().is_none_or(|it| it.trim().is_empty()) {
            return Err(format!("candidate `{name}`: `command` is empty"));
        }
        let is_address = |it: &str| it.starts_with("http://") || it.starts_with("https://");
        match &self.endpoint {
            Some(endpoint) if !is_address(endpoint) => {
                return Err(format!(
                    "candidate `{name}`: `endpoint` begins with http:// or https://, not `{endpoint}`"
                ));
            }
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
        self.price.check(name)
    }
}

/// How often one request may be sent again.
const RETRIES_MAX: u32 = 50;

impl ChatCandidate {
    fn check(&self) -> Result<(), String> {
        let name = &self.name;
        if !self.endpoint.starts_with("http://") && !self.endpoint.starts_with("https://") {
            let endpoint = &self.endpoint;
            return Err(format!(
                "candidate `{name}`: `endpoint` begins with http:// or https://, not `{endpoint}`"
            ));
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
        self.price.check(name)
    }
}

impl AgentLimits {
    fn check(&self, candidate: &str) -> Result<(), String> {
        if self.requests == 0 || self.processes == 0 || self.money.is_some_and(|it| it <= 0.0) {
            return Err(format!("candidate `{candidate}`: a limit is not above 0"));
        }
        Ok(())
    }
}

impl Price {
    fn check(&self, candidate: &str) -> Result<(), String> {
        let prices = [self.input, self.output, self.cached_input.unwrap_or(0.0)];
        if prices.iter().any(|it| !(*it >= 0.0 && it.is_finite())) {
            return Err(format!("candidate `{candidate}`: a price is a number of at least 0"));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "docket = \"docket\"\nsamples = 3\n[[candidate]]\nname = \"petrel\"\n\
        kind = \"chat\"\nendpoint = \"http://127.0.0.1:9/v1\"\nmodel = \"m\"\n\
        [candidate.price]\ninput = 2.0\ncached_input = 0.5\noutput = 8.0\n";

    #[test]
    fn a_plan_is_read_with_its_defaults() {
        let plan = Plan::parse("plan.toml", PLAN).unwrap();
        assert_eq!((plan.samples, plan.attempts, plan.parallel), (3, 1, 4));
        assert_eq!(plan.docket.folders(), ["docket"]);
        assert_eq!((plan.feedback, plan.reading), (Feedback::Examples, ReadingMode::Lenient));
    }

    #[test]
    fn cached_tokens_are_priced_apart() {
        let price = Plan::parse("plan.toml", PLAN).unwrap().candidates[0].price();
        let tokens = Tokens { input: 1_000_000, cached: 400_000, output: 500_000 };
        assert!((price.of(tokens) - (1.2 + 0.2 + 4.0)).abs() < 1e-12);
    }

    #[test]
    fn whatever_is_wrong_is_told() {
        for (from, to, part) in [
            ("samples", "sample", "line 2, column 1: unknown field `sample`"),
            (
                "\"chat\"",
                "\"cat\"",
                "unknown variant `cat`, expected one of `chat`, `recorded`, `agent`",
            ),
            ("model =", "modell =", "unknown field `modell`"),
            ("= 3", "= 0", "`samples` is 1 to 1000, not 0"),
            ("http://", "ftp://", "begins with http://"),
            ("input = 2.0", "input = -2.0", "a price is"),
            ("[candidate.price]", "[candidate.sampling]", ""),
        ] {
            let result = Plan::parse("plan.toml", &PLAN.replacen(from, to, 1));
            match part {
                "" => assert!(result.is_ok()),
                _ => assert!(result.unwrap_err().to_string().contains(part), "{to}"),
            }
        }
        let twice = format!("{PLAN}{}", &PLAN[PLAN.find("[[").unwrap()..]);
        let error = Plan::parse("plan.toml", &twice).unwrap_err().to_string();
        assert!(error.contains("two candidates are called `petrel`"), "{error}");
    }
}
