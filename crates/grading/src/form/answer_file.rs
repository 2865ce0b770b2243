//! What forms have in common whose answer is one file.

use fairtrial_core::answer::{Deviation, Reading, Submission, Wanted, read_answer, read_files};
use fairtrial_core::change::{Applied, apply_patch};
use fairtrial_core::judgement::Judgement;
use fairtrial_core::language::Languages;
use fairtrial_core::task::Task;
use fairtrial_core::tree::{Node, RelPath, Snapshot};
use fairtrial_core::verdict::FailReason;

use super::AnswerShape;
use crate::context::JudgeContext;
use crate::outcome::nothing_run;

/// Most bytes of a file that a patch makes.
const PATCHED_MAX: u64 = 16 << 20;

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

    fn proof_file(&self) -> &RelPath {
        &self.path
    }

    fn read(
        &self,
        task: &Task,
        languages: &Languages,
        submission: &Submission,
        cut_off: bool,
    ) -> Result<Reading, String> {
        let wanted = Wanted {
            file: &self.path,
            language: &task.language,
            name: self.name.as_deref(),
            languages,
        };
        match submission {
            Submission::Text(text) => Ok(read_answer(text, wanted, cut_off)),
            Submission::Files(files) => Ok(read_files(files.clone(), wanted)),
            Submission::Patch(patch) => apply_patch(&task.given.to_work_tree(), patch, PATCHED_MAX)
                .map(|applied| read_applied(applied, wanted))
                .map_err(|error| error.to_string()),
        }
    }
}

/// The files that a patch writes. What had to be forgiven is no part of the strict reading.
fn read_applied(applied: Applied, wanted: Wanted<'_>) -> Reading {
    let files = applied.change.iter().filter_map(|(path, node)| match node {
        Some(Node::File { bytes, .. }) => Some((path.to_rel()?, bytes.to_vec())),
        _ => None,
    });
    let mut reading = read_files(files.collect(), wanted);
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
