//! From what a candidate sent to a judgement: finding the code, applying a patch, mending what does
//! not parse, building, running, comparing.

use std::time::{Duration, Instant};

use fairtrial_core::answer::{Deviation, Reading, Submission};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::limits::Limits;
use fairtrial_core::plan::ReadingMode;
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::FailReason;

use crate::docket::PosedTask;
use crate::judge::Judge;
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
    /// The files that were judged; `None` where none were found.
    pub code: Option<FileTree>,
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
        let (judgement, deviations, code) = match self.read(task, submission, options) {
            Ok(reading) => self.judge_reading(task, reading, options),
            Err(message) => {
                let reason = FailReason::PatchDoesNotApply;
                (nothing_run(&task.form.sealed_tests(), reason, Some(message)), Vec::new(), None)
            }
        };
        JudgedSubmission { judgement, deviations, code, took: began.elapsed() }
    }

    /// Finds the code. Marks of a typesetter are mended only where that turns code that does not parse
    /// into code that does.
    fn read(
        &self,
        task: &PosedTask,
        submission: &Submission,
        options: JudgeOptions,
    ) -> Result<Reading, String> {
        let mut reading =
            task.form.answer().read(task, self.languages(), submission, options.cut_off)?;
        if options.reading == ReadingMode::Lenient
            && let (Ok(found), Some(mended)) = (&reading.lenient, &reading.mended)
            && !self.is_sound(task, found, options.limits)
            && self.is_sound(task, mended, options.limits)
        {
            reading.take_mended();
        }
        Ok(reading)
    }

    fn judge_reading(
        &self,
        task: &PosedTask,
        reading: Reading,
        options: JudgeOptions,
    ) -> (Judgement, Vec<Deviation>, Option<FileTree>) {
        let (mut judgement, code) = match reading.judged(options.reading) {
            Ok(files) => {
                let judged = self.judge_files(task, files, options.limits, options.examples);
                (judged, Some(files.clone()))
            }
            Err(reason) => (nothing_run(&task.form.sealed_tests(), reason, None), None),
        };
        judgement.verdict = reading.explained(judgement.verdict);
        (judgement, reading.deviations, code)
    }
}
