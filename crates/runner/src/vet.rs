//! Proves a docket: do its tests tell right answers from wrong ones, every time?

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::atomic::AtomicBool;

use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::limits::LimitSettings;
use fairtrial_core::plan::ReadingMode;
use fairtrial_core::tree::FileTree;
use fairtrial_core::vet::{JudgedProof, ProcessChoice, SealedPart, VettedTask, vetted};
use fairtrial_grading::{Judge, JudgeOptions, PosedTask};
use fairtrial_sandbox::Tier;

use crate::pool::work_through;
use crate::prepare::{JudgingSetup, PlannedTask, PrepareError, PrepareOptions, Sources, Wording};

/// Which docket, and what of it.
#[derive(Debug, Clone)]
pub struct VetOptions {
    /// The docket's folder.
    pub docket: PathBuf,
    /// Only these tasks; empty: all.
    pub tasks: Vec<String>,
    /// Files of languages besides the shipped ones.
    pub languages: Vec<PathBuf>,
    /// Answers that are judged at the same time.
    pub judging: usize,
}

/// Why a docket could not be proved.
#[derive(Debug, thiserror::Error)]
pub enum VetError {
    /// The tasks, their tools or the sandbox.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// A person stopped it.
    #[error("stopped: nothing is proved")]
    Stopped,
    /// There is no such task.
    #[error("the docket has no task `{name}`; it has {known}")]
    UnknownTask {
        /// What was asked for.
        name: String,
        /// What there is.
        known: String,
    },
}

/// What was found of a docket.
#[derive(Debug, Clone, PartialEq)]
pub struct Vetted {
    /// Its tasks, by name.
    pub tasks: Vec<VettedTask>,
    /// What a person should know, such as tools that are missing.
    pub notes: Vec<String>,
}

/// Judges every proof of a docket, and its given files alone, twice each. `progress` hears how many
/// answers are done, and of how many.
///
/// # Errors
/// When the docket cannot be read, a task is not there, or code cannot be confined.
pub fn vet(
    options: &VetOptions,
    prepare: &PrepareOptions<'_>,
    stop: &AtomicBool,
    progress: &dyn Fn(usize, usize),
) -> Result<Vetted, VetError> {
    let sources = Sources {
        dockets: vec![options.docket.clone()],
        languages: options.languages.clone(),
        leave_out: Vec::new(),
        wording: Wording::shipped(),
    };
    let setup = JudgingSetup::prepare(&LimitSettings::default(), &sources, prepare)?;
    for name in &options.tasks {
        if !setup.tasks.contains_key(name) {
            let known = setup.tasks.keys().cloned().collect::<Vec<_>>().join(", ");
            return Err(VetError::UnknownTask { name: name.clone(), known });
        }
    }
    let is_wanted =
        |entry: &&PlannedTask| options.tasks.is_empty() || options.tasks.contains(&entry.task.name);
    let entries: Vec<&PlannedTask> = setup.tasks.values().filter(is_wanted).collect();
    let items: Vec<ProofToJudge<'_>> = entries.iter().flat_map(|&entry| items(entry)).collect();
    let (mut judged, mut count) = (vec![None; items.len()], 0);
    let twice = |item: &ProofToJudge<'_>| (item.judge(&setup.judge), item.judge(&setup.judge));
    let done = |place: usize, result| {
        count += 1;
        progress(count, items.len());
        judged[place] = result;
        Ok::<(), VetError>(())
    };
    work_through(&items, options.judging, stop, twice, done)?;
    if count < items.len() {
        return Err(VetError::Stopped);
    }
    let mut judged = items.iter().zip(judged).peekable();
    let tasks = entries.into_iter().map(|entry| {
        let mut own = Vec::new();
        while let Some((item, twice)) = judged.next_if(|it| it.0.entry.task.name == entry.task.name)
        {
            own.push(JudgedProof { name: item.name, right: item.right, twice });
        }
        let process = own_process(entry, &setup.judge);
        vetted(&entry.task, SealedPart { process, ..sealed_part(&entry.task) }, own)
    });
    Ok(Vetted { tasks: tasks.collect(), notes: setup.notes })
}

/// Where a task's unit tests run, and whether its right proofs hold with them elsewhere.
fn own_process(entry: &PlannedTask, judge: &Judge) -> Option<ProcessChoice> {
    let (is, form) = entry.task.form.other_process()?;
    if judge.sandbox().tier() != Tier::Full {
        // There is no choice.
        return Some(ProcessChoice { is: "shared", other: "apart", holds_there: false });
    }
    let other = if is == "apart" { "shared" } else { "apart" };
    let task = PosedTask { task: entry.task.task.clone(), form };
    let elsewhere = PlannedTask::new(task, entry.limits);
    let right: Vec<_> = items(&elsewhere).filter(|it| it.right).collect();
    let holds_there = !right.is_empty() && right.iter().all(|it| it.judge(judge).verdict.is_pass());
    Some(ProcessChoice { is, other, holds_there })
}

/// What a task's form says of its sealed part.
fn sealed_part(task: &PosedTask) -> SealedPart {
    let given = task.given.files().filter_map(|it| std::str::from_utf8(it.1).ok());
    let texts = std::iter::once(task.statement.as_str()).chain(given);
    let visible: BTreeSet<&str> = texts.flat_map(str::lines).map(str::trim).collect();
    SealedPart {
        form: task.form.name(),
        tests: task.form.sealed_tests().into_iter().map(|it| it.name).collect(),
        also_visible: task.form.also_visible(),
        proved: task.form.proved_tests(),
        without_twins: task.form.without_twins(),
        shown: task.form.shown(&visible),
        process: None,
    }
}

/// One answer to be judged.
struct ProofToJudge<'a> {
    entry: &'a PlannedTask,
    /// Empty for the given files alone.
    name: &'a str,
    right: bool,
    /// `None` for the given files alone.
    submission: Option<Submission>,
}

impl ProofToJudge<'_> {
    fn judge(&self, judge: &Judge) -> Judgement {
        let PlannedTask { task, limits, .. } = self.entry;
        let Some(submission) = &self.submission else {
            return judge.judge_files(task, &FileTree::new(), *limits, false);
        };
        let options = JudgeOptions {
            limits: *limits,
            reading: ReadingMode::Strict,
            end: AnswerEnd::Complete,
            examples: false,
        };
        let judged = judge.judge_submission(task, submission, options);
        let forgiven = judged.deviations.iter().map(|it| it.word()).collect::<Vec<_>>().join(", ");
        let mut judgement = judged.judgement;
        if !forgiven.is_empty() {
            judgement.notes.insert(0, format!("not to the letter: {forgiven}"));
        }
        judgement
    }
}

fn items(entry: &PlannedTask) -> impl Iterator<Item = ProofToJudge<'_>> {
    let proofs = entry.task.proofs.iter().map(move |proof| ProofToJudge {
        entry,
        name: &proof.name,
        right: proof.right,
        submission: Some(proof.answer.clone()),
    });
    proofs.chain([ProofToJudge { entry, name: "", right: false, submission: None }])
}
