//! What ends the program early, and how it is reported.

use std::collections::BTreeMap;
use std::error::Error;
use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;

use fairtrial_candidates::AskerError;
use fairtrial_core::language::LanguageDefinition;
use fairtrial_core::source::SourceError;
use fairtrial_grading::FolderError;
use fairtrial_record::RecordError;
use fairtrial_report::{ShowError, safe};
use fairtrial_runner::{PrepareError, RegradeError, RunError, VetError};
use fairtrial_sandbox::SandboxError;
use fairtrial_standin::StandinError;

use crate::environment::Environment;

/// Exit code of an answer that is "no".
pub const DIFFERS: u8 = 1;
/// Exit code of a wrong call: an argument, or a file that the user wrote.
pub const USAGE: u8 = 2;
/// Exit code of a fault outside: a host, the disk, this machine.
pub const OUTSIDE: u8 = 3;

/// What ended the program early.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// A plan, or what it names.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// Judging again.
    #[error(transparent)]
    Regrade(#[from] RegradeError),
    /// Proving a docket.
    #[error(transparent)]
    Vet(#[from] VetError),
    /// A run.
    #[error(transparent)]
    Hold(#[from] RunError),
    /// A record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// A docket.
    #[error(transparent)]
    Folder(#[from] FolderError),
    /// A file of models.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The stand-in.
    #[error(transparent)]
    StandinServer(#[from] StandinError),
    /// A file that cannot be read or written.
    #[error("failed to {what} `{path}`")]
    File {
        /// What was tried, such as `read`.
        what: &'static str,
        /// On which file.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
    /// The folder for the demo holds something else.
    #[error("`{0}` is there already and is no demo of this version")]
    OutTaken(PathBuf),
    /// An environment variable that was named is not set.
    #[error("the environment variable `{0}` is not set")]
    NoVariable(String),
    /// A language that is not defined.
    #[error("unknown language `{name}`; known are: {known}")]
    UnknownLanguage {
        /// What was asked for.
        name: String,
        /// What there is.
        known: String,
    },
    /// Nothing in the record is what was asked for.
    #[error("no trial in `{record}` is {wanted}")]
    NothingSelected {
        /// The record.
        record: PathBuf,
        /// What was asked for.
        wanted: String,
        /// What there is.
        there: String,
    },
    /// Standard output cannot be written.
    #[error("failed to write the output")]
    Output(#[from] io::Error),
}

impl From<ShowError> for Failure {
    fn from(error: ShowError) -> Self {
        match error {
            ShowError::Record(error) => Self::Record(error),
            ShowError::Write(error) => Self::Output(error),
        }
    }
}

fn record_code(error: &RecordError) -> u8 {
    match error {
        RecordError::NotARecord(_)
        | RecordError::NotAFile(_)
        | RecordError::NoDatabase(_)
        | RecordError::Newer { .. } => USAGE,
        _ => OUTSIDE,
    }
}

impl Failure {
    fn code(&self) -> u8 {
        match self {
            Self::Prepare(PrepareError::Sandbox(_)) => OUTSIDE,
            Self::Prepare(_) | Self::Folder(_) | Self::Source(_) => USAGE,
            Self::OutTaken(_) | Self::NoVariable(_) | Self::NothingSelected { .. } => USAGE,
            Self::UnknownLanguage { .. } => USAGE,
            Self::Vet(VetError::Prepare(PrepareError::Sandbox(_))) => OUTSIDE,
            Self::Vet(_) => USAGE,
            Self::Regrade(error) => match error {
                RegradeError::Prepare(PrepareError::Sandbox(_)) => OUTSIDE,
                RegradeError::Prepare(_)
                | RegradeError::NoAnswers(_)
                | RegradeError::OwnLanguages(_) => USAGE,
                RegradeError::Record(error) => record_code(error),
            },
            Self::Hold(RunError::OtherPlan { .. } | RunError::Exposed(_)) => USAGE,
            Self::Hold(RunError::Record(error)) | Self::Record(error) => record_code(error),
            Self::File { source, .. } if source.kind() == io::ErrorKind::NotFound => USAGE,
            Self::File { .. } | Self::StandinServer(_) | Self::Output(_) => OUTSIDE,
        }
    }

    /// What to do about it.
    fn hints(&self) -> Vec<String> {
        match self {
            Self::Prepare(PrepareError::Asker(AskerError::NoKey { variable, .. })) => {
                vec![format!("set it for this command: {variable}=… fairtrial run …")]
            }
            Self::Prepare(PrepareError::Exposed(_)) | Self::Hold(RunError::Exposed(_)) => vec![
                "keep it outside of the system's folders and of the interpreters' own".to_owned(),
            ],
            Self::Regrade(RegradeError::Prepare(PrepareError::Docket { .. })) => {
                vec!["name the docket: fairtrial regrade RECORD --docket DIR".to_owned()]
            }
            Self::Regrade(RegradeError::Record(error)) => record_hints(error),
            Self::Regrade(RegradeError::OwnLanguages(languages)) => language_hints(languages),
            Self::Prepare(PrepareError::Sandbox(SandboxError::NoTier { .. }))
            | Self::Regrade(RegradeError::Prepare(PrepareError::Sandbox(SandboxError::NoTier {
                ..
            }))) => vec![
                "see what is missing, and what to do about it: fairtrial doctor".to_owned(),
                "or, if you would run this code by hand as well: --trust-code".to_owned(),
            ],
            Self::Hold(RunError::OtherPlan { .. }) => vec![
                "give the run a record of its own: fairtrial run PLAN --record DIR".to_owned(),
                "or put the plan and its tasks back as they were".to_owned(),
            ],
            Self::Hold(RunError::Record(error)) | Self::Record(error) => record_hints(error),
            Self::OutTaken(_) => vec!["choose another folder: fairtrial demo --out DIR".to_owned()],
            Self::NothingSelected { there, .. } => vec![there.clone()],
            Self::StandinServer(_) => {
                vec!["take any port that is free: fairtrial standin DOCKET --port 0".to_owned()]
            }
            _ => Vec::new(),
        }
    }
}

/// What a record's languages would run, for who decides whether to.
fn language_hints(languages: &BTreeMap<String, LanguageDefinition>) -> Vec<String> {
    let mut hints = vec![
        "a record's languages are commands, and are not run: look at these, and name a file that \
         defines them: fairtrial regrade RECORD --languages FILE"
            .to_owned(),
    ];
    for (name, definition) in languages {
        let commands =
            definition.build.iter().chain([&definition.run]).chain(&definition.call_build);
        let lines: Vec<String> = commands.map(|it| it.join(" ")).collect();
        hints.push(format!(
            "`{name}` has the tool `{}`: {}",
            definition.tool.join("` or `"),
            lines.join("; ")
        ));
    }
    hints
}

fn record_hints(error: &RecordError) -> Vec<String> {
    match error {
        error if error.is_disk_full() => {
            vec!["what was committed is safe; make room and run the same command again".to_owned()]
        }
        RecordError::NotARecord(_) => {
            vec!["a record is the folder that `fairtrial run PLAN` writes".to_owned()]
        }
        RecordError::LookedAt(_) => {
            vec![
                "end what shows it, such as `fairtrial show` in a pager, and run this again"
                    .to_owned(),
            ]
        }
        RecordError::Locked(_) => vec!["wait until it is over, or end it".to_owned()],
        _ => Vec::new(),
    }
}

/// Prints an error, its causes and what to do about it; gives the exit code.
pub fn print(failure: &Failure, environment: &Environment, err: &mut dyn Write) -> ExitCode {
    let label = |word: &str, code: &str| {
        if environment.err_colour() {
            format!("\u{1b}[{code}m{word}:\u{1b}[0m")
        } else {
            format!("{word}:")
        }
    };
    let mut text = failure.to_string();
    let mut cause = failure.source();
    while let Some(error) = cause {
        text = format!("{text}: {error}");
        cause = error.source();
    }
    // Nowhere is left to tell that even this failed.
    let _ = writeln!(err, "{} {}", label("error", "1;31"), safe(&text));
    for hint in failure.hints() {
        let _ = writeln!(err, "{} {}", label("hint", "1"), safe(&hint));
    }
    ExitCode::from(failure.code())
}

/// Prints what clap has to say: help and version to standard output, errors to standard error.
pub fn print_usage(
    error: &clap::Error,
    environment: &Environment,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> ExitCode {
    let text = error.render();
    let written = if error.use_stderr() {
        match environment.err_colour() {
            true => write!(err, "{}", text.ansi()),
            false => write!(err, "{text}"),
        }
    } else {
        match environment.style().colour {
            true => write!(out, "{}", text.ansi()),
            false => write!(out, "{text}"),
        }
    };
    match (error.use_stderr(), written) {
        (true, _) => ExitCode::from(USAGE),
        (false, Ok(())) => ExitCode::SUCCESS,
        (false, Err(_)) => ExitCode::from(OUTSIDE),
    }
}
