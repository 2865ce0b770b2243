//! The forms of task: how each is answered and what its sealed part holds.

pub mod call;
pub mod program;
pub mod unit;

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::verdict::{UnknownWord, worded};

worded! {
    /// How a task is answered and judged.
    Form {
        /// A function in a file, judged by sealed calls.
        Call = "call",
        /// A whole program, judged by sealed cases.
        Program = "program",
        /// Code, judged by sealed unit tests and the language's own runner.
        Tests = "tests",
    }
}
