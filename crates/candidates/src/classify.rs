//! What a host's refusal means: whose fault it is, and whether to ask again.

use fairtrial_core::verdict::VoidReason;

/// What to do about a refusal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// Ask again after a while; if that fails too, this is the reason.
    Again(VoidReason),
    /// This request will never be answered; others may be.
    Void(VoidReason),
    /// No request will be answered.
    Halt,
}

/// Phrases by which hosts say that a conversation is too long.
const TOO_LONG: &[&str] = &[
    "context_length",
    "context length",
    "context window",
    "maximum context",
    "too many tokens",
    "prompt is too long",
    "input is too long",
    "exceeds the maximum",
];

/// Classifies a refusal by its HTTP status and what the host said.
#[must_use]
pub fn classify(status: u16, said: &str) -> Refusal {
    let said = said.to_lowercase();
    let too_long = TOO_LONG.iter().any(|phrase| said.contains(phrase));
    match status {
        401 | 403 | 404 | 405 => Refusal::Halt,
        408 | 409 | 425 => Refusal::Again(VoidReason::ProviderError),
        413 => Refusal::Void(VoidReason::RequestRefusedForLength),
        429 => Refusal::Again(VoidReason::RateLimit),
        400..=499 if too_long => Refusal::Void(VoidReason::RequestRefusedForLength),
        400..=499 => Refusal::Void(VoidReason::ProviderError),
        _ => Refusal::Again(VoidReason::ProviderError),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_laid_where_they_belong() {
        use VoidReason::{ProviderError, RateLimit, RequestRefusedForLength};
        for (status, said, refusal) in [
            (401, "no", Refusal::Halt),
            (404, "no such model", Refusal::Halt),
            (429, "slow down", Refusal::Again(RateLimit)),
            (503, "", Refusal::Again(ProviderError)),
            (
                400,
                "This model's maximum context length is 8192",
                Refusal::Void(RequestRefusedForLength),
            ),
            (413, "", Refusal::Void(RequestRefusedForLength)),
            (400, "unknown field", Refusal::Void(ProviderError)),
            (302, "", Refusal::Again(ProviderError)),
        ] {
            assert_eq!(classify(status, said), refusal, "{status} {said}");
        }
    }
}
