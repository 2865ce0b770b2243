//! How a change to a repository is asked for and found.

use fairtrial_core::answer::{
    Code, Reading, Submission, WantedChange, read_change, read_patch, read_whole_files,
};
use fairtrial_core::change::{Change, write_patch};
use fairtrial_core::tree::RelPath;

use super::super::{AnswerShape, ReadFrom, Start};

/// An answer that is a change.
#[derive(Debug)]
pub struct ChangeShape;

impl AnswerShape for ChangeShape {
    fn reply(&self, _tag: &str) -> String {
        "Reply with your change as a unified diff in one code block tagged `diff`, with paths from the \
         top of the repository, and nothing else."
            .to_owned()
    }

    fn repair(&self) -> String {
        "Reply with the whole corrected change, against the repository as you were first given it, as a \
         unified diff in one code block."
            .to_owned()
    }

    fn proof_file(&self) -> Option<&RelPath> {
        None
    }

    fn read(&self, from: &ReadFrom<'_>) -> Result<Reading<Change>, String> {
        let wanted = WantedChange {
            base: from.start.tree(),
            languages: from.languages,
            most: from.limits.disk.0,
        };
        let most = from.limits.patch.0;
        match from.submission {
            Submission::Text(text) => {
                return read_change(text, wanted, from.end).map_err(|error| error.to_string());
            }
            Submission::Patch(patch) if patch.len() as u64 > most => {
                return Err(format!(
                    "it has more than {} MiB; `[limits] patch` sets that",
                    most >> 20
                ));
            }
            Submission::Patch(patch) => read_patch(patch, wanted),
            Submission::Files(files) => Ok(read_whole_files(files, wanted)),
        }
        .map_err(|error| error.to_string())
    }

    fn code(&self, start: &Start, change: &Change) -> Code {
        Code::Patch(write_patch(start.tree(), change))
    }
}
