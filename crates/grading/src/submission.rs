//! From what a candidate sent to a judgement: finding the code, applying a patch, mending what does
//! not parse, building, running, comparing.

use std::cell::Cell;
use std::time::{Duration, Instant};

use fairtrial_core::answer::{
    AnswerEnd, Code, Deviation, Reading, ReadingNotes, SoundCheck, Submission,
};
use fairtrial_core::change::Change;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::limits::Limits;
use fairtrial_core::plan::ReadingMode;
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::FailReason;

use crate::docket::PosedTask;
use crate::form::{ReadFrom, Start};
use crate::judge::{Judge, error_judged};
use crate::outcome::nothing_run;

/// How a submission is judged.
#[derive(Debug, Clone, Copy)]
pub struct JudgeOptions {
    /// The limits of its runs.
    pub limits: Limits,
    /// Whether code is also found in what surrounds it.
    pub reading: ReadingMode,
    /// How the answer ended.
    pub end: AnswerEnd,
    /// Whether visible examples are run after a failure, for feedback.
    pub examples: bool,
}

/// A submission, judged.
#[derive(Debug, Clone, PartialEq)]
pub struct JudgedSubmission {
    /// What it came to.
    pub judgement: Judgement,
    /// What the lenient reader forgave.
    pub deviations: Vec<Deviation>,
    /// How it was read.
    pub reading: ReadingNotes,
    /// What was judged; `None` where nothing was found.
    pub code: Option<Code>,
    /// How long that took.
    pub took: Duration,
}

impl Judge {
    /// Judges what a candidate sent.
    #[must_use]
    pub fn judge_submission(
        &self,
        task: &PosedTask,
        submission: &Submission,
        options: JudgeOptions,
    ) -> JudgedSubmission {
        let began = Instant::now();
        let sealed = || task.form.sealed_tests();
        let not_judged = |judgement| JudgedSubmission {
            judgement,
            deviations: Vec::new(),
            reading: ReadingNotes::default(),
            code: None,
            took: began.elapsed(),
        };
        let start = match self.start(task, options.limits) {
            Err(error) => return not_judged(error_judged(&sealed(), &error)),
            Ok(start) => start,
        };
        match self.read(task, &start, submission, options.end, options.limits) {
            Err(message) => {
                let reason = FailReason::PatchDoesNotApply;
                not_judged(nothing_run(&sealed(), reason, Some(message)))
            }
            Ok(reading) => {
                let (judgement, code) = self.judge_reading(task, &start, &reading, options);
                let Reading { deviations, notes, .. } = reading;
                JudgedSubmission {
                    judgement,
                    deviations,
                    reading: notes,
                    code,
                    took: began.elapsed(),
                }
            }
        }
    }

    /// Finds the answer in what was sent; nothing is run but what parses code.
    ///
    /// # Errors
    /// In words: a patch that does not apply.
    pub fn read(
        &self,
        task: &PosedTask,
        start: &Start,
        submission: &Submission,
        end: AnswerEnd,
        limits: Limits,
    ) -> Result<Reading<Change>, String> {
        task.form.answer().read(&ReadFrom {
            task,
            start,
            languages: self.languages(),
            limits,
            submission,
            end,
            check: &CodeParses { judge: self, task, start, limits, spent: Cell::default() },
        })
    }

    fn judge_reading(
        &self,
        task: &PosedTask,
        start: &Start,
        reading: &Reading<Change>,
        options: JudgeOptions,
    ) -> (Judgement, Option<Code>) {
        let (mut judgement, code) = match reading.judged(options.reading) {
            Ok(change) => {
                let (limits, examples) = (options.limits, options.examples);
                let judged = self.judge_change(task, start, change, limits, examples);
                (judged, Some(task.form.answer().code(start, change)))
            }
            Err(reason) => {
                let message = reading.fault.clone().or_else(|| asked_for(reason, reading));
                (nothing_run(&task.form.sealed_tests(), reason, message), None)
            }
        };
        judgement.verdict = reading.explained(judgement.verdict);
        (judgement, code)
    }
}

/// What a strict reader minds.
fn asked_for(reason: FailReason, reading: &Reading<Change>) -> Option<String> {
    let words: Vec<&str> = reading.deviations.iter().map(|it| it.word()).collect();
    (reason == FailReason::NotAsAsked).then(|| words.join(", "))
}

/// Whether code parses, as the task's language and its given files have it.
struct CodeParses<'a> {
    judge: &'a Judge,
    task: &'a PosedTask,
    start: &'a Start,
    limits: Limits,
    /// How long the checks of this answer took.
    spent: Cell<Duration>,
}

/// How long the checks of one answer may take: code that is made to keep a compiler busy is left as it
/// stands.
const CHECKS_TIME: Duration = Duration::from_secs(30);

impl SoundCheck for CodeParses<'_> {
    fn is_sound(&self, files: &FileTree) -> Option<bool> {
        let left = CHECKS_TIME.checked_sub(self.spent.get())?;
        let mut limits = self.limits;
        limits.build_time = limits.build_time.min(left);
        let began = Instant::now();
        let change = Change::from(files.clone());
        let found = self.judge.is_sound(self.task, self.start, &change, limits);
        self.spent.set(self.spent.get() + began.elapsed());
        found
    }
}
