//! Judges recorded answers again, without asking anybody.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use fairtrial_core::docket::Task;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{AttemptRow, Machine, Manifest, NewRegrade, Record, RecordError, TrialRow};

use crate::hold::now;
use crate::pool::judge;
use crate::prepare::{Bench, Entry, PrepareError, PrepareOptions};

/// Where the tasks are, and how many answers are judged at a time.
#[derive(Debug, Clone)]
pub struct RegradeOptions {
    /// Folders of dockets; empty: those of the plan, beside the record.
    pub dockets: Vec<PathBuf>,
    /// Answers that are judged at the same time.
    pub judging: usize,
}

/// Why answers could not be judged again.
#[derive(Debug, thiserror::Error)]
pub enum RegradeError {
    /// The tasks, their tools or the sandbox.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// The record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// There is nothing to judge.
    #[error("the record `{0}` holds no judged answer")]
    NoAnswers(PathBuf),
}

/// One answer to be judged.
struct Item {
    trial: usize,
    attempt: AttemptRow,
    first: Verdict,
}

/// Judges every answer that has a verdict again, and adds a grading to the record. Gives its
/// number. `progress` hears how many answers are done, and of how many.
///
/// # Errors
/// When the tasks cannot be read, code cannot be confined, or the record not be read or written.
pub fn regrade(
    folder: &Path,
    options: &RegradeOptions,
    prepare: &PrepareOptions<'_>,
    progress: &(dyn Fn(usize, usize) + Sync),
) -> Result<i64, RegradeError> {
    let mut record = Record::open_to_add(folder)?;
    let manifest = record.manifest().clone();
    let base = folder.parent().unwrap_or(Path::new("."));
    let bench = Bench::lay_out(&manifest.plan, base, &options.dockets, prepare)?;
    let trials = record.trials()?;
    let (mut items, mut left_out) = (Vec::new(), 0);
    for (index, trial) in trials.iter().enumerate() {
        for attempt in &trial.attempts {
            let Some(first) = attempt.verdict.filter(|it| !it.is_void()) else { continue };
            match bench.tasks.get(&trial.key.task) {
                Some(_) => items.push(Item { trial: index, attempt: attempt.clone(), first }),
                None => left_out += 1,
            }
        }
    }
    if items.is_empty() && left_out == 0 {
        return Err(RegradeError::NoAnswers(folder.to_owned()));
    }
    let begun = now();
    let work: Vec<_> = items
        .into_iter()
        .map(|item| Ok((record.answer(&item.attempt)?, item)))
        .collect::<Result<_, RecordError>>()?;
    let again = |sent: &fairtrial_core::answer::Sent, item: &Item, entry: &Entry| {
        let mode = manifest.plan.reading;
        judge(&bench.judge, entry, sent, item.attempt.cut_off, mode, false).judgement
    };
    let (next, done) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let results = Mutex::new(BTreeMap::<usize, NewRegrade>::new());
    thread::scope(|scope| {
        for _ in 0..options.judging.max(1) {
            scope.spawn(|| {
                loop {
                    let place = next.fetch_add(1, Ordering::Relaxed);
                    let Some((sent, item)) = work.get(place) else { break };
                    let trial = &trials[item.trial];
                    let Some(entry) = bench.tasks.get(&trial.key.task) else { continue };
                    let judgement = again(sent, item, entry);
                    let cause = differs(item, &judgement)
                        .then(|| cause(&manifest, trial, &entry.task, &bench));
                    let regrade = NewRegrade { attempt: item.attempt.id, judgement, cause };
                    let count = done.fetch_add(1, Ordering::Relaxed) + 1;
                    let mut results = results.lock().unwrap_or_else(PoisonError::into_inner);
                    results.insert(place, regrade);
                    progress(count, work.len());
                }
            });
        }
    });
    let results = results.into_inner().unwrap_or_else(PoisonError::into_inner);
    let answers: Vec<NewRegrade> = results.into_values().collect();
    let machine = Machine { since: begun.clone(), ..bench.machine.clone() };
    Ok(record.commit_grading(&begun, &machine, left_out, &answers)?)
}

/// Whether the two verdicts differ; the count of tests that held belongs to a verdict.
fn differs(item: &Item, again: &Judgement) -> bool {
    item.first != again.verdict || item.attempt.tests_passed as usize != again.counts().0
}

/// Why a verdict may differ: what changed, or else that nothing did.
fn cause(manifest: &Manifest, trial: &TrialRow, task: &Task, bench: &Bench) -> String {
    let mut causes = Vec::new();
    let known = manifest.tasks.iter().find(|it| it.name == trial.key.task);
    if known.is_some_and(|it| it.digest != task.digest) {
        causes.push("task changed".to_owned());
    }
    let language = &task.language;
    let version = |machine: &Machine| {
        let tool = machine.tools.iter().find(|it| it.language == *language);
        tool.map(|it| it.version.clone())
    };
    let now = version(&bench.machine);
    if !manifest.machines.iter().any(|it| version(it) == now) {
        let was = manifest.machines.last().and_then(version).unwrap_or_default();
        causes.push(format!("tool changed ({was}, now {})", now.unwrap_or_default()));
    }
    if !manifest.machines.iter().any(|it| it.fairtrial == bench.machine.fairtrial) {
        causes.push("fairtrial changed".to_owned());
    }
    if causes.is_empty() { "unstable".to_owned() } else { causes.join(", ") }
}
