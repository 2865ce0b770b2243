//! What each block of an answer is.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::verdict::{UnknownWord, worded};

worded! {
    /// What a block of an answer was taken for.
    Role {
        /// The file that was asked for.
        Answer = "the answer",
        /// A part of that file, which was put to another.
        Part = "part of the answer",
        /// A file beside it.
        FurtherFile = "further file",
        /// It uses the answer, or shows how to.
        Usage = "usage",
        /// It tests the answer.
        Tests = "tests",
        /// Data, output, or text.
        Data = "data or output",
        /// An earlier version, or one that is not meant as the final one.
        Draft = "another version",
        /// A given file or an earlier block again, as it was.
        Quotation = "quotation",
        /// Only the outline of what was asked for.
        Stub = "outline",
        /// A piece of a whole block, or one that leaves parts out.
        Piece = "piece",
        /// A patch.
        Patch = "patch",
        /// Commands for a shell.
        Commands = "commands",
        /// Code in another language.
        OtherLanguage = "another language",
        /// What the model thought before it answered.
        Thought = "thought",
        /// Code in the right language without what was asked for.
        Beside = "beside the point",
    }
}

/// How an answer was read, as it is kept.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadingNotes {
    /// What its blocks were taken for, in their order; of very many the first and the last.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blocks: Vec<BlockNote>,
    /// What was done to the code so that it is sound, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mends: Vec<String>,
}

/// Notes that are kept of one answer.
const NOTES_MAX: usize = 200;

impl ReadingNotes {
    /// Notes of these blocks, and of what was done to the code.
    #[must_use]
    pub fn new(mut blocks: Vec<BlockNote>, mends: Vec<String>) -> Self {
        if blocks.len() > NOTES_MAX {
            blocks.drain(NOTES_MAX / 2..blocks.len() - NOTES_MAX / 2);
        }
        Self { blocks, mends }
    }

    /// Whether nothing had to be decided.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.blocks.is_empty() && self.mends.is_empty()
    }
}

/// What a block was taken for, and why, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BlockNote {
    /// Its first and last line in the answer, counted from 1.
    pub lines: (usize, usize),
    /// The word behind its fence.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub tag: String,
    /// The file that it is said to be.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub file: String,
    /// What it was taken for.
    pub role: Role,
    /// Why.
    pub why: String,
}
