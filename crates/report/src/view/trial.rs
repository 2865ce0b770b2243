//! Trials in full: prompt, answers, code, tests, feedback.

use std::collections::BTreeMap;

use fairtrial_core::answer::Code;
use fairtrial_core::change::ChangeFacts;
use fairtrial_core::judgement::TestOutcome;
use fairtrial_record::{
    AttemptRow, GradingRow, Record, RecordError, RegradeRow, RequestRow, Selection, StepRow,
    TaskNote, TrialRow, TrialSummary,
};
use serde::{Deserialize, Serialize};

/// A trial in full.
#[derive(Debug, Clone, PartialEq)]
pub struct TrialView {
    /// The trial's row, but for its attempts.
    pub row: TrialRow,
    /// What the manifest says of its task.
    pub task: Option<TaskNote>,
    /// The currency of costs.
    pub currency: String,
    /// Seconds that the candidate took to answer.
    pub seconds: f64,
    /// The candidate's system text, where it has one.
    pub system: Option<String>,
    /// The first prompt.
    pub prompt: String,
    /// The attempts, in order.
    pub attempts: Vec<AttemptView>,
}

/// An attempt in full.
#[derive(Debug, Clone, PartialEq)]
pub struct AttemptView {
    /// The attempt's row.
    pub row: AttemptRow,
    /// What was sent; files as a JSON object of paths and contents.
    pub answer: String,
    /// What was thought aloud on the way to it, where the host keeps that apart; empty: nothing.
    pub thought: String,
    /// What was judged.
    pub code: Option<Code>,
    /// What the change does, where the answer is one to a repository.
    pub change: Option<ChangeFacts>,
    /// How a candidate that acts ended, and what it said.
    pub ended: Option<ActorEndView>,
    /// What a candidate that acts did on the way.
    pub steps: Vec<StepView>,
    /// The requests that it made meanwhile, where it acts.
    pub requests: Vec<RequestRow>,
    /// How its tests differ from what they were when they were run last, or before any change was made.
    pub colours: ColourChanges,
    /// The error or compiler message.
    pub message: Option<String>,
    /// What went back to the candidate.
    pub feedback: Option<String>,
    /// Every test.
    pub tests: Vec<TestView>,
    /// What it came to when it was judged again, and when that was.
    pub again: Vec<(RegradeRow, String)>,
}

/// One thing that a candidate did on the way to an answer.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct StepView {
    /// In which round of the trial.
    pub round: u32,
    /// Which one, from 1.
    pub number: u32,
    /// When it was over.
    pub at: String,
    /// What it was: `read`, `edit`, `run` and so on.
    pub kind: String,
    /// What it was about: a path, a command.
    pub subject: String,
    /// `done`, or why not.
    pub outcome: String,
    /// What came of it, head and tail.
    pub detail: String,
    /// Seconds that it took.
    pub seconds: f64,
}

/// Tests that changed their colour.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct ColourChanges {
    /// Those that failed and pass now.
    pub turned_green: Vec<String>,
    /// Those that passed and fail now.
    pub turned_red: Vec<String>,
}

impl ColourChanges {
    /// From when each test was run last to now. Before the first time, tests that are to turn green were red
    /// and tests that are to stay green were green.
    fn since(before: &[AttemptView], now: &[TestView]) -> Self {
        let was = |test: &TestOutcome| {
            let mut earlier = before.iter().rev().flat_map(|it| &it.tests).map(|it| &it.outcome);
            let same = earlier
                .find(|it| it.name == test.name && it.was_run())
                .map(|it| it.failed.is_none());
            same.or(match test.role.as_str() {
                "turn green" => Some(false),
                "stay green" => Some(true),
                _ => None,
            })
        };
        let changed = |to: bool| {
            let now = now.iter().map(|it| &it.outcome).filter(|it| it.was_run());
            let now = now.filter(|it| it.failed.is_none() == to);
            now.filter(|it| was(it) == Some(!to)).map(|it| it.name.clone()).collect()
        };
        Self { turned_green: changed(true), turned_red: changed(false) }
    }
}

/// A test. What is sealed of it is there only if it was asked for.
#[derive(Debug, Clone, PartialEq)]
pub struct TestView {
    /// What it came to; without input, expectation and result where these are sealed.
    pub outcome: TestOutcome,
    /// Whether they may be shown.
    pub is_open: bool,
}

impl TrialView {
    /// Requests that were answered, of which the host said something beside the answer: an odd reason why it
    /// ended, a refusal.
    pub fn remarks(&self) -> impl Iterator<Item = &RequestRow> {
        self.row.requests.iter().filter(|it| it.outcome == "answered" && !it.detail.is_empty())
    }

    /// The requests that were not answered.
    pub fn unanswered(&self) -> impl Iterator<Item = &RequestRow> {
        self.row.requests.iter().filter(|it| it.outcome != "answered")
    }
}

