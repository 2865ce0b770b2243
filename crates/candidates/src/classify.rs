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

/// Words by which hosts name what is too long.
const WHAT: &[&str] =
    &["context", "prompt", "input", "conversation", "request", "message", "tokens", "sequence"];

/// Words by which they say that it is.
const HOW: &[&str] = &[
    "too long",
    "too large",
    "too many",
    "exceed",
    "longer than",
    "greater than",
    "more than",
    "over the limit",
    "at most",
    "maximum",
    "limit of",
    "reduce",
    "does not fit",
    "larger than",
    "overflow",
];

/// Names of settings: a refusal that is about one of these is about the plan, not about the conversation.
const SETTINGS: &[&str] = &[
    "max_tokens",
    "max_completion_tokens",
    "max_output_tokens",
    "temperature",
    "top_p",
    "top_k",
    "penalty",
    "too many requests",
];

/// Words by which they say that money or a paid quota is used up: asking again changes nothing.
const NO_MONEY: &[&str] = &[
    "insufficient_quota",
    "insufficient quota",
    "insufficient balance",
    "insufficient credit",
    "credit balance",
    "current quota",
    "billing",
    "payment required",
    "out of credits",
];

/// Whether a refusal says that the conversation is too long for the model.
fn is_too_long(said: &str) -> bool {
    let any = |words: &[&str]| words.iter().any(|it| said.contains(it));
    let is_named = any(&[
        "context_length",
        "context length",
        "context window",
        "context size",
        "context limit",
        "maximum context",
    ]);
    is_named || any(WHAT) && any(HOW) && !any(SETTINGS)
}

/// Classifies a refusal by its HTTP status and what the host said.
#[must_use]
pub fn classify(status: u16, said: &str) -> Refusal {
    let said = said.to_lowercase();
    let too_long = is_too_long(&said);
    match status {
        401..=405 => Refusal::Halt,
        429 if NO_MONEY.iter().any(|it| said.contains(it)) => Refusal::Halt,
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
    fn a_conversation_is_too_long_in_many_wordings() {
        for said in [
            "This model's maximum context length is 8192 tokens",
            "context_length_exceeded",
            "prompt is too long: 210000 tokens > 200000 maximum",
            "Input is too long for requested model.",
            "The input token count (30721) exceeds the maximum number of tokens allowed (30720).",
            "Requested tokens (9000) exceed context window of 4096",
            "the request exceeds the available context size",
            "Prompt contains 5000 tokens, too large for model with 4096 maximum",
            "too many tokens: size limit exceeded by 300 tokens",
            "Please reduce the length of the messages.",
            "input length and `max_tokens` exceed context limit",
            "inputs tokens + max_new_tokens must be <= 4096: the input is larger than the model",
            "sequence is longer than the specified maximum length",
            "conversation does not fit the model",
        ] {
            let refusal = classify(400, said);
            assert_eq!(refusal, Refusal::Void(VoidReason::RequestRefusedForLength), "{said}");
        }
    }

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
            (402, "", Refusal::Halt),
            (429, "You exceeded your current quota, please check your plan", Refusal::Halt),
            (429, "too many requests: limit of 20 a minute", Refusal::Again(RateLimit)),
            (400, "temperature exceeds the maximum of 2", Refusal::Void(ProviderError)),
            (400, "max_tokens is too large: 99999", Refusal::Void(ProviderError)),
            (400, "unknown field", Refusal::Void(ProviderError)),
            (302, "", Refusal::Again(ProviderError)),
        ] {
            assert_eq!(classify(status, said), refusal, "{status} {said}");
        }
    }
}
