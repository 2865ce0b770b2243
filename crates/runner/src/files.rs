//! The files that an attempt came to.

use std::path::{Path, PathBuf};

use fairtrial_core::answer::Code;
use fairtrial_core::change::{Change, apply_patch};
use fairtrial_core::tree::WorkTree;
use fairtrial_grading::JudgeError;
use fairtrial_record::{Record, RecordError, Selection};

use crate::prepare::{JudgingSetup, PrepareError, PrepareOptions};
use crate::regrade::{RegradeError, sources};

/// Which attempt, and where its task is.
#[derive(Debug, Clone)]
pub struct FilesOptions {
    /// The trial's number.
    pub trial: i64,
    /// The attempt; `None`: the last one.
    pub attempt: Option<u32>,
    /// Folders of dockets; empty: those of the plan, beside the record.
    pub dockets: Vec<PathBuf>,
    /// Files of languages besides the shipped ones.
    pub languages: Vec<PathBuf>,
}

/// Why an attempt's files cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum FilesError {
    /// The tasks, their tools or the sandbox.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// What judging again takes, too.
    #[error(transparent)]
    Regrade(#[from] RegradeError),
    /// The record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// What the task starts from cannot be made ready.
    #[error("the task `{task}` cannot be made ready")]
    Start {
        /// The task.
        task: String,
        /// Why not.
        #[source]
        source: Box<JudgeError>,
    },
    /// There is no such trial.
    #[error("no trial {0} is in the record")]
    NoTrial(i64),
    /// There is no such attempt.
    #[error("trial {trial} has no attempt {attempt}")]
    NoAttempt {
        /// The trial.
        trial: i64,
        /// The attempt that was asked for.
        attempt: u32,
    },
    /// Nothing that could be judged was found in its answer.
    #[error("no files were found in the answer of attempt {attempt} of trial {trial}")]
    NoCode {
        /// The trial.
        trial: i64,
        /// The attempt.
        attempt: u32,
    },
    /// The docket has the task no longer, or another one of that name.
    #[error("the task `{0}` is not what it was when the trial was run")]
    OtherTask(String),
}

/// The files of one attempt, the last one unless another is asked for: those that the task starts from, with
/// the answer put on.
///
/// # Errors
/// When there is no such attempt, or the task is not there as it was.
pub fn attempt_files(
    folder: &Path,
    options: &FilesOptions,
    prepare: &PrepareOptions<'_>,
) -> Result<WorkTree, FilesError> {
    let record = Record::open(folder)?;
    let (number, attempt) = (options.trial, options.attempt);
    let selection = Selection { number: Some(number), ..Selection::default() };
    let trial = record.trials(&selection)?.pop().ok_or(FilesError::NoTrial(number))?;
    let mut rows = trial.attempts.iter();
    let row = rows.rfind(|row| attempt.is_none_or(|wanted| row.number == wanted));
    let missing = FilesError::NoAttempt { trial: number, attempt: attempt.unwrap_or(1) };
    let row = row.ok_or(missing)?;
    let no_code = || FilesError::NoCode { trial: number, attempt: row.number };
    let code = record.code(row)?.ok_or_else(no_code)?;
    let manifest = record.manifest();
    let base = folder.parent().unwrap_or(Path::new("."));
    let setup = JudgingSetup::prepare(
        &manifest.plan.limits,
        &sources(manifest, base, &options.dockets, &options.languages)?,
        prepare,
    )?;
    let name = &trial.key.task;
    let known = manifest.tasks.iter().find(|it| it.name == *name);
    let entry =
        setup.tasks.get(name).filter(|it| known.is_some_and(|was| it.task.is_of(&was.digest)));
    let entry = entry.ok_or_else(|| FilesError::OtherTask(name.clone()))?;
    let start = setup
        .judge
        .start(&entry.task, entry.limits)
        .map_err(|source| FilesError::Start { task: name.clone(), source: Box::new(source) })?;
    let change = match code {
        Code::Files(files) => Change::from(files),
        Code::Patch(patch) => {
            apply_patch(start.tree(), &patch, entry.limits.disk.0).map_err(|_| no_code())?.change
        }
    };
    Ok(change.on(start.tree()))
}
