//! Which trials a session runs, and in which order.

use std::collections::{HashMap, HashSet};
use std::fmt;
use std::str::FromStr;

use fairtrial_core::plan::Candidate;
use fairtrial_core::schedule::{TrialKey, schedule};
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::{Record, RecordError, Selection, TrialSummary};

use crate::prepare::Preparation;
use crate::session::World as _;

/// Which of a plan's trials a session runs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TrialChoice {
    /// Tasks; empty: all.
    pub tasks: Vec<String>,
    /// Candidates; empty: all.
    pub candidates: Vec<String>,
    /// Samples of each, from the first on; `None`: as many as the plan says.
    pub samples: Option<u32>,
    /// What is held again; empty: what is void, and what is missing is run.
    pub again: Vec<HeldAgain>,
}

/// Trials that are to be held again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HeldAgain {
    /// Those that are void.
    Void,
    /// Those that failed.
    Failed,
    /// Those of tasks that changed.
    Changed,
    /// The one of this number.
    Trial(i64),
}

impl HeldAgain {
    /// Why a trial is set aside for it.
    pub fn why(&self) -> &'static str {
        match self {
            Self::Void => "void",
            Self::Failed => "failed",
            Self::Changed => "the task changed",
            Self::Trial(_) => "asked for",
        }
    }

    /// Whether it means a trial. Those of changed tasks are set aside before this is asked.
    fn means(&self, trial: &TrialSummary) -> bool {
        match self {
            Self::Void => trial.verdict.is_some_and(Verdict::is_void),
            Self::Failed => matches!(trial.verdict, Some(Verdict::Fail(_))),
            Self::Changed => false,
            Self::Trial(number) => trial.number == *number,
        }
    }
}

/// What is none of the ways to say which trials are held again.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`void`, `failed`, `changed`, or the number of a trial")]
pub struct UnknownAgain;

impl FromStr for HeldAgain {
    type Err = UnknownAgain;

    fn from_str(text: &str) -> Result<Self, UnknownAgain> {
        Ok(match text {
            "void" => Self::Void,
            "failed" => Self::Failed,
            "changed" => Self::Changed,
            number => Self::Trial(number.parse().map_err(|_| UnknownAgain)?),
        })
    }
}

/// A name that a choice has and the plan does not.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChoiceError {
    /// No task or candidate of that name.
    #[error("there is no {what} `{name}` in the plan; there are: {known}")]
    Unknown {
        /// `task` or `candidate`.
        what: &'static str,
        /// What was asked for.
        name: String,
        /// What there is.
        known: String,
    },
    /// The plan has fewer samples.
    #[error("the plan has {0} samples: raise `samples` there for more")]
    Samples(u32),
    /// No trial of that number.
    #[error("there is no trial {0} in the record")]
    NoTrial(i64),
    /// Changed tasks are held again by all candidates.
    #[error(
        "a task that changed is held again by all candidates, in all samples: leave out `--candidate`, `--task` and `--samples`"
    )]
    ChangedForSome,
}

impl fmt::Display for TrialChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let parts = [("tasks", &self.tasks), ("candidates", &self.candidates)];
        let parts = parts.iter().filter(|it| !it.1.is_empty());
        let mut words: Vec<String> =
            parts.map(|(what, names)| format!("{what} {}", names.join(", "))).collect();
        words.extend(self.samples.map(|it| format!("samples 1 to {it}")));
        words.extend(self.again.iter().map(|it| match it {
            HeldAgain::Trial(number) => format!("trial {number} again"),
            other => format!("{} again", other.why()),
        }));
        f.write_str(&words.join("; "))
    }
}

impl TrialChoice {
    /// Whether it leaves nothing out and holds nothing again.
    #[must_use]
    pub fn is_all(&self) -> bool {
        *self == Self::default()
    }

    /// Whether trials of tasks that changed are held again.
    #[must_use]
    pub fn takes_changed(&self) -> bool {
        self.again.contains(&HeldAgain::Changed)
    }

    /// Whether it is about a trial at all.
    #[must_use]
    pub fn covers(&self, key: &TrialKey) -> bool {
        (self.tasks.is_empty() || self.tasks.contains(&key.task))
            && (self.candidates.is_empty() || self.candidates.contains(&key.candidate))
            && self.samples.is_none_or(|it| key.sample <= it)
    }

