//! What all that ask a host have in common.

use std::collections::BTreeMap;

use crate::limits::Span;

/// Writes the names of headers, with nothing of their values.
pub(super) fn names_alone<S: serde::Serializer>(
    headers: &BTreeMap<String, String>,
    to: S,
) -> Result<S::Ok, S::Error> {
    to.collect_map(headers.keys().map(|name| (name, "not kept")))
}

pub(super) const fn two_minutes() -> Span {
    Span(std::time::Duration::from_secs(120))
}
