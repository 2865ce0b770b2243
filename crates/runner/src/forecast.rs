//! What a run will take: from the texts of its docket, or from what an earlier run took.

use std::collections::HashMap;
use std::path::Path;

use fairtrial_core::answer::Submission;
use fairtrial_core::forecast::{
    CandidateForecast, Forecast, Load, MeasuredTrial, TaskTexts, smallest_difference,
};
use fairtrial_core::image::IMAGE_TOKENS;
use fairtrial_core::plan::Candidate;
use fairtrial_core::schedule::TrialKey;
use fairtrial_record::{Record, Selection, TrialSummary};

use crate::order::{TrialChoice, TrialOrder};
use crate::prepare::{PlannedTask, Preparation};
use crate::run::RunError;
use crate::session::World as _;

/// Bytes that are counted as one token.
const BYTES_PER_TOKEN: u64 = 4;

/// Tokens of an answer where no proof says how long a right one is.
const ANSWER: u64 = 400;

/// Tokens of what goes back after a failure.
const REPAIR: u64 = 200;

/// What a candidate says around its code, as a share of that.
const AROUND: f64 = 0.5;

/// What the trials that are still to be run will take. `record` is looked at where it is there; `from` is an earlier
/// record, whose candidates of the same names tell what theirs take.
///
/// # Errors
/// When a record cannot be read.
pub fn forecast(
    preparation: &Preparation,
    record: &Path,
    from: Option<&Path>,
) -> Result<Forecast, RunError> {
    let plan = &preparation.plan;
    let known = if record.exists() { Some(Record::open(record)?) } else { None };
    let trials = TrialOrder::new(preparation, known.as_ref(), &TrialChoice::default(), &[])?;
    let measured: Vec<TrialSummary> = match from {
        Some(from) => Record::open(from)?.summaries(&Selection::default())?,
        None => Vec::new(),
    };
    let candidates = plan.candidates.iter().map(|candidate| {
        let own: Vec<&TrialKey> =
            trials.waiting.iter().filter(|it| it.candidate == candidate.name()).collect();
        let before = MeasuredCandidate::new(candidate.name(), &measured);
        let (few, many) = match &before {
            Some(before) => {
                let rows: Vec<MeasuredTrial> = own.iter().map(|it| before.of(&it.task)).collect();
                let load = Load::measured(&rows, candidate.price());
                (load, load)
            }
            None => estimates(preparation, candidate, &own),
        };
        let (name, measured) = (candidate.name().to_owned(), before.is_some());
        let (trials, acts) = (own.len(), candidate.acts());
        CandidateForecast { candidate: name, trials, few, many, measured, acts }
    });
    let candidates = candidates.collect();
    let over: Vec<&TrialSummary> =
        measured.iter().filter(|it| it.verdict.is_some_and(|it| !it.is_void())).collect();
    let solved = over.iter().filter(|it| it.verdict.is_some_and(|it| it.is_pass())).count();
    let rate = match over.len() {
        0 => 0.5,
        all => (solved as f64 / all as f64).clamp(0.1, 0.9),
    };
    let tasks = preparation.tasks.len();
    Ok(Forecast {
        candidates,
        currency: plan.currency.clone(),
        tasks,
        samples: plan.samples,
        attempts: plan.attempts,
        parallel: plan.parallel,
        shows: smallest_difference(tasks, plan.samples, rate),
    })
}

/// What trials take by the texts alone: where each is solved at once, and where none is. Answers that were written down
/// take nothing.
fn estimates(
    preparation: &Preparation,
    candidate: &Candidate,
    trials: &[&TrialKey],
) -> (Load, Load) {
    if matches!(candidate, Candidate::Recorded(_)) {
        return (Load::default(), Load::default());
    }
    let manner = preparation.manner(candidate.name());
    let system = candidate.system().map_or(0, str::len) as u64;
    let texts = |key: &&TrialKey| {
        let entry = &preparation.tasks[&key.task];
        let prompt = entry.first_prompt(candidate.name(), manner).len() as u64;
        let images = entry.first_images(candidate.name(), manner).len() as u64;
        let prompt = (prompt + system).div_ceil(BYTES_PER_TOKEN) + images * IMAGE_TOKENS;
        TaskTexts { prompt, answer: answer_tokens(entry), repair: REPAIR }
    };
    let texts: Vec<TaskTexts> = trials.iter().map(texts).collect();
    let (attempts, price) = (preparation.plan.attempts, candidate.price());
    (Load::estimate(&texts, 1, price), Load::estimate(&texts, attempts, price))
}

/// How long a right answer is, by the proofs.
fn answer_tokens(entry: &PlannedTask) -> u64 {
    let right = entry.task.task.proofs.iter().filter(|it| it.right);
    let bytes = right.map(|it| match &it.answer {
        Submission::Text(text) => text.len(),
        Submission::Patch(patch) => patch.len(),
        Submission::Files(files) => files.values().map(Vec::len).sum(),
    });
    let bytes: Vec<usize> = bytes.collect();
    if bytes.is_empty() {
        return ANSWER;
    }
    let mean = bytes.iter().sum::<usize>() as f64 / bytes.len() as f64;
    (mean * (1.0 + AROUND) / BYTES_PER_TOKEN as f64).ceil() as u64
}

/// What trials of a candidate took in an earlier record.
struct MeasuredCandidate {
    tasks: HashMap<String, MeasuredTrial>,
    mean: MeasuredTrial,
}

impl MeasuredCandidate {
    /// `None` where the record has no trial of it that was answered.
    fn new(candidate: &str, trials: &[TrialSummary]) -> Option<Self> {
        let mut tasks = HashMap::<String, Vec<&TrialSummary>>::new();
        let own: Vec<&TrialSummary> = trials
            .iter()
            .filter(|it| it.key.candidate == candidate && it.attempts > 0)
            .filter(|it| it.verdict.is_some_and(|it| !it.is_void()))
            .collect();
        for trial in &own {
            tasks.entry(trial.key.task.clone()).or_default().push(trial);
        }
        let average = mean(&own)?;
        let tasks = tasks.into_iter().filter_map(|it| Some((it.0, mean(&it.1)?))).collect();
        Some(Self { tasks, mean: average })
    }

    /// What one trial at a task takes: as those before, or as the mean of all tasks.
    fn of(&self, task: &str) -> MeasuredTrial {
        self.tasks.get(task).copied().unwrap_or(self.mean)
    }
}

fn mean(trials: &[&TrialSummary]) -> Option<MeasuredTrial> {
    if trials.is_empty() {
        return None;
    }
    let count = trials.len() as f64;
    let of =
        |figure: fn(&TrialSummary) -> f64| trials.iter().map(|it| figure(it)).sum::<f64>() / count;
    Some(MeasuredTrial {
        requests: of(|it| f64::from(it.attempts)),
        input: of(|it| it.tokens.input as f64),
        cached: of(|it| it.tokens.cached as f64),
        output: of(|it| it.tokens.output as f64),
        seconds: of(|it| it.seconds),
    })
}
