//! From the text that a candidate sent to files that can be judged.
//!
//! Two readings are made of every answer. The strict reader takes the answer only if it is what
//! the prompt asks for: one closed code block, tagged with the language or not at all, and nothing
//! around it; it takes the code to the letter. The lenient reader finds code whatever surrounds
//! it. Each thing that the lenient reader had to forgive is a [`Deviation`]; without deviations
//! the two readings are the same.

mod bare;
mod choose;
mod elision;
mod fence;
mod mend;
mod repository;
mod usage;

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;
use std::sync::LazyLock;

use serde::{Deserialize, Serialize};

pub use self::repository::{WantedChange, read_change, read_patch, read_whole_files};
use crate::change::Slack;
use crate::language::{Languages, Syntax};
use crate::plan::ReadingMode;
use crate::tree::{FileTree, RelPath};
use crate::verdict::{FailReason, UnknownWord, Verdict, worded};

worded! {
    /// Something that the lenient reader forgave.
    Deviation {
        /// There is text before or after the code.
        TextAround = "text around the code",
        /// The code does not stand in a code block.
        NoFence = "no code fence",
        /// The code block does not end.
        UnclosedFence = "unclosed code fence",
        /// There is more than one code block.
        SeveralBlocks = "several code blocks",
        /// Blocks were put together since one needs what another defines.
        BlocksJoined = "code blocks joined",
        /// The block is tagged with another language.
        OtherTag = "tagged as another language",
        /// The file is called otherwise than asked for.
        OtherFileName = "another file name",
        /// There is a file that nobody asked for.
        ExtraFile = "file nobody asked for",
        /// Quotes, dashes or spaces of a typesetter stand in the code.
        TypographicMarks = "typographic marks in code",
        /// The head of a part of a patch has no line numbers, or wrong counts.
        PatchHead = "wrong head in patch",
        /// Line numbers of a patch are wrong.
        PatchLines = "wrong line numbers in patch",
        /// Lines around a change differ from those of the file.
        PatchContext = "other lines around the change",
        /// Lines of a patch end otherwise than those of the file.
        PatchLineEnds = "other line ends in patch",
        /// White space at the ends of a patch's lines differs.
        PatchSpace = "other white space in patch",
        /// A patch makes a file that is there, or changes one that is not.
        PatchExistence = "patch of a file that is or is not there",
    }
}

impl From<Slack> for Deviation {
    fn from(slack: Slack) -> Self {
        match slack {
            Slack::Head => Self::PatchHead,
            Slack::LineNumbers => Self::PatchLines,
            Slack::Context => Self::PatchContext,
            Slack::LineEnds => Self::PatchLineEnds,
            Slack::WhiteSpace => Self::PatchSpace,
            Slack::Existence => Self::PatchExistence,
        }
    }
}

/// What a candidate sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Submission {
    /// Text, as a model sends it.
    Text(String),
    /// Files.
    Files(FileTree),
    /// A unified diff, in whatever encodings its files have.
    Patch(Vec<u8>),
}

impl Submission {
    /// The kind, as it is stored.
    #[must_use]
    pub const fn kind(&self) -> &'static str {
        match self {
            Self::Text(_) => "text",
            Self::Files(_) => "files",
            Self::Patch(_) => "patch",
        }
    }
}

/// What an answer must give.
#[derive(Debug, Clone, Copy)]
pub struct Wanted<'a> {
    /// The file.
    pub file: &'a RelPath,
    /// Its language.
    pub language: &'a str,
    /// A name that it must define, where there is one.
    pub name: Option<&'a str>,
    /// All languages, to recognise wrong ones.
    pub languages: &'a Languages,
}

impl<'a> Wanted<'a> {
    /// How code in the wanted language looks.
    fn syntax(&self) -> &'a Syntax {
        static UNKNOWN: LazyLock<Syntax> = LazyLock::new(Syntax::default);
        self.languages.find(self.language).map_or(&UNKNOWN, |it| &it.syntax)
    }
}

/// Whether `name` occurs in `code` as a word of its own.
fn mentions(code: &str, name: &str) -> bool {
    let is_word = |c: char| c.is_alphanumeric() || c == '_';
    code.match_indices(name).any(|(at, _)| {
        !code[..at].ends_with(is_word) && !code[at + name.len()..].starts_with(is_word)
    })
}

/// What was judged of an answer, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Code {
    /// The files that were found.
    Files(FileTree),
    /// The change to a repository, as a patch.
    Patch(Vec<u8>),
}

/// The two readings of an answer: of files, or of what else is made of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading<F = FileTree> {
    /// What a strict reader takes; `None` when the answer is not what was asked for.
    pub strict: Option<F>,
    /// What the lenient reader found, or why it found nothing.
    pub lenient: Result<F, FailReason>,
    /// What the lenient reader found, with typographic marks put back; `None` where there are none. It
    /// is to be judged only if what was found is not sound as it stands and this is.
    pub mended: Option<F>,
    /// What the lenient reader forgave, each once, in the order of [`Deviation::ALL`].
    pub deviations: Vec<Deviation>,
    /// The answer leaves parts out, or the host cut it off.
    pub incomplete: bool,
}

