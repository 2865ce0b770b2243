//! What forms have in common whose answer is one file.

use fairtrial_core::answer::{
    Code, Deviation, Reading, Submission, Wanted, WantedKind, read_answer, read_files,
};
use fairtrial_core::change::{Applied, Change, apply_patch};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::tree::{RelPath, Snapshot};
use fairtrial_core::verdict::FailReason;

use super::{AnswerShape, ReadFrom, Start};
use crate::context::JudgeContext;
use crate::outcome::nothing_run;

/// The file that an answer must give.
#[derive(Debug, Clone)]
pub struct AnswerFile {
    /// Its path.
    pub path: RelPath,
    /// What it is.
    pub kind: WantedKind,
}

impl AnswerShape for AnswerFile {
    fn reply(&self, tag: &str) -> String {
        format!("Reply with the whole file in one code block tagged `{tag}`, and nothing else.")
    }

    fn repair(&self) -> String {
        format!("Reply with the whole corrected file `{}` in one code block.", self.path)
    }

    fn proof_file(&self) -> Option<&RelPath> {
        Some(&self.path)
    }

    fn read(&self, from: &ReadFrom<'_>) -> Result<Reading<Change>, String> {
        let wanted = Wanted {
            file: &self.path,
            language: &from.task.language,
            kind: &self.kind,
            languages: from.languages,
            given: &from.task.given.to_files(),
            packages: &from.task.packages,
        };
        let reading = match from.submission {
            Submission::Text(text) => read_answer(text, wanted, from.end, from.check),
            Submission::Files(files) => read_files(files.clone(), wanted),
            Submission::Patch(patch) => {
                let applied = apply_patch(from.start.tree(), patch, from.limits.disk.0);
                read_applied(applied.map_err(|error| error.to_string())?, wanted)
            }
        };
        Ok(reading.map(Change::from))
    }

    fn code(&self, _start: &Start, change: &Change) -> Code {
        Code::Files(change.files())
    }
}

/// The files that a patch writes. What had to be forgiven is no part of the strict reading.
fn read_applied(applied: Applied, wanted: Wanted<'_>) -> Reading {
    let deviations = applied.slack.into_iter().map(Deviation::from).collect();
    Reading { deviations, ..read_files(applied.change.files(), wanted) }
}

impl AnswerFile {
    /// The judgement of files among which it is not; `None` when it is there.
    pub fn missing(&self, context: &JudgeContext<'_>, files: &Snapshot) -> Option<Judgement> {
        let message = || format!("the file `{}` is not in the answer", self.path);
        files
            .file(self.path.as_str())
            .is_none()
            .then(|| nothing_run(context.sealed, FailReason::NoCodeFound, Some(message())))
    }
}
