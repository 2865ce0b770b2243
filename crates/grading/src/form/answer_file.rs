//! What forms have in common whose answer is one file.

use fairtrial_core::answer::{
    Code, Deviation, Reading, Submission, Wanted, read_answer, read_files,
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
    /// A name that it must define, where the form asks for one.
    pub name: Option<String>,
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
            name: self.name.as_deref(),
            languages: from.languages,
        };
        let reading = match from.submission {
            Submission::Text(text) => read_answer(text, wanted, from.cut_off),
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
    let mut reading = read_files(applied.change.files(), wanted);
    reading.deviations = applied.slack.into_iter().map(Deviation::from).collect();
    reading.strict = reading.strict.filter(|_| reading.deviations.is_empty());
    reading
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