/// Whether a selection is narrow enough for its trials to be shown in full rather than listed.
#[must_use]
pub fn is_narrow(selection: &Selection, trials: &[TrialSummary]) -> bool {
    let is_one_pair = selection.task.is_some() && selection.candidate.is_some();
    trials.len() <= 1 || selection.number.is_some() || is_one_pair
}

/// Trials in figures, in the order in which people look for them: by task, candidate and sample.
///
/// # Errors
/// When the record cannot be read.
pub fn trial_list(
    record: &Record,
    selection: &Selection,
) -> Result<Vec<TrialSummary>, RecordError> {
    let mut trials = record.summaries(selection)?;
    trials.sort_by(|a, b| {
        let (a, b) = (&a.key, &b.key);
        (&a.task, &a.candidate, a.sample).cmp(&(&b.task, &b.candidate, b.sample))
    });
    Ok(trials)
}

/// A trial in full; with `unseal`, its sealed parts, too.
///
/// # Errors
/// When the record cannot be read.
pub fn trial_view(
    record: &Record,
    mut row: TrialRow,
    unseal: bool,
) -> Result<TrialView, RecordError> {
    let gradings = record.gradings(&Selection::of(&row.key))?;
    let seconds = row.seconds();
    let attempts = std::mem::take(&mut row.attempts);
    let steps = std::mem::take(&mut row.steps);
    let mut views = Vec::<AttemptView>::new();
    for attempt in attempts {
        let mut view = attempt_view(record, attempt, &steps, &gradings, unseal)?;
        view.colours = ColourChanges::since(&views, &view.tests);
        if view.ended.is_some() {
            let own = row.requests.iter().filter(|it| it.attempt == view.row.number);
            view.requests = own.cloned().collect();
        }
        let own = row.requests.iter().filter(|it| it.attempt == view.row.number);
        for thought in own.filter_map(|it| it.thought.as_deref()) {
            view.thought.push_str(&record.text(thought)?);
        }
        views.push(view);
    }
    let manifest = record.manifest();
    Ok(TrialView {
        task: manifest.tasks.iter().find(|it| it.name == row.key.task).cloned(),
        currency: manifest.plan.currency.clone(),
        seconds,
        system: manifest
            .plan
            .candidates
            .iter()
            .find(|it| it.name() == row.key.candidate)
            .and_then(|it| it.system().map(str::to_owned)),
        prompt: record.text(&row.prompt)?,
        attempts: views,
        row,
    })
}

/// How a candidate that acts ended, and what it said.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct ActorEndView {
    /// How its program ended, in words.
    pub ended: String,
    /// The limit that ended it; empty: none did.
    pub limit: String,
    /// Standard output, head and tail.
    pub stdout: String,
    /// Standard error, head and tail.
    pub stderr: String,
    /// Seconds by the clock on the wall.
    pub wall_seconds: f64,
    /// Seconds of processor time.
    pub cpu_seconds: f64,
    /// Most memory at one time, in bytes.
    pub peak_memory: u64,
    /// How it saw the repository; empty: it had files of its own.
    pub view: String,
    /// What it asked for in vain, with how often.
    pub refused: BTreeMap<String, u32>,
    /// Files that it left and that are no part of its change.
    pub left_out: usize,
}

fn attempt_view(
    record: &Record,
    row: AttemptRow,
    steps: &[StepRow],
    gradings: &[GradingRow],
    unseal: bool,
) -> Result<AttemptView, RecordError> {
    let text = |digest: &Option<String>| digest.as_deref().map(|it| record.text(it)).transpose();
    let again = gradings.iter().flat_map(|grading| {
        let own = grading.answers.iter().filter(|it| it.attempt == row.number);
        own.map(|it| (it.clone(), grading.begun.clone()))
    });
    let test = |outcome: TestOutcome| match unseal || outcome.visible {
        true => TestView { outcome, is_open: true },
        false => {
            let none = String::new;
            let outcome = TestOutcome { input: none(), expected: none(), found: none(), ..outcome };
            TestView { outcome, is_open: false }
        }
    };
    let steps = steps.iter().filter(|it| it.attempt == row.number);
    Ok(AttemptView {
        steps: steps.map(|it| step_view(record, it)).collect::<Result<_, _>>()?,
        answer: record.text(&row.answer)?,
        code: record.code(&row)?,
        change: record.change(&row)?,
        ended: record.ended_as(&row)?.and_then(|it| serde_json::from_value(it).ok()),
        message: text(&row.message)?,
        feedback: text(&row.feedback)?,
        tests: record.tests(&row)?.into_iter().map(test).collect(),
        requests: Vec::new(),
        thought: String::new(),
        colours: ColourChanges::default(),
        again: again.collect(),
        row,
    })
}

fn step_view(record: &Record, step: &StepRow) -> Result<StepView, RecordError> {
    let detail = step.detail.as_deref().map(|it| record.text(it)).transpose()?;
    Ok(StepView {
        round: step.round,
        number: step.number,
        at: step.at.clone(),
        kind: step.kind.clone(),
        subject: step.subject.clone(),
        outcome: step.outcome.clone(),
        detail: detail.unwrap_or_default(),
        seconds: step.seconds,
    })
}
