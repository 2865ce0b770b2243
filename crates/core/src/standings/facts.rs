//! What is known of a task, to group and weigh it by.

use std::collections::BTreeMap;

use super::Results;
use crate::verdict::{FailReason, UnknownWord};

/// What is known of a task.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct TaskFacts {
    /// Its name.
    pub name: String,
    /// The docket that it is from.
    pub docket: String,
    /// Its category.
    pub category: String,
    /// Its difficulty as it was set, 1 to 5.
    pub difficulty: u8,
    /// The language of answers.
    pub language: String,
    /// Its form; empty in records that did not say.
    pub form: String,
    /// Free words.
    pub tags: Vec<String>,
    /// What it is worth.
    pub points: f64,
    /// What its docket says its category weighs; `None` where the docket weighs none.
    pub weight: Option<f64>,
}

/// By what standings can be sliced.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Dimension {
    /// The category of tasks.
    Category,
    /// Their difficulty as it was set.
    Difficulty,
    /// Their language.
    Language,
    /// Their form.
    Form,
    /// Each of their tags: a task can be in several slices.
    Tag,
    /// Each task alone.
    Task,
    /// The docket.
    Docket,
    /// Why trials failed.
    Reason,
    /// A label of candidates.
    Label(String),
}

/// The dimensions that have a word of their own.
const WORDS: [(&str, Dimension); 8] = [
    ("category", Dimension::Category),
    ("difficulty", Dimension::Difficulty),
    ("language", Dimension::Language),
    ("form", Dimension::Form),
    ("tag", Dimension::Tag),
    ("task", Dimension::Task),
    ("docket", Dimension::Docket),
    ("reason", Dimension::Reason),
];

impl Dimension {
    /// The written form: a word, or `label:NAME`.
    #[must_use]
    pub fn word(&self) -> String {
        match self {
            Self::Label(name) => format!("label:{name}"),
            other => WORDS.iter().find(|it| it.1 == *other).map_or("", |it| it.0).to_owned(),
        }
    }
}

impl std::str::FromStr for Dimension {
    type Err = UnknownWord;

    fn from_str(text: &str) -> Result<Self, UnknownWord> {
        if let Some(name) = text.strip_prefix("label:").filter(|it| !it.is_empty()) {
            return Ok(Self::Label(name.to_owned()));
        }
        let found = WORDS.iter().find(|it| it.0 == text).map(|it| it.1.clone());
        found.ok_or_else(|| UnknownWord {
            found: text.to_owned(),
            allowed: WORDS.map(|it| it.0).join(", ") + ", label:NAME",
        })
    }
}

/// Some of the tasks and some of the candidates, by their places.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope {
    /// The candidates.
    pub candidates: Vec<usize>,
    /// The tasks.
    pub tasks: Vec<usize>,
    /// Attempts that a trial may take to count as solved; `None`: as many as it had.
    pub within: Option<u32>,
}

impl Scope {
    /// Everything.
    #[must_use]
    pub fn all(results: &Results) -> Self {
        Self {
            candidates: (0..results.candidates().len()).collect(),
            tasks: (0..results.tasks().len()).collect(),
            within: None,
        }
    }

    /// The slices of a scope in the order in which people list them, each with its name. `labels` are those
    /// of each candidate. By reason there are none: reasons slice trials, not tasks.
    #[must_use]
    pub fn slices(
        &self,
        by: &Dimension,
        results: &Results,
        labels: &[BTreeMap<String, String>],
    ) -> Vec<(String, Self)> {
        if let Dimension::Label(label) = by {
            let of = |it: usize| labels.get(it).and_then(|own| own.get(label)).into_iter().cloned();
            return group(&self.candidates, of)
                .into_iter()
                .map(|(name, candidates)| (name, Self { candidates, ..self.clone() }))
                .collect();
        }
        let of = |task: usize| {
            let facts = &results.tasks()[task];
            match by {
                Dimension::Category => vec![facts.category.clone()],
                Dimension::Difficulty => vec![facts.difficulty.to_string()],
                Dimension::Language => vec![facts.language.clone()],
                Dimension::Form => vec![facts.form.clone()],
                Dimension::Tag => facts.tags.clone(),
                Dimension::Task => vec![facts.name.clone()],
                Dimension::Docket => vec![facts.docket.clone()],
                Dimension::Reason | Dimension::Label(_) => Vec::new(),
            }
        };
        group(&self.tasks, |it| of(it).into_iter().filter(|name| !name.is_empty()))
            .into_iter()
            .map(|(name, tasks)| (name, Self { tasks, ..self.clone() }))
            .collect()
    }
}

/// Places by name, in the order of names.
fn group<I: Iterator<Item = String>>(
    places: &[usize],
    names: impl Fn(usize) -> I,
) -> BTreeMap<String, Vec<usize>> {
    let mut groups = BTreeMap::<String, Vec<usize>>::new();
    for &place in places {
        for name in names(place) {
            let group = groups.entry(name).or_default();
            if group.last() != Some(&place) {
                group.push(place);
            }
        }
    }
    groups
}

/// How often a candidate failed for each reason, over a scope.
#[must_use]
pub fn failures(results: &Results, scope: &Scope, candidate: usize) -> BTreeMap<FailReason, usize> {
    let mut counts = BTreeMap::new();
    let outcomes = scope.tasks.iter().flat_map(|&task| results.outcomes(candidate, task));
    for reason in outcomes.filter_map(|it| it.failed()) {
        *counts.entry(reason).or_default() += 1;
    }
    counts
}
