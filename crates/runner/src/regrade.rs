//! Judges recorded answers again, without asking anybody.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use fairtrial_core::answer::Submission;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::LanguageDefinition;
use fairtrial_core::task::Task;
use fairtrial_core::verdict::Verdict;
use fairtrial_grading::JudgeOptions;
use fairtrial_record::{AttemptRow, Machine, Manifest, NewRegrade, Record, RecordError, TrialRow};

use crate::pool::in_parallel;
use crate::prepare::{JudgingSetup, PrepareError, PrepareOptions, Sources};
use crate::run::now;

/// Where the tasks are, and how many answers are judged at a time.
#[derive(Debug, Clone)]
pub struct RegradeOptions {
    /// Folders of dockets; empty: those of the plan, beside the record.
    pub dockets: Vec<PathBuf>,
    /// Files of languages besides the shipped ones. Those that the record's plan names are not read:
    /// a language is commands, and the record may come from a stranger.
    pub languages: Vec<PathBuf>,
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
    /// Its plan defined languages, and the user named no file that does.
    #[error(
        "the record was made with languages that its plan defined: {}",
        .0.keys().map(|it| format!("`{it}`")).collect::<Vec<_>>().join(", ")
    )]
    OwnLanguages(Box<BTreeMap<String, LanguageDefinition>>),
    /// There is nothing to judge.
    #[error("the record `{0}` holds no judged answer")]
    NoAnswers(PathBuf),
}

/// One answer to be judged.
struct AnswerToJudge<'a> {
    trial: &'a TrialRow,
    attempt: &'a AttemptRow,
    first: Verdict,
    submission: Submission,
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
    let sources = sources(&manifest, base, options)?;
    let setup = JudgingSetup::prepare(&manifest.plan.limits, &sources, prepare)?;
    let trials = record.trials()?;
    let (items, left_out) = select(&record, &setup, &trials)?;
    if items.is_empty() && left_out == 0 {
        return Err(RegradeError::NoAnswers(folder.to_owned()));
    }
    let begun = now();
    let judged =
        in_parallel(&items, options.judging, progress, |item| judge_again(&manifest, &setup, item));
    // An answer whose judging went wrong in our own code is left out, as one is whose task is gone.
    let left_out = left_out + judged.iter().filter(|it| it.is_none()).count() as u32;
    let answers: Vec<NewRegrade> = judged.into_iter().flatten().flatten().collect();
    let machine = Machine { since: begun.clone(), ..setup.machine.clone() };
    Ok(record.commit_grading(&begun, &machine, left_out, &answers)?)
}

fn sources(
    manifest: &Manifest,
    base: &Path,
    options: &RegradeOptions,
) -> Result<Sources, RegradeError> {
    if options.languages.is_empty() && !manifest.languages.is_empty() {
        return Err(RegradeError::OwnLanguages(Box::new(manifest.languages.clone())));
    }
    let mut sources = Sources::of_plan(&manifest.plan, base);
    sources.languages.clone_from(&options.languages);
    if !options.dockets.is_empty() {
        sources.dockets.clone_from(&options.dockets);
    }
    Ok(sources)
}

/// The answers that have a verdict and a task, and how many have a verdict only.
fn select<'a>(
    record: &Record,
    setup: &JudgingSetup,
    trials: &'a [TrialRow],
) -> Result<(Vec<AnswerToJudge<'a>>, u32), RecordError> {
    let (mut items, mut left_out) = (Vec::new(), 0);
    for trial in trials {
        for attempt in &trial.attempts {
            let Some(first) = attempt.verdict.filter(|it| !it.is_void()) else { continue };
            if setup.tasks.contains_key(&trial.key.task) {
                items.push(AnswerToJudge {
                    trial,
                    attempt,
                    first,
                    submission: record.answer(attempt)?,
                });
            } else {
                left_out += 1;
            }
        }
    }
    Ok((items, left_out))
}

fn judge_again(
    manifest: &Manifest,
    setup: &JudgingSetup,
    item: &AnswerToJudge<'_>,
) -> Option<NewRegrade> {
    let entry = setup.tasks.get(&item.trial.key.task)?;
    let options = JudgeOptions {
        limits: entry.limits,
        reading: manifest.plan.reading,
        cut_off: item.attempt.cut_off,
        examples: false,
    };
    let judged = setup.judge.judge_submission(&entry.task, &item.submission, options);
    let judgement = judged.judgement;
    let cause = differs(item, &judgement).then(|| cause(manifest, item.trial, &entry.task, setup));
    Some(NewRegrade { attempt: item.attempt.id, judgement, cause })
}

/// Whether the two verdicts differ; the count of tests that passed belongs to a verdict.
fn differs(item: &AnswerToJudge<'_>, again: &Judgement) -> bool {
    item.first != again.verdict || item.attempt.tests_passed as usize != again.counts().0
}

/// Why a verdict may differ: what changed, or else that nothing did.
fn cause(manifest: &Manifest, trial: &TrialRow, task: &Task, setup: &JudgingSetup) -> String {
    let mut causes = Vec::new();
    let known = manifest.tasks.iter().find(|it| it.name == trial.key.task);
    if known.is_some_and(|it| it.digest != task.digest) {
        causes.push("task changed".to_owned());
    }
    let language = &task.language;
    let defined = setup.judge.languages().added();
    if manifest.languages.get(language) != defined.get(language) {
        causes.push("language defined otherwise".to_owned());
    }
    let version = |machine: &Machine| {
        let tool = machine.tools.iter().find(|it| it.language == *language);
        tool.map(|it| it.version.clone())
    };
    let now = version(&setup.machine);
    if !manifest.machines.iter().any(|it| version(it) == now) {
        let was = manifest.machines.last().and_then(version).unwrap_or_default();
        causes.push(format!("tool changed ({was}, now {})", now.unwrap_or_default()));
    }
    if !manifest.machines.iter().any(|it| it.fairtrial == setup.machine.fairtrial) {
        causes.push("fairtrial changed".to_owned());
    }
    if causes.is_empty() { "unstable".to_owned() } else { causes.join(", ") }
}
