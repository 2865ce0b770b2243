//! From what a candidate sent to a judgement: finding the code, applying a patch, mending what does
//! not parse, building, running, comparing.

use std::time::{Duration, Instant};

use fairtrial_core::answer::{Code, Deviation, Reading, Submission};
use fairtrial_core::change::Change;
use fairtrial_core::judgement::Judgement;
use fairtrial_core::limits::Limits;
use fairtrial_core::plan::ReadingMode;
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
    /// Whether the host cut the answer off at a length limit.
    pub cut_off: bool,
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
        let (judgement, deviations, code) = match self.start(task, options.limits) {
            Err(error) => (error_judged(&sealed(), &error), Vec::new(), None),
            Ok(start) => match self.read(task, &start, submission, options) {
                Ok(reading) => self.judge_reading(task, &start, reading, options),
                Err(message) => {
                    let reason = FailReason::PatchDoesNotApply;
                    (nothing_run(&sealed(), reason, Some(message)), Vec::new(), None)
                }
            },
        };
        JudgedSubmission { judgement, deviations, code, took: began.elapsed() }
    }

    /// Finds the code. Marks of a typesetter are mended only where that turns code that does not parse
    /// into code that does.
    fn read(
        &self,
        task: &PosedTask,
        start: &Start,
        submission: &Submission,
        options: JudgeOptions,
    ) -> Result<Reading<Change>, String> {
        let mut reading = task.form.answer().read(&ReadFrom {
            task,
            start,
            languages: self.languages(),
            limits: options.limits,
            submission,
            cut_off: options.cut_off,
        })?;
        if options.reading == ReadingMode::Lenient
            && let (Ok(found), Some(mended)) = (&reading.lenient, &reading.mended)
            && !self.is_sound(task, start, found, options.limits)
            && self.is_sound(task, start, mended, options.limits)
        {
            reading.take_mended();
        }
        Ok(reading)
    }

    fn judge_reading(
        &self,
        task: &PosedTask,
        start: &Start,
        reading: Reading<Change>,
        options: JudgeOptions,
    ) -> (Judgement, Vec<Deviation>, Option<Code>) {
        let (mut judgement, code) = match reading.judged(options.reading) {
            Ok(change) => {
                let (limits, examples) = (options.limits, options.examples);
                let judged = self.judge_change(task, start, change, limits, examples);
                (judged, Some(task.form.answer().code(start, change)))
            }
            Err(reason) => (nothing_run(&task.form.sealed_tests(), reason, None), None),
        };
        judgement.verdict = reading.explained(judgement.verdict);
        (judgement, reading.deviations, code)
    }
}
