//! `plan.toml` as a whole.

use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::budget::Budget;
use super::candidate::Candidate;
use super::host::HostSettings;
use super::prompt::PromptSettings;
use crate::limits::LimitSettings;
use crate::source::{SourceError, parse_toml};
use crate::text::name_fault;
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
    /// How often a trial may show the same trouble before it is over; none: as often as it likes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_when_stuck: Option<u32>,
    /// Patterns of files that are taken out of repositories before anybody sees them, such as rules for
    /// agents.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub leave_out: Vec<String>,
    /// The wording of prompts, for all candidates that have none of their own.
    #[serde(default, skip_serializing_if = "PromptSettings::is_default")]
    pub prompt: PromptSettings,
    /// What every random choice depends on.
    #[serde(default)]
    pub seed: u64,
    /// Trials run at the same time.
    #[serde(default = "four")]
    pub parallel: u32,
    /// Answers judged at the same time; none: as many as there are processors, and no more than `parallel`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub judging: Option<u32>,
    /// What may be spent.
    #[serde(default, skip_serializing_if = "Budget::is_none")]
    pub budget: Budget,
    /// How much hosts may be asked.
    #[serde(default, rename = "host", skip_serializing_if = "Vec::is_empty")]
    pub hosts: Vec<HostSettings>,
    /// The currency of all prices, such as `EUR`.
    #[serde(default = "currency")]
    pub currency: String,
    /// Files of further languages, beside the plan.
    #[serde(default, alias = "recipes")]
    pub languages: Vec<String>,
    /// Limits that win over those of dockets and tasks.
    #[serde(default)]
    pub limits: LimitSettings,
    /// Figures that others published: shown beside one's own, never mixed in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub published: Vec<PublishedFigure>,
    /// Who stands trial.
    #[serde(rename = "candidate")]
    pub candidates: Vec<Candidate>,
}

/// A figure that somebody else published.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PublishedFigure {
    /// Whom it is about; need not stand trial here.
    pub candidate: String,
    /// What was measured, in a few words. `solved` and `first try` are shares from 0 to 1, and stand beside
    /// one's own.
    pub measure: String,
    /// The figure.
    pub value: f64,
    /// Where it was published.
    pub source: String,
}

impl PublishedFigure {
    fn check(&self) -> Result<(), String> {
        for (key, text) in
            [("candidate", &self.candidate), ("measure", &self.measure), ("source", &self.source)]
        {
            if text.trim().is_empty() || text.chars().any(char::is_control) {
                return Err(format!("[[published]]: `{key}` is empty or has control characters"));
            }
        }
        let is_share = ["solved", "first try"].contains(&self.measure.as_str());
        if !self.value.is_finite() || is_share && !(0.0..=1.0).contains(&self.value) {
            let (measure, value) = (&self.measure, self.value);
            return Err(format!("[[published]]: `{measure}` is a share from 0 to 1, not {value}"));
        }
        Ok(())
    }
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
            ("parallel", self.parallel, 1000),
            ("judging", self.judging.unwrap_or(1), 256),
        ] {
            if !(1..=most).contains(&value) {
                return Err(format!("`{key}` is 1 to {most}, not {value}"));
            }
        }
        if self.stop_when_stuck == Some(0) {
            return Err("`stop_when_stuck` is at least 1".to_owned());
        }
        if self.docket.folders().is_empty() {
            return Err("`docket` names no folder".to_owned());
        }
        if self.candidates.is_empty() {
            return Err("there is no [[candidate]]".to_owned());
        }
        self.published.iter().try_for_each(PublishedFigure::check)?;
        self.budget.check()?;
        self.limits.check("[limits]")?;
        self.check_hosts()?;
        let mut names = BTreeSet::new();
        for candidate in &self.candidates {
            let name = candidate.name();
            if let Some(fault) = name_fault(name) {
                let name = name.escape_debug();
                return Err(format!("the name of candidate `{name}` {fault}"));
            }
            for label in candidate.labels().keys() {
                let fault = name_fault(label).or(label.contains('=').then_some("has `=`"));
                if let Some(fault) = fault {
                    let label = label.escape_debug();
                    return Err(format!("candidate `{name}`: the label `{label}` {fault}"));
                }
            }
            if !names.insert(name) {
                return Err(format!("two candidates are called `{name}`"));
            }
            match candidate {
                Candidate::Chat(chat) => chat.check()?,
                Candidate::Agent(agent) => agent.check(false)?,
                Candidate::Acp(agent) => agent.check(true)?,
                Candidate::Command(command) => command.check()?,
                Candidate::Recorded(recorded) => recorded.price.check(&recorded.name)?,
            }
        }
        Ok(())
    }
}

impl Plan {
    /// The settings of the host at an address.
    #[must_use]
    pub fn host(&self, endpoint: &str) -> Option<&HostSettings> {
        self.hosts.iter().find(|it| it.is_at(endpoint))
    }

    fn check_hosts(&self) -> Result<(), String> {
        for (place, host) in self.hosts.iter().enumerate() {
            host.check()?;
            let endpoint = &host.endpoint;
            if self.hosts[..place].iter().any(|it| it.is_at(endpoint)) {
                return Err(format!("two [[host]] are for `{endpoint}`"));
            }
            let is_asked = |it: &Candidate| it.endpoint().is_some_and(|it| host.is_at(it));
            if !self.candidates.iter().any(is_asked) {
                return Err(format!("[[host]] `{endpoint}`: no candidate has this `endpoint`"));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::Tokens;

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
        let tokens = Tokens { input: 1_000_000, cached: 400_000, output: 500_000, reasoning: 9 };
        assert!((price.of(tokens) - (1.2 + 0.2 + 4.0)).abs() < 1e-12);
    }

    #[test]
    fn whatever_is_wrong_is_told() {
        for (from, to, part) in [
            ("samples", "sample", "line 2, column 1: unknown field `sample`"),
            (
                "\"chat\"",
                "\"cat\"",
                "unknown variant `cat`, expected one of `chat`, `command`, `recorded`, `agent`, `acp`",
            ),
            ("model =", "modell =", "unknown field `modell`"),
            ("= 3", "= 0", "`samples` is 1 to 1000, not 0"),
            ("http://", "ftp://", "begins with http://"),
            ("input = 2.0", "input = -2.0", "a price is"),
            (
                "[[candidate]]",
                "[[published]]\ncandidate = \"petrel\"\nmeasure = \"solved\"\nvalue = 61.0\n\
                 source = \"its makers\"\n[[candidate]]",
                "`solved` is a share from 0 to 1, not 61",
            ),
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
        for (name, fault) in [
            (" ", "` ` is empty"),
            (" petrel", "` petrel` begins or ends with a space"),
            ("-petrel", "`-petrel` begins with `-`"),
            ("pet\\u202Erel", "`pet\\u{202e}rel` has characters that cannot be seen"),
            ("pet\\nrel", "`pet\\nrel` has control characters"),
        ] {
            let error = Plan::parse("plan.toml", &PLAN.replace("petrel", name)).unwrap_err();
            assert!(error.to_string().contains(fault), "{error}");
        }
        let label = "model = \"m\"\nlabels = { \"size=s\" = \"x\" }\n";
        let error = Plan::parse("plan.toml", &PLAN.replace("model = \"m\"\n", label)).unwrap_err();
        assert!(error.to_string().contains("the label `size=s` has `=`"), "{error}");
    }
}
