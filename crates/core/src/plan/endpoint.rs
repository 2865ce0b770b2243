//! What all that ask a host have in common.

use serde::{Deserialize, Serialize};

use crate::limits::Span;

/// The value of a header line.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(untagged, expecting = "a header line is a text, or `{ env = \"NAME\" }`")]
pub enum HeaderText {
    /// As it stands in the plan.
    Given(String),
    /// That of a variable of the environment.
    Variable(HeaderVariable),
}

/// Where the value of a header line is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HeaderVariable {
    /// The variable's name.
    pub env: String,
}

impl Serialize for HeaderText {
    /// Of what stands in the plan nothing is written: it can be a key.
    fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        match self {
            Self::Given(_) => to.serialize_str("not kept"),
            Self::Variable(variable) => variable.serialize(to),
        }
    }
}

pub(super) const fn two_minutes() -> Span {
    Span(std::time::Duration::from_secs(120))
}
