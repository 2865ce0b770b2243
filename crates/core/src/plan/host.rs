//! How much a host may be asked.

use serde::{Deserialize, Serialize};

use super::endpoint::address_fault;

/// `[[host]]`: how much may be asked of one endpoint, by all candidates that have it; what is `None` has no limit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HostSettings {
    /// The base address, as the candidates have it.
    pub endpoint: String,
    /// Requests under way at the same time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_once: Option<u32>,
    /// Requests within any minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests_per_minute: Option<u32>,
    /// Requests within any 24 hours, those of earlier sessions too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub requests_per_day: Option<u32>,
    /// Tokens read and written within any minute.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens_per_minute: Option<u64>,
    /// Tokens read and written within any 24 hours, those of earlier sessions too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tokens_per_day: Option<u64>,
}

impl HostSettings {
    /// Whether an address is this host's: a slash at the end makes no difference.
    #[must_use]
    pub fn is_at(&self, endpoint: &str) -> bool {
        self.endpoint.trim_end_matches('/') == endpoint.trim_end_matches('/')
    }

    pub(super) fn check(&self) -> Result<(), String> {
        if let Some(fault) = address_fault(&self.endpoint) {
            return Err(format!("[[host]]: {fault}"));
        }
        let nothing = [
            ("at_once", self.at_once == Some(0)),
            ("requests_per_minute", self.requests_per_minute == Some(0)),
            ("requests_per_day", self.requests_per_day == Some(0)),
            ("tokens_per_minute", self.tokens_per_minute == Some(0)),
            ("tokens_per_day", self.tokens_per_day == Some(0)),
        ];
        match nothing.iter().find(|it| it.1) {
            Some((key, _)) => Err(format!("[[host]] `{}`: `{key}` is not above 0", self.endpoint)),
            None => Ok(()),
        }
    }
}
