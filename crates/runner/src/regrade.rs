//! Judges recorded answers again, without asking anybody.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;

use fairtrial_core::answer::Submission;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::LanguageDefinition;
use fairtrial_core::schedule::TrialKey;
use fairtrial_core::task::Task;
use fairtrial_core::verdict::Verdict;
use fairtrial_grading::JudgeOptions;
use fairtrial_record::{
    AttemptRow, Machine, Manifest, NewRegrade, Record, RecordError, Selection, TrialRow,
};

use crate::pool::work_through;
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

/// What judging again came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Regraded {
    /// The grading's number in the record.
    pub grading: i64,
    /// Answers that it was to have.
    pub wanted: usize,
    /// Whether a person stopped it before it had all of them.
    pub stopped: bool,
}

/// How far judging again is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RegradeProgress {
    /// Answers that were judged, or left out.
    pub done: usize,
    /// Answers to be judged.
    pub wanted: usize,
    /// The candidates, in the order of the record.
    pub candidates: Vec<RegradedCandidate>,
}

/// How far the answers of one candidate are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RegradedCandidate {
    /// Its name.
    pub name: String,
    /// Answers to be judged.
    pub wanted: usize,
    /// Answers that were judged, or left out.
    pub done: usize,
    /// Of these, passed.
    pub passed: usize,
    /// Of these, judged otherwise than before.
    pub differs: usize,
}

impl RegradeProgress {
    fn of(items: &[AnswerToJudge<'_>]) -> Self {
        let mut progress = Self { wanted: items.len(), ..Self::default() };
        for item in items {
            progress.of_candidate(&item.trial.key.candidate).wanted += 1;
        }
        progress
    }

    fn of_candidate(&mut self, name: &str) -> &mut RegradedCandidate {
        let place = self.candidates.iter().position(|it| it.name == name);
        let place = place.unwrap_or_else(|| {
            let name = name.to_owned();
            self.candidates.push(RegradedCandidate { name, ..RegradedCandidate::default() });
            self.candidates.len() - 1
        });
        &mut self.candidates[place]
    }

    fn take(&mut self, item: &AnswerToJudge<'_>, judged: Option<&NewRegrade>) {
        self.done += 1;
        let row = self.of_candidate(&item.trial.key.candidate);
        row.done += 1;
        row.passed += usize::from(judged.is_some_and(|it| it.judgement.verdict.is_pass()));
        row.differs += usize::from(judged.is_some_and(|it| it.cause.is_some()));
    }

    /// Answers that were judged otherwise than before.
    #[must_use]
    pub fn differs(&self) -> usize {
        self.candidates.iter().map(|it| it.differs).sum()
    }
}

/// One answer to be judged.
struct AnswerToJudge<'a> {
    trial: &'a TrialRow,
    attempt: &'a AttemptRow,
    first: Verdict,
    submission: Submission,
}

/// Judges every answer that has a verdict again, and adds a grading to the record, an answer at a time.
/// `progress` hears of each answer that is done. `stop` ends it early.
///
/// # Errors
/// When the tasks cannot be read, code cannot be confined, or the record not be read or written.
pub fn regrade(
    folder: &Path,
    options: &RegradeOptions,
    prepare: &PrepareOptions<'_>,
    stop: &AtomicBool,
    progress: &mut dyn FnMut(&RegradeProgress),
) -> Result<Regraded, RegradeError> {
    let mut record = Record::open_to_add(folder)?;
    if let Some(key) = record.check_figures()?.first() {
        let TrialKey { candidate, task, sample } = key;
        let why = format!(
            "the figures of `{candidate}` at `{task}`, sample {sample}, are not what its attempts and requests give"
        );
        return Err(RecordError::Damaged { path: folder.to_owned(), why }.into());
    }
    let manifest = record.manifest().clone();
    let base = folder.parent().unwrap_or(Path::new("."));
    let sources = sources(&manifest, base, &options.dockets, &options.languages)?;
    let setup = JudgingSetup::prepare(&manifest.plan.limits, &sources, prepare)?;
    let trials = record.trials(&Selection::default())?;
    let (items, left_out) = select(&record, &setup, &trials)?;
    if items.is_empty() && left_out == 0 {
        return Err(RegradeError::NoAnswers(folder.to_owned()));
    }
    let begun = now();
    let machine = Machine { since: begun.clone(), ..setup.machine.clone() };
    let grading = record.begin_grading(&begun, &machine, left_out)?;
    let mut so_far = RegradeProgress::of(&items);
    progress(&so_far);
    let done = |place: usize, judged: Option<Option<NewRegrade>>| {
        let judged = judged.flatten();
        so_far.take(&items[place], judged.as_ref());
        progress(&so_far);
        match judged {
            Some(answer) => record.commit_regrade(grading, &answer),
            // Its judging went wrong in our own code: it is left out, as one is whose task is gone.
            None => record.leave_out_of_grading(grading, 1),
        }
    };
    let again = |item: &AnswerToJudge<'_>| judge_again(&manifest, &setup, item);
    work_through(&items, options.judging, stop, again, done)?;
    Ok(Regraded { grading, wanted: items.len(), stopped: so_far.done < items.len() })
}

/// Where the tasks of a record are.
pub fn sources(
    manifest: &Manifest,
    base: &Path,
    dockets: &[PathBuf],
    languages: &[PathBuf],
) -> Result<Sources, RegradeError> {
    if languages.is_empty() && !manifest.languages.is_empty() {
        return Err(RegradeError::OwnLanguages(Box::new(manifest.languages.clone())));
    }
    let mut sources = Sources::of_plan(&manifest.plan, base);
    sources.languages = languages.to_vec();
    if !dockets.is_empty() {
        sources.dockets = dockets.to_vec();
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
        end: item.attempt.end,
        examples: false,
    };
    let judged = setup.judge.judge_submission(&entry.task, &item.submission, options);
    let judgement = judged.judgement;
    let cause = differs(item, &judgement).then(|| cause(manifest, item.trial, &entry.task, setup));
    Some(NewRegrade { key: item.trial.key.clone(), attempt: item.attempt.number, judgement, cause })
}

/// Whether the two verdicts differ; the count of tests that passed belongs to a verdict.
fn differs(item: &AnswerToJudge<'_>, again: &Judgement) -> bool {
    item.first != again.verdict || item.attempt.tests_passed as usize != again.counts().0
}

/// Why a verdict may differ: what changed, or else that nothing did.
fn cause(manifest: &Manifest, trial: &TrialRow, task: &Task, setup: &JudgingSetup) -> String {
    let mut causes = Vec::new();
    let known = manifest.tasks.iter().find(|it| it.name == trial.key.task);
    if known.is_some_and(|it| !task.is_of(&it.digest)) {
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
