//! A whole record for others: the standings, tasks by candidates, and how it was run.

use fairtrial_core::standings::Dimension;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{Record, RecordError, Selection, TrialRow};
use serde_json::Value;

use super::matrix::{MatrixView, matrix_view};
use super::source::{StandingsError, StandingsSource};
use super::standings::{StandingsOptions, StandingsView, standings_view};
use super::trial::{TrialView, trial_view};

/// What is shown to others of a record.
#[derive(Debug, Clone, PartialEq)]
pub struct ReportView {
    /// The ranking, sliced by category.
    pub standings: StandingsView,
    /// Tasks by candidates.
    pub matrix: MatrixView,
    /// How it was run, so that another can repeat it.
    pub setup: Vec<SetupGroup>,
    /// Each task's digest, by name.
    pub digests: Vec<(String, String)>,
}

/// Facts of one kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetupGroup {
    /// What they are of.
    pub title: String,
    /// What, and its value.
    pub facts: Vec<(String, String)>,
}

/// Settings of a candidate that are shown: never an address or a header, which may hold a secret.
const SHOWN: [&str; 12] = [
    "kind",
    "model",
    "acts",
    "command",
    "system",
    "sampling",
    "stream",
    "max_tokens",
    "price",
    "limits",
    "labels",
    "tasks",
];

/// What is shown of records that were put together.
///
/// # Errors
/// When nothing is as the options ask for.
pub fn report_view(
    source: &StandingsSource<'_>,
    options: &StandingsOptions,
) -> Result<ReportView, StandingsError> {
    let sliced = StandingsOptions { by: Some(Dimension::Category), ..options.clone() };
    let standings = standings_view(source, &sliced)?;
    let scope = source.scope(&options.only, options.within)?;
    let tasks = source.results.tasks().iter().zip(&source.digests);
    Ok(ReportView {
        standings,
        matrix: matrix_view(source, &scope),
        setup: setup(source),
        digests: tasks
            .map(|(task, digest)| (task.name.clone(), digest.as_str().to_owned()))
            .collect(),
    })
}

/// A trial, by what its candidate is called where records are put together.
#[derive(Debug, Clone, PartialEq)]
pub struct NamedTrial {
    /// The candidate's name there.
    pub candidate: String,
    /// What there is behind it.
    pub evidence: TrialEvidence,
}

/// What there is behind a trial.
#[derive(Debug, Clone, PartialEq)]
pub enum TrialEvidence {
    /// All of it.
    Full(Box<TrialView>),
    /// What it came to, without any text.
    Brief(Box<TrialRow>),
}

impl TrialEvidence {
    /// The trial's row; of one in full without its attempts.
    #[must_use]
    pub fn row(&self) -> &TrialRow {
        match self {
            Self::Full(view) => &view.row,
            Self::Brief(row) => row,
        }
    }
}

/// Trials from which on not every one has its texts in a page.
const MANY: usize = 5000;

/// The trials at a task, by candidate and sample, those of all records. Where there are very many, each candidate's
/// first one that passed and first one that did not are there in full. With `unseal`, what is sealed is there, too.
///
/// # Errors
/// When a record cannot be read.
pub fn trials_at(
    source: &StandingsSource<'_>,
    task: &str,
    unseal: bool,
) -> Result<Vec<NamedTrial>, RecordError> {
    let is_whole = source.results.over() < MANY;
    let mut all = Vec::new();
    for (record, names) in source.named_records() {
        for candidate in &record.manifest().plan.candidates {
            let Some(&called) = names.get(candidate.name()) else { continue };
            let selection = Selection {
                candidate: Some(candidate.name().to_owned()),
                task: Some(task.to_owned()),
                ..Selection::default()
            };
            let mut rows = record.trials(&selection)?;
            rows.sort_by_key(|it| it.key.sample);
            let mut shown = Vec::new();
            for row in rows {
                let kind = row.verdict.map(Verdict::is_pass);
                let is_full = is_whole || !shown.contains(&kind);
                shown.push(kind);
                let evidence = match is_full {
                    true => TrialEvidence::Full(Box::new(trial_view(record, row, unseal)?)),
                    false => TrialEvidence::Brief(Box::new(row)),
                };
                all.push(NamedTrial { candidate: called.to_owned(), evidence });
            }
        }
    }
    Ok(all)
}

fn setup(source: &StandingsSource<'_>) -> Vec<SetupGroup> {
    let mut groups = Vec::new();
    for record in &source.records {
        groups.extend(of_record(record));
    }
    groups
}

fn of_record(record: &Record) -> Vec<SetupGroup> {
    let manifest = record.manifest();
    let plan = &manifest.plan;
    let mut dockets: Vec<String> = Vec::new();
    for task in &manifest.tasks {
        let docket = format!("{}, version {}", task.docket, task.docket_version);
        if !dockets.contains(&docket) {
            dockets.push(docket);
        }
    }
    let fact = |what: &str, value: String| (what.to_owned(), value);
    let mut groups = vec![SetupGroup {
        title: "plan".to_owned(),
        facts: vec![
            fact("begun", manifest.created.clone()),
            fact("dockets", dockets.join("; ")),
            fact("tasks", manifest.tasks.len().to_string()),
            fact("samples", plan.samples.to_string()),
            fact("attempts", plan.attempts.to_string()),
            fact("feedback", plan.feedback.to_string()),
            fact("reading", plan.reading.to_string()),
            fact("seed", plan.seed.to_string()),
            fact("at the same time", plan.parallel.to_string()),
        ],
    }];
    for candidate in &plan.candidates {
        let settings = serde_json::to_value(candidate).unwrap_or_default();
        let shown = SHOWN.iter().filter_map(|key| {
            let value = settings.get(key).filter(|it| !is_nothing(it))?;
            Some(fact(&key.replace('_', " "), plain(value)))
        });
        let title = format!("candidate {}", candidate.name());
        groups.push(SetupGroup { title, facts: shown.collect() });
    }
    for machine in &manifest.machines {
        let mut facts = vec![
            fact("fairtrial", machine.fairtrial.clone()),
            fact("kernel", machine.kernel.clone()),
        ];
        facts
            .extend(machine.sandbox.iter().map(|it| fact("confined in the tier", it.tier.clone())));
        let tools = machine.tools.iter().filter(|it| it.found);
        facts.extend(tools.map(|it| fact(&it.language, it.version.clone())));
        groups.push(SetupGroup { title: format!("machine, since {}", machine.since), facts });
    }
    groups
}

fn is_nothing(value: &Value) -> bool {
    match value {
        Value::Null | Value::Bool(false) => true,
        Value::Object(all) => all.values().all(is_nothing),
        Value::Array(all) => all.is_empty(),
        Value::String(text) => text.is_empty(),
        Value::Bool(true) | Value::Number(_) => false,
    }
}

/// A value as people write it.
fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(all) => all.iter().map(plain).collect::<Vec<_>>().join(" "),
        Value::Object(all) => {
            let some = all.iter().filter(|it| !is_nothing(it.1));
            some.map(|(key, value)| format!("{} {}", key.replace('_', " "), plain(value)))
                .collect::<Vec<_>>()
                .join(", ")
        }
        other => other.to_string(),
    }
}
