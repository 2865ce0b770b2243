//! What the lenient reader forgave.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::change::Slack;
use crate::verdict::{UnknownWord, worded};

worded! {
    /// Something that the lenient reader forgave, and the strict one would not have.
    Deviation {
        /// There is text before or after the code.
        TextAround = "text around the code",
        /// The code does not stand in a code block.
        NoFence = "no code fence",
        /// The code block does not end.
        UnclosedFence = "unclosed code fence",
        /// A line of the code reads as the end or the begin of a code block.
        FenceInside = "code fence inside the code",
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
        /// The code is quoted, numbered, indented, escaped, or inside something else.
        Wrapped = "wrapped in something else",
        /// A mark that ends a model's text stands in the code.
        EndMark = "end-of-text mark in the code",
        /// Quotes, dashes or spaces of a typesetter stand in the code.
        TypographicMarks = "typographic marks in code",
        /// There is a patch of the file in place of the file.
        PatchInstead = "patch in place of the file",
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
        /// Nothing was found that could be judged.
        NothingFound = "nothing of what was asked for",
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
