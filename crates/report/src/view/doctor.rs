//! What a machine can confine and run.

use std::time::Duration;

/// What was found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DoctorView {
    /// The tier of the sandbox; `None` where there is none that is good enough.
    pub tier: Option<String>,
    /// Why it is not the full one; empty when it is.
    pub why: String,
    /// The layers of the sandbox.
    pub layers: Vec<LayerView>,
    /// The languages.
    pub languages: Vec<LanguageView>,
}

/// What was found of a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LayerView {
    /// The layer.
    pub layer: String,
    /// `active`, `partly` or `missing`.
    pub state: &'static str,
    /// What there is.
    pub found: String,
    /// What to do for more; empty when there is nothing to do.
    pub advice: String,
}

/// What was found of a language.
#[derive(Debug, Clone, PartialEq)]
pub struct LanguageView {
    /// The language.
    pub language: String,
    /// Its tool's version, or why there is none.
    pub tool: Result<String, String>,
    /// What was tried, and how long it took or why it failed.
    pub trials: Vec<(String, Result<Duration, String>)>,
}
