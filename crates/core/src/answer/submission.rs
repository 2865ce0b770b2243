//! What a candidate sent, and what was made of it.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::tree::FileTree;
use crate::verdict::{UnknownWord, worded};

worded! {
    /// How an answer ended.
    AnswerEnd {
        /// By itself.
        Complete = "complete",
        /// The host stopped it at a length limit.
        CutOff = "cut off",
        /// The host says that the model declined to answer.
        Refused = "refused",
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

/// What was judged of an answer, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Code {
    /// The files that were found.
    Files(FileTree),
    /// The change to a repository, as a patch.
    Patch(Vec<u8>),
}
