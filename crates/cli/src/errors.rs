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
use fairtrial_report::{PageError, PngError, StandingsError, safe};
use fairtrial_runner::{FilesError, PrepareError, ReadError, RegradeError, RunError, VetError};
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
    /// The files of an attempt.
    #[error(transparent)]
    Files(#[from] FilesError),
    /// Reading a text.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// A run.
    #[error(transparent)]
    Run(#[from] RunError),
    /// A record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// Records that cannot be put together, or sliced so.
    #[error(transparent)]
    Standings(#[from] StandingsError),
    /// A docket.
    #[error(transparent)]
    Folder(#[from] FolderError),
    /// A file of models.
    #[error(transparent)]
    Source(#[from] SourceError),
    /// The stand-in.
    #[error(transparent)]
    Standin(#[from] StandinError),
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
    /// Two records have no candidate in common.
    #[error("the two records have no candidate in common")]
    NoCommonCandidate {
        /// Those of the older one.
        old: Vec<String>,
        /// Those of the newer one.
        new: Vec<String>,
    },
    /// A file whose ending says no format.
    #[error("`{0}` does not say what to write")]
    NoFormat(PathBuf),
    /// JUnit's XML has no place for a choice of trials.
    #[error(
        "JUnit XML has every trial with its first verdict: `--only`, `--at-attempt` and `--grading` do not go with it"
    )]
    JunitIsWhole,
    /// A report.
    #[error(transparent)]
    Report(#[from] PageError),
    /// A picture of a plot.
    #[error(transparent)]
    Png(#[from] PngError),
    /// No run has written to a record.
    #[error("no run has said in `{0}` how far it is")]
    NoRun(PathBuf),
    /// A note without words.
    #[error("a note needs words: say how the trial was helped")]
    EmptyNote,
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

/// The exit code that goes with a failure, and what to do about it.
struct Advice {
    code: u8,
    hints: Vec<String>,
}

impl Advice {
    fn of(code: u8) -> Self {
        Self { code, hints: Vec::new() }
    }

    fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hints.push(hint.into());
        self
    }
}

impl Failure {
    fn advice(&self) -> Advice {
        match self {
            Self::Prepare(error) => of_preparing(error),
            Self::Vet(VetError::Prepare(error)) => of_preparing(error),
            Self::Read(ReadError::Prepare(error)) => of_preparing(error),
            Self::Read(ReadError::Start { .. }) => Advice::of(OUTSIDE),
            Self::Read(ReadError::NoTask(_)) => Advice::of(USAGE),
            Self::Vet(_) | Self::Folder(_) | Self::Source(_) => Advice::of(USAGE),
            Self::NoVariable(_)
            | Self::UnknownLanguage { .. }
            | Self::EmptyNote
            | Self::JunitIsWhole => Advice::of(USAGE),
            Self::Files(error) => of_files(error),
            Self::Regrade(error) => of_regrading(error),
            Self::NoRun(_) => Advice::of(USAGE).hint("a run says it every second: fairtrial run PLAN"),
            Self::Run(RunError::Choice(_)) => Advice::of(USAGE),
            Self::Run(RunError::OtherPlan { what, .. }) if what.starts_with("the task `") => {
                Advice::of(USAGE)
                    .hint("hold its trials again, all candidates': fairtrial run PLAN --again changed")
                    .hint("or judge the recorded answers by it: fairtrial regrade RECORD")
            }
            Self::Run(RunError::OtherPlan { .. }) => Advice::of(USAGE)
                .hint("give the run a record of its own: fairtrial run PLAN --record DIR")
                .hint("or put the plan and its tasks back as they were"),
            Self::Run(RunError::Exposed(_)) => Advice::of(USAGE).hint(NOT_THERE),
            Self::Run(RunError::Record(error))
            | Self::Record(error)
            | Self::Standings(StandingsError::Record(error)) => of_record(error),
            Self::Standings(error) => of_standings(error),
            Self::NoFormat(_) => {
                Advice::of(USAGE).hint("say it: --format html, markdown, csv, json or junit")
            }
            Self::Report(PageError::Record(error)) => of_record(error),
            Self::Report(_) => Advice::of(OUTSIDE),
            Self::Png(PngError::NoFont) => Advice::of(OUTSIDE)
                .hint("install one, such as fonts-dejavu-core; or take SVG, without --png"),
            Self::Png(_) => Advice::of(OUTSIDE),
            Self::OutTaken(_) => {
                Advice::of(USAGE).hint("choose another folder: fairtrial demo --out DIR")
            }
            Self::NothingSelected { there, .. } => Advice::of(USAGE).hint(there),
            Self::NoCommonCandidate { old, new } => Advice::of(USAGE).hint(format!(
                "the one has {}; the other {}",
                old.join(", "),
                new.join(", ")
            )),
            Self::File { source, .. } if source.kind() == io::ErrorKind::NotFound => {
                Advice::of(USAGE)
            }
            Self::File { .. } | Self::Output(_) => Advice::of(OUTSIDE),
            Self::Standin(_) => Advice::of(OUTSIDE)
                .hint("take any port that is free: fairtrial standin DOCKET --port 0"),
        }
    }
}

/// Where neither dockets nor records may lie.
const NOT_THERE: &str = "keep it outside of the system's folders and of the interpreters' own";

fn of_regrading(error: &RegradeError) -> Advice {
    match error {
        RegradeError::Prepare(error @ PrepareError::Docket { .. }) => {
            of_preparing(error).hint("name the docket: fairtrial regrade RECORD --docket DIR")
        }
        RegradeError::Prepare(error) => of_preparing(error),
        RegradeError::NoAnswers(_) => Advice::of(USAGE),
        RegradeError::OwnLanguages(languages) => {
            Advice { code: USAGE, hints: language_hints(languages) }
        }
        RegradeError::Record(error) => of_record(error),
    }
}

fn of_standings(error: &StandingsError) -> Advice {
    match error {
        StandingsError::Record(error) => of_record(error),
        StandingsError::Currencies { .. } | StandingsError::TooMany { .. } => Advice::of(USAGE),
        StandingsError::NoGrading { .. } => {
            Advice::of(USAGE).hint("add one: fairtrial regrade RECORD")
        }
        StandingsError::NothingSo { there, .. } if there.is_empty() => Advice::of(USAGE),
        StandingsError::NothingSo { there, .. } => {
            Advice::of(USAGE).hint(format!("there are: {}", there.join(", ")))
        }
    }
}

fn of_files(error: &FilesError) -> Advice {
    match error {
        FilesError::Prepare(error) => of_preparing(error),
        FilesError::Regrade(error) => of_regrading(error),
        FilesError::Record(error) => of_record(error),
        FilesError::Start { .. } => Advice::of(OUTSIDE),
        FilesError::NoTrial(_) | FilesError::NoAttempt { .. } => {
            Advice::of(USAGE).hint("see which there are: fairtrial show RECORD")
        }
        FilesError::NoCode { .. } => {
            Advice::of(USAGE).hint("see the answer: fairtrial show RECORD --trial N")
        }
        FilesError::OtherTask(_) => {
            Advice::of(USAGE).hint("name the docket that it was run with: --docket DIR")
        }
    }
}

fn of_preparing(error: &PrepareError) -> Advice {
    match error {
        PrepareError::Sandbox(SandboxError::NoTier { .. }) => Advice::of(OUTSIDE)
            .hint("see what is missing, and what to do about it: fairtrial doctor")
            .hint("or, if you would run this code by hand as well: --trust-code"),
        PrepareError::Sandbox(_) => Advice::of(OUTSIDE),
        PrepareError::Asker(AskerError::NoKey { variable, .. }) => {
            Advice::of(USAGE).hint(format!("set it for this command: {variable}=… fairtrial run …"))
        }
        PrepareError::Exposed(_) => Advice::of(USAGE).hint(NOT_THERE),
        _ => Advice::of(USAGE),
    }
}

fn of_record(error: &RecordError) -> Advice {
    match error {
        error if error.is_disk_full() => Advice::of(OUTSIDE)
            .hint("what was committed is safe; make room and run the same command again"),
        RecordError::NotARecord(_) => {
            Advice::of(USAGE).hint("a record is the folder that `fairtrial run PLAN` writes")
        }
        RecordError::NotAFile(_) | RecordError::Newer { .. } => Advice::of(USAGE),
        RecordError::LookedAt(_) => Advice::of(OUTSIDE)
            .hint("end what shows it, such as `fairtrial show` in a pager, and run this again"),
        RecordError::Locked { .. } => Advice::of(OUTSIDE)
            .hint("wait until it is over, or end it; see how far it is: fairtrial watch RECORD"),
        RecordError::NoManifest(_) => Advice::of(USAGE)
            .hint("put its `manifest.json` back, or begin anew elsewhere: --record DIR"),
        RecordError::NoDatabase(_) => Advice::of(USAGE)
            .hint("put its `trials.sqlite` back, or begin anew elsewhere: --record DIR"),
        _ => Advice::of(OUTSIDE),
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
    let Advice { code, hints } = failure.advice();
    for hint in hints {
        let _ = writeln!(err, "{} {}", label("hint", "1"), safe(&hint));
    }
    ExitCode::from(code)
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
