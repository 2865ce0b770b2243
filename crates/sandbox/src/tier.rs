//! How strongly a program is confined, and by which layers.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// How strongly a program is confined.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Tier {
    /// Limits only: whatever runs can do what the user can do.
    Trusted,
    /// No namespaces: Landlock, the system-call filter and resource limits.
    Plain,
    /// Every layer.
    Full,
}

impl Tier {
    /// The written form.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Trusted => "trusted",
            Self::Plain => "plain",
            Self::Full => "full",
        }
    }
}

impl fmt::Display for Tier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

impl FromStr for Tier {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let all = [Self::Full, Self::Plain, Self::Trusted];
        let found = all.into_iter().find(|it| it.word() == text);
        found.ok_or_else(|| format!("unknown tier `{text}`; the tiers are full, plain, trusted"))
    }
}

/// What there is of a layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LayerState {
    /// All of it.
    Active,
    /// Some of it.
    Partly,
    /// None of it.
    Missing,
}

/// One layer of the sandbox, as it was found on this machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Layer {
    /// What it is called.
    pub name: String,
    /// What there is of it.
    pub state: LayerState,
    /// What was found.
    pub found: String,
    /// What to do for more; empty when there is nothing to do.
    pub advice: String,
}

impl Layer {
    pub(crate) fn new(
        name: &str,
        state: LayerState,
        found: impl Into<String>,
        advice: &str,
    ) -> Self {
        Self { name: name.to_owned(), state, found: found.into(), advice: advice.to_owned() }
    }
}