impl<F> Reading<F> {
    /// The same readings of something else.
    #[must_use]
    pub fn map<G>(self, make: impl Fn(F) -> G) -> Reading<G> {
        Reading {
            strict: self.strict.map(&make),
            lenient: self.lenient.map(&make),
            mended: self.mended.map(&make),
            deviations: self.deviations,
            incomplete: self.incomplete,
        }
    }

    /// The verdict that counts: a failure that gaps in the answer explain has `incomplete` as its
    /// reason. A block that does not end explains only that the code does not build.
    #[must_use]
    pub fn explained(&self, verdict: Verdict) -> Verdict {
        use FailReason::{Crashed, DidNotBuild, Incomplete, WrongResult};
        let unclosed = self.deviations.contains(&Deviation::UnclosedFence);
        match verdict {
            Verdict::Fail(WrongResult | Crashed | DidNotBuild) if self.incomplete => {
                Verdict::Fail(Incomplete)
            }
            Verdict::Fail(DidNotBuild) if unclosed => Verdict::Fail(Incomplete),
            verdict => verdict,
        }
    }

    /// Takes the mended code for what was found.
    pub fn take_mended(&mut self) {
        if let Some(mended) = self.mended.take() {
            self.lenient = Ok(mended);
            self.deviations.push(Deviation::TypographicMarks);
            self.deviations.sort_unstable();
        }
    }

    /// The files that are judged under `mode`.
    ///
    /// # Errors
    /// Why there is nothing to judge.
    pub fn judged(&self, mode: ReadingMode) -> Result<&F, FailReason> {
        match mode {
            ReadingMode::Lenient => self.lenient.as_ref().map_err(|&reason| reason),
            ReadingMode::Strict => match (&self.strict, &self.lenient) {
                (Some(files), _) => Ok(files),
                (None, Err(reason)) => Err(*reason),
                (None, Ok(_)) => Err(FailReason::NoCodeFound),
            },
        }
    }
}

/// Reads an answer. `cut_off` says that the host stopped the answer at a length limit.
#[must_use]
pub fn read_answer(text: &str, wanted: Wanted<'_>, cut_off: bool) -> Reading {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text).replace("\r\n", "\n");
    let (thoughts, said) = without_thoughts(&text);
    let parts = fence::split(said, wanted.languages);
    let mut found = choose::choose(said, &parts, wanted);
    let mut deviations = std::mem::take(&mut found.deviations);
    if found.files.is_ok() && !thoughts.trim().is_empty() {
        deviations.push(Deviation::TextAround);
    }
    let files = found.files.map_err(|reason| match reason {
        FailReason::NoCodeFound if cut_off => FailReason::Incomplete,
        reason => reason,
    });
    let texts = || files.iter().flatten();
    let leaves_out = |code: &String| elision::leaves_out(code, wanted.syntax(), wanted.name);
    let incomplete = cut_off || texts().any(|it| leaves_out(it.1));
    let mended: BTreeMap<_, _> =
        texts().map(|(path, code)| (path.clone(), mend::mend(code, wanted.syntax()))).collect();
    let mended = files.as_ref().is_ok_and(|it| *it != mended).then(|| in_bytes(mended));
    let lenient = files.map(in_bytes);
    deviations.sort_unstable();
    deviations.dedup();
    Reading {
        strict: strict(&text, &parts, wanted).filter(|_| thoughts.trim().is_empty()),
        lenient,
        mended,
        deviations,
        incomplete,
    }
}

fn in_bytes(files: BTreeMap<RelPath, String>) -> FileTree {
    files.into_iter().map(|(path, code)| (path, code.into_bytes())).collect()
}

/// Parts off what a model thought aloud before its answer, up to the last closing tag of thoughts.
fn without_thoughts(text: &str) -> (&str, &str) {
    const END: &str = "</think>";
    text.rfind(END).map_or(("", text), |at| text.split_at(at + END.len()))
}

/// Files that came as files, not as text: both readings are the same.
#[must_use]
pub fn read_files(files: FileTree, wanted: Wanted<'_>) -> Reading {
    let leaves_out = |bytes: &Vec<u8>| {
        elision::leaves_out(&String::from_utf8_lossy(bytes), wanted.syntax(), wanted.name)
    };
    let incomplete = files.values().any(leaves_out);
    Reading {
        strict: Some(files.clone()),
        lenient: Ok(files),
        mended: None,
        deviations: Vec::new(),
        incomplete,
    }
}

fn strict(text: &str, parts: &fence::Parts, wanted: Wanted<'_>) -> Option<FileTree> {
    let [block] = parts.blocks.as_slice() else {
        return None;
    };
    let right_tag = block.tag.is_empty() || block.language.as_deref() == Some(wanted.language);
    let right_file = block.label.as_ref().is_none_or(|label| label == wanted.file);
    let nothing_around = parts.prose.trim().is_empty() && text.trim_start().starts_with(['`', '~']);
    (block.closed && right_tag && right_file && nothing_around)
        .then(|| FileTree::from([(wanted.file.clone(), block.code.clone().into_bytes())]))
}

#[cfg(test)]
mod tests;