    /// Checks its names against a plan's.
    ///
    /// # Errors
    /// When it has one that the plan does not have.
    pub fn check(&self, preparation: &Preparation) -> Result<(), ChoiceError> {
        let plan = &preparation.plan;
        let candidates: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
        let tasks: Vec<&str> = preparation.tasks.keys().map(String::as_str).collect();
        for (what, names, known) in
            [("task", &self.tasks, tasks), ("candidate", &self.candidates, candidates)]
        {
            if let Some(name) = names.iter().find(|it| !known.contains(&it.as_str())) {
                let (name, known) = (name.clone(), known.join(", "));
                return Err(ChoiceError::Unknown { what, name, known });
            }
        }
        if self.samples.is_some_and(|it| it == 0 || it > plan.samples) {
            return Err(ChoiceError::Samples(plan.samples));
        }
        let is_some =
            self.samples.is_some() || !self.tasks.is_empty() || !self.candidates.is_empty();
        if self.takes_changed() && is_some {
            return Err(ChoiceError::ChangedForSome);
        }
        Ok(())
    }

    /// The trials to be set aside, with why, of those that are known: what is void needs not be.
    ///
    /// # Errors
    /// When a trial was named that there is not.
    pub fn set_aside(&self, known: &[TrialSummary]) -> Result<Vec<(TrialKey, &str)>, ChoiceError> {
        for again in &self.again {
            if let HeldAgain::Trial(number) = again
                && !known.iter().any(|it| it.number == *number)
            {
                return Err(ChoiceError::NoTrial(*number));
            }
        }
        let over = known.iter().filter(|it| it.verdict.is_some_and(|it| !it.is_void()));
        let meant = over.filter_map(|it| {
            let again = self.again.iter().find(|again| again.means(it))?;
            self.covers(&it.key).then(|| (it.key.clone(), again.why()))
        });
        Ok(meant.collect())
    }
}

/// The trials of a plan.
pub(crate) struct TrialOrder {
    /// All, in the order in which they are begun.
    pub order: Vec<TrialKey>,
    /// What is known of those that were begun before.
    pub known: HashMap<TrialKey, TrialSummary>,
    /// Those that are still to be run, as far as they were chosen.
    pub waiting: Vec<TrialKey>,
    /// How many of those that are still to be run were not chosen.
    pub left_out: usize,
}

impl TrialOrder {
    /// The trials of what was prepared, with what a record knows of them. `set_aside` are those that were, or would be,
    /// set aside to be held again.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn new(
        preparation: &Preparation,
        record: Option<&Record>,
        choice: &TrialChoice,
        set_aside: &[TrialKey],
    ) -> Result<Self, RecordError> {
        let plan = &preparation.plan;
        let names: Vec<&str> = plan.candidates.iter().map(Candidate::name).collect();
        let tasks: Vec<&str> = preparation.tasks.keys().map(String::as_str).collect();
        let mut order = schedule(&names, &tasks, plan.samples, plan.seed);
        let takes = |key: &TrialKey| {
            let candidate = plan.candidates.iter().find(|it| it.name() == key.candidate);
            candidate.is_some_and(|it| it.takes(&key.task))
        };
        order.retain(takes);
        let summaries = record.map(|it| it.summaries(&Selection::default())).transpose()?;
        let known: HashMap<TrialKey, TrialSummary> =
            summaries.into_iter().flatten().map(|it| (it.key.clone(), it)).collect();
        let aside: HashSet<&TrialKey> = set_aside.iter().collect();
        let is_left =
            |key: &TrialKey| aside.contains(key) || is_to_be_run(preparation, known.get(key));
        let is_meant = |key: &TrialKey| {
            let is_again = |it: &TrialSummary| choice.again.iter().any(|again| again.means(it));
            choice.covers(key)
                && (choice.again.is_empty()
                    || aside.contains(key)
                    || known.get(key).is_some_and(is_again))
        };
        let left: Vec<&TrialKey> = order.iter().filter(|it| is_left(it)).collect();
        let waiting: Vec<TrialKey> =
            left.iter().filter(|it| is_meant(it)).map(|it| (*it).clone()).collect();
        let left_out = left.len() - waiting.len();
        Ok(Self { order, known, waiting, left_out })
    }

    /// Only the first trial of each candidate.
    pub fn keep_first(&mut self) {
        let mut seen = HashSet::new();
        let before = self.waiting.len();
        self.waiting.retain(|key| seen.insert(key.candidate.clone()));
        self.left_out += before - self.waiting.len();
    }
}

fn is_to_be_run(preparation: &Preparation, known: Option<&TrialSummary>) -> bool {
    match known.map(|it| (it, it.verdict)) {
        Some((known, Some(Verdict::Void(VoidReason::ToolMissing | VoidReason::Preflight)))) => {
            let task = preparation.tasks.get(&known.key.task);
            task.is_some_and(|it| preparation.unfit(it).is_none())
        }
        Some((known, Some(verdict))) => verdict.is_void() && preparation.has_answer(&known.key),
        Some((_, None)) | None => true,
    }
}
