//! What all that ask a host have in common.

use serde::{Deserialize, Serialize};

use crate::limits::{Bytes, Span};

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

/// Longest waits for parts of an answer, besides the one for the whole.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Patience {
    /// For a connection; `None`: 10 s.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub connect: Option<Span>,
    /// For the first byte of an answer; `None`: as for the whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_byte: Option<Span>,
    /// Between two pieces of an answer; `None`: as for the whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub silence: Option<Span>,
}

impl Patience {
    /// Whether nothing is said.
    #[must_use]
    pub fn is_default(&self) -> bool {
        *self == Self::default()
    }
}

/// What is wrong with the address of a host; `None`: nothing.
pub(super) fn address_fault(endpoint: &str) -> Option<String> {
    let rest = endpoint.strip_prefix("http://").or_else(|| endpoint.strip_prefix("https://"));
    let Some(rest) = rest else {
        return Some(format!("`endpoint` begins with http:// or https://, not `{endpoint}`"));
    };
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    if authority.is_empty() {
        return Some(format!("`endpoint` names no host: `{endpoint}`"));
    }
    if authority.contains('@') {
        let why = "`endpoint` holds a name or password, which would stand in the record: name a variable with \
                   `key_env` or `headers`";
        return Some(why.to_owned());
    }
    let query = rest.split_once('?').map_or("", |it| it.1);
    let names = query.split('&').map(|it| it.split('=').next().unwrap_or_default().to_lowercase());
    let secret = ["key", "api_key", "apikey", "api-key", "token", "access_token", "secret"];
    names.into_iter().find(|it| secret.contains(&it.as_str())).map(|name| {
        format!("`endpoint` holds a `{name}`, which would stand in the record: name a variable with `key_env` or `headers`")
    })
}

pub(super) const fn sixteen_mib() -> Bytes {
    Bytes::mib(16)
}

pub(super) const fn two_minutes() -> Span {
    Span(std::time::Duration::from_secs(120))
}
