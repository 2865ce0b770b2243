//! Why what a host sent is no answer.

use fairtrial_core::verdict::VoidReason;

use crate::classify::classify_error;
use crate::upstream::Unreachable;

/// Why an answer could not be read.
pub(crate) struct ReadFault {
    pub(crate) reason: VoidReason,
    pub(crate) detail: String,
}

impl ReadFault {
    pub(crate) fn new(reason: VoidReason, detail: impl Into<String>) -> Self {
        Self { reason, detail: detail.into() }
    }

    /// What a host says of itself in the place of an answer.
    pub(crate) fn said(what: String) -> Self {
        Self { reason: classify_error(&what), detail: what }
    }
}

impl From<Unreachable> for ReadFault {
    fn from(it: Unreachable) -> Self {
        Self { reason: it.reason, detail: it.detail }
    }
}
