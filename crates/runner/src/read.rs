//! How a text would be read as an answer to a task; nothing is judged, and nothing is run but what parses.

use std::path::PathBuf;

use fairtrial_core::answer::{AnswerEnd, Code, Deviation, Gaps, Reading, ReadingNotes, Submission};
use fairtrial_core::limits::LimitSettings;
use fairtrial_core::verdict::FailReason;
use fairtrial_grading::JudgeError;

use crate::prepare::{JudgingSetup, PrepareError, PrepareOptions, Sources, Wording};

/// Which task, and what is read.
#[derive(Debug, Clone)]
pub struct ReadOptions {
    /// The task's folder, in its docket's.
    pub task: PathBuf,
    /// The text.
    pub text: String,
    /// How it ended.
    pub end: AnswerEnd,
    /// Files of languages besides the shipped ones.
    pub languages: Vec<PathBuf>,
}

/// Why a text cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The task, its tools or the sandbox.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// The folder is no task in a docket.
    #[error("`{0}` is no task: it takes the folder of one, such as `docket/tide-gap`")]
    NoTask(PathBuf),
    /// What the task starts from cannot be made ready.
    #[error("the task `{task}` cannot be made ready")]
    Start {
        /// The task.
        task: String,
        /// Why not.
        #[source]
        source: Box<JudgeError>,
    },
}

/// How a text was read.
#[derive(Debug, Clone, PartialEq)]
pub struct ReadText {
    /// The task's name.
    pub task: String,
    /// Its language.
    pub language: String,
    /// The two readings.
    pub reading: Reading<Code>,
}

/// Reads a text.
///
/// # Errors
/// When there is no such task, or it cannot be made ready.
pub fn read_text(
    options: &ReadOptions,
    prepare: &PrepareOptions<'_>,
) -> Result<ReadText, ReadError> {
    let folder = options.task.canonicalize().unwrap_or_else(|_| options.task.clone());
    let no_task = || ReadError::NoTask(options.task.clone());
    let docket = folder.parent().ok_or_else(no_task)?;
    let name = folder.file_name().and_then(|it| it.to_str()).ok_or_else(no_task)?;
    if !folder.join("brief.md").is_file() {
        return Err(no_task());
    }
    let sources = Sources {
        dockets: vec![docket.to_owned()],
        languages: options.languages.clone(),
        leave_out: Vec::new(),
        wording: Wording::shipped(),
    };
    let setup = JudgingSetup::prepare(&LimitSettings::default(), &sources, prepare)?;
    let entry = setup.tasks.get(name).ok_or_else(no_task)?;
    let start = setup
        .judge
        .start(&entry.task, entry.limits)
        .map_err(|source| ReadError::Start { task: name.to_owned(), source: Box::new(source) })?;
    let submission = Submission::Text(options.text.clone());
    let reading = setup.judge.read(&entry.task, &start, &submission, options.end, entry.limits);
    let reading = match reading {
        Ok(reading) => reading.map(|change| entry.task.form.answer().code(&start, &change)),
        Err(message) => Reading {
            lenient: Err(FailReason::PatchDoesNotApply),
            deviations: vec![Deviation::NothingFound],
            gaps: Gaps::None,
            notes: ReadingNotes::default(),
            fault: Some(message),
        },
    };
    Ok(ReadText { task: name.to_owned(), language: entry.task.language.clone(), reading })
}
