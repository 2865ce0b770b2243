//! What a host's refusal means: whose fault it is, and whether to ask again.

use fairtrial_core::verdict::VoidReason;

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

/// Words by which they say that the next minute is another matter.
const SLOWLY: &[&str] =
    &["per minute", "per min", "per second", "a minute", "a second", "(rpm)", "(tpm)"];

/// Words by which they say that nothing more is to be had today.
const A_DAY: &[&str] = &["per day", "daily", "a day", "(rpd)", "(tpd)"];

/// Words by which they say that a filter of theirs refused.
const FILTERED: &[&str] = &[
    "content_filter",
    "content filter",
    "content policy",
    "content_policy",
    "responsible ai",
    "moderation",
];

/// Words by which they say that there is no such model.
const NO_MODEL: &[&str] = &[
    "model_not_found",
    "model not found",
    "no such model",
    "unknown model",
    "invalid model",
    "invalid_model",
    "not a valid model",
];

/// Words by which they say, behind a model's name, that there is none.
const IS_GONE: &[&str] = &[
    "does not exist",
    "doesn't exist",
    "not found",
    "is not available",
    "is unknown",
    "not a valid",
];

/// How far behind the word `model` these are looked for, in characters: a name is between.
const NAME_SPAN: usize = 100;

/// Whether a refusal says that there is no such model.
fn is_no_model(said: &str) -> bool {
    let is_gone = |place: usize| {
        // Within the clause: what else is not there may be named in the next.
        let clause = said[place..].split([',', ';']).next().unwrap_or_default();
        let clause = clause.split(". ").next().unwrap_or_default();
        let rest: String = clause.chars().take(NAME_SPAN).collect();
        IS_GONE.iter().any(|it| rest.contains(it))
    };
    NO_MODEL.iter().any(|it| said.contains(it))
        || said.match_indices("model").any(|it| is_gone(it.0))
}

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

/// What a refusal means, by its HTTP status and what the host said.
#[must_use]
pub fn classify(status: u16, said: &str) -> VoidReason {
    let said = said.to_lowercase();
    let any = |words: &[&str]| words.iter().any(|it| said.contains(it));
    match status {
        300..=399 => VoidReason::Redirected,
        402 => VoidReason::QuotaUsedUp,
        429 if any(SLOWLY) => VoidReason::RateLimit,
        429 if any(A_DAY) => VoidReason::QuotaUsedUp,
        400 | 401 | 403 | 429 if any(NO_MONEY) => VoidReason::QuotaUsedUp,
        401 | 407 => VoidReason::KeyRefused,
        403 if any(FILTERED) => VoidReason::ContentFilter,
        403 => VoidReason::KeyRefused,
        404 | 405 | 410 => VoidReason::ModelNotFound,
        408 => VoidReason::HostTimedOut,
        409 | 425 => VoidReason::ServerError,
        413 => VoidReason::RequestRefusedForLength,
        429 => VoidReason::RateLimit,
        400..=499 if is_too_long(&said) => VoidReason::RequestRefusedForLength,
        400..=499 if any(FILTERED) => VoidReason::ContentFilter,
        400..=499 if is_no_model(&said) => VoidReason::ModelNotFound,
        400..=499 => VoidReason::RequestRefused,
        504 | 524 => VoidReason::HostTimedOut,
        _ => VoidReason::ServerError,
    }
}

/// What an error means that came with a status that says all is well, or in the midst of a stream.
#[must_use]
pub fn classify_error(said: &str) -> VoidReason {
    let lower = said.to_lowercase();
    let any = |words: &[&str]| words.iter().any(|it| lower.contains(it));
    if any(NO_MONEY) {
        VoidReason::QuotaUsedUp
    } else if any(&["rate limit", "rate_limit", "too many requests"]) {
        VoidReason::RateLimit
    } else if any(FILTERED) {
        VoidReason::ContentFilter
    } else if is_too_long(&lower) {
        VoidReason::RequestRefusedForLength
    } else if any(&["invalid api key", "invalid_api_key", "unauthorized"]) {
        VoidReason::KeyRefused
    } else if is_no_model(&lower) {
        VoidReason::ModelNotFound
    } else {
        VoidReason::ServerError
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
            assert_eq!(classify(400, said), VoidReason::RequestRefusedForLength, "{said}");
        }
    }

    #[test]
    fn faults_are_laid_where_they_belong() {
        for (status, said, reason) in [
            (401, "no", VoidReason::KeyRefused),
            (403, "this key has no access", VoidReason::KeyRefused),
            (403, "blocked by our content policy", VoidReason::ContentFilter),
            (404, "nothing here", VoidReason::ModelNotFound),
            (408, "", VoidReason::HostTimedOut),
            (429, "slow down", VoidReason::RateLimit),
            (500, "", VoidReason::ServerError),
            (503, "overloaded", VoidReason::ServerError),
            (504, "", VoidReason::HostTimedOut),
            (
                400,
                "This model's maximum context length is 8192",
                VoidReason::RequestRefusedForLength,
            ),
            (413, "", VoidReason::RequestRefusedForLength),
            (402, "", VoidReason::QuotaUsedUp),
            (
                429,
                "You exceeded your current quota, please check your plan",
                VoidReason::QuotaUsedUp,
            ),
            (429, "too many requests: limit of 20 a minute", VoidReason::RateLimit),
            (429, "limit of 200 requests per day reached", VoidReason::QuotaUsedUp),
            (429, "limit of 3 requests per min; see the page on billing", VoidReason::RateLimit),
            (400, "temperature exceeds the maximum of 2", VoidReason::RequestRefused),
            (400, "max_tokens is too large: 99999", VoidReason::RequestRefused),
            (400, "unknown field", VoidReason::RequestRefused),
            (400, "the model `m` does not exist (model_not_found)", VoidReason::ModelNotFound),
            (400, "Model 'auk-2' does not exist", VoidReason::ModelNotFound),
            (400, "`auk-2` is not a valid model", VoidReason::ModelNotFound),
            (422, "the model `auk-2` is not available here", VoidReason::ModelNotFound),
            (400, "`seed` is not supported with this model", VoidReason::RequestRefused),
            (
                400,
                "the model called tools, and `berth` is not available",
                VoidReason::RequestRefused,
            ),
            (302, "", VoidReason::Redirected),
        ] {
            assert_eq!(classify(status, said), reason, "{status} {said}");
        }
        for (said, reason) in [
            ("the engine sank", VoidReason::ServerError),
            ("rate limit reached", VoidReason::RateLimit),
            ("insufficient_quota", VoidReason::QuotaUsedUp),
            ("context length exceeded", VoidReason::RequestRefusedForLength),
        ] {
            assert_eq!(classify_error(said), reason, "{said}");
        }
    }
}
