//! How a text was read as an answer.

use fairtrial_core::answer::{Code, Reading};

/// A text, and the two readings of it.
#[derive(Debug, Clone, PartialEq)]
pub struct ReadingView {
    /// The file that it stood in.
    pub source: String,
    /// The task's name.
    pub task: String,
    /// Its language.
    pub language: String,
    /// What was read.
    pub reading: Reading<Code>,
}
