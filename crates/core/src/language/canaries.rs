//! How tests are written in a language, for those of our own making that stand among sealed ones.

use serde::{Deserialize, Serialize};

/// A way of writing tests. In its texts `{a}` and `{b}` are numbers, `{sum}` is their sum and `{more}` is more than
/// that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CanaryStyle {
    /// How tests are taken apart, so that a sealed one can be copied and changed: `python`, `python-class`, `node`
    /// or `rust`; none: none is copied.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub copies: String,
    /// A name: of some words, as `{snake}`, `{spaced}` or `{pascal}`, and a `{number}`.
    pub name: String,
    /// A whole test: `{name}`, `{class}` (the name in one word, without what stands before its first `_`), and the
    /// `{line}` that holds or fails.
    pub test: String,
    /// Lines that hold when `{sum}` is the sum of `{a}` and `{b}`, and fail when it is another number.
    pub lines: Vec<String>,
    /// For ways of asserting that can be replaced by the code that is tested: what they look like, and a line that
    /// fails by them, where `{sum}` is right.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fails: Vec<(String, String)>,
    /// How lines begin before which a test can stand. None: tests stand within the last braces of a file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<String>,
}

/// Ways of taking tests apart.
const COPIES: &[&str] = &["python", "python-class", "node", "rust"];

impl CanaryStyle {
    /// What is wrong with it.
    pub(super) fn fault(&self) -> Option<String> {
        if !["{snake}", "{spaced}", "{pascal}"].iter().any(|it| self.name.contains(it)) {
            return Some("`name` has no words".to_owned());
        }
        if !self.test.contains("{name}") || !self.test.contains("{line}") {
            return Some("`test` lacks `{name}` or `{line}`".to_owned());
        }
        if self.lines.is_empty() || self.lines.iter().any(|it| !it.contains("{sum}")) {
            return Some("`lines` has none, or one without `{sum}`".to_owned());
        }
        if !self.copies.is_empty() && !COPIES.contains(&self.copies.as_str()) {
            return Some(format!("`copies` is one of `{}`", COPIES.join("`, `")));
        }
        None
    }
}
