//! `fairtrial read --json`, and how each attempt of a trial was read.

use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::answer::{Code, Gaps, ReadingNotes};
use serde::Serialize;

use super::write_json;
use crate::view::ReadingView;

/// The newest version of the fields below.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct ReadOutput<'a> {
    format_version: u32,
    task: &'a str,
    language: &'a str,
    /// Whether a strict reader takes it.
    strict: bool,
    reason: Option<&'static str>,
    deviations: Vec<&'static str>,
    gaps: &'static str,
    fault: Option<&'a str>,
    #[serde(flatten)]
    reading: ReadingOutput,
    files: Option<BTreeMap<String, String>>,
    patch: Option<String>,
}

/// How an answer was read.
#[derive(Serialize)]
pub struct ReadingOutput {
    blocks: Vec<BlockOutput>,
    mends: Vec<String>,
}

#[derive(Serialize)]
struct BlockOutput {
    /// Lines of the answer, from 1; `null`: it stands outside of blocks.
    from: Option<usize>,
    to: Option<usize>,
    tag: String,
    file: String,
    role: &'static str,
    why: String,
}

impl From<ReadingNotes> for ReadingOutput {
    fn from(notes: ReadingNotes) -> Self {
        let blocks = notes.blocks.into_iter().map(|it| BlockOutput {
            from: Some(it.lines.0).filter(|it| *it > 0),
            to: Some(it.lines.1).filter(|it| *it > 0),
            tag: it.tag,
            file: it.file,
            role: it.role.word(),
            why: it.why,
        });
        Self { blocks: blocks.collect(), mends: notes.mends }
    }
}

/// Writes how a text was read.
///
/// # Errors
/// When the writer fails.
pub fn reading_json(out: &mut dyn Write, view: &ReadingView) -> io::Result<()> {
    let reading = &view.reading;
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let found = reading.lenient.as_ref().ok();
    let output = ReadOutput {
        format_version: FORMAT_VERSION,
        task: &view.task,
        language: &view.language,
        strict: reading.strict().is_some(),
        reason: reading.lenient.as_ref().err().map(|it| it.word()),
        deviations: reading.deviations.iter().map(|it| it.word()).collect(),
        gaps: match reading.gaps {
            Gaps::None => "none",
            Gaps::Hinted => "hinted",
            Gaps::Marked => "marked",
            Gaps::Shown => "shown",
        },
        fault: reading.fault.as_deref(),
        reading: ReadingOutput::from(reading.notes.clone()),
        files: match found {
            Some(Code::Files(files)) => {
                Some(files.iter().map(|(path, bytes)| (path.to_string(), text(bytes))).collect())
            }
            _ => None,
        },
        patch: match found {
            Some(Code::Patch(patch)) => Some(text(patch)),
            _ => None,
        },
    };
    write_json(out, &output)
}
