//! The ways in which a simulated host misbehaves. `docs/standin.md` has them in a table.

use std::fmt;
use std::io::Write as _;
use std::str::FromStr;
use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::http::header::{CONTENT_ENCODING, CONTENT_TYPE, LOCATION, RETRY_AFTER};
use axum::http::{HeaderName, StatusCode};
use axum::response::Response;
use fairtrial_core::verdict::{UnknownWord, worded};
use flate2::Compression;
use flate2::write::GzEncoder;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use tokio_stream::wrappers::ReceiverStream;

worded! {
    /// A way to misbehave.
    #[derive(Default)]
    Fault {
        /// Refuses with the model's `fault_status`.
        #[default]
        Status = "status",
        /// 401.
        Key = "key refused",
        /// 404.
        NoModel = "model not found",
        /// 400, about a setting.
        Setting = "request refused",
        /// 400, about the length of the conversation.
        TooLong = "too long",
        /// 413.
        TooLarge = "too large",
        /// 429, with a pause in seconds.
        TooMany = "too many",
        /// 429, with a pause as a date.
        TooManyDate = "too many, date",
        /// 429, with a pause in a header that says when limits are reset.
        TooManyReset = "too many, reset",
        /// 429, for a paid quota that is used up.
        Quota = "quota",
        /// 500.
        Server = "server error",
        /// 503, as a page for people.
        Page = "server error, page",
        /// 302.
        Redirect = "redirect",
        /// Takes the request and never answers.
        Hang = "hang",
        /// Begins to answer and says nothing more.
        Stall = "stall",
        /// Closes the connection in the middle of the answer.
        Cut = "cut",
        /// A page for people, with status 200.
        NoJson = "no json",
        /// JSON without a choice.
        NoChoice = "no choice",
        /// Status 200 and nothing else.
        Nothing = "nothing",
        /// An answer without a word.
        Empty = "empty",
        /// An error in the place of the answer, or in the middle of the stream.
        ErrorInside = "error inside",
        /// Part of an answer, and a reason why it ended that says error.
        ErrorFinish = "error finish",
        /// Part of an answer, kept back by a filter.
        Filter = "filter",
        /// An answer with `usage` of null.
        UsageNull = "usage null",
        /// An answer with token counts as texts and fractions.
        UsageText = "usage text",
        /// An answer with a second one that nobody asked for.
        SecondChoice = "second choice",
        /// An answer with characters cut in two.
        Halves = "halves",
        /// An answer under another content type.
        OtherType = "other type",
        /// An answer packed with gzip that nobody asked for.
        Packed = "packed",
        /// An answer with CRLF, comments and empty events, in pieces of a few bytes.
        Pieces = "pieces",
        /// An answer after thinking aloud in a field of its own.
        Thinking = "thinking",
        /// Thinking aloud, with code in it, until the length is used up.
        OnlyThinking = "only thinking",
        /// An answer that is cut after the reason why it ended.
        CutAfterEnd = "cut after end",
    }
}

/// What a model would have said.
pub struct Intended<'a> {
    /// The model.
    pub model: &'a str,
    /// The text.
    pub text: &'a str,
    /// Why it would have ended.
    pub finish: &'a str,
    /// What it would have cost.
    pub usage: Value,
    /// Whether a stream was asked for.
    pub stream: bool,
}

/// How a body ends.
#[derive(Clone, Copy, PartialEq, Eq)]
enum BodyEnd {
    Whole,
    /// The connection is closed before the end.
    Cut,
    /// Nothing more comes.
    Stalled,
}

impl Fault {
    /// Whether what comes is an answer all the same.
    #[must_use]
    pub fn answers(self) -> bool {
        self >= Self::UsageNull && self != Self::OnlyThinking
    }

    /// What comes instead of an answer, or how an answer comes. `status` is the model's own for refusals.
    pub async fn response(self, status: u16, intended: &Intended<'_>) -> Response {
        let refuse = |status: u16, message: &str, code: &str| {
            let body = json!({ "error": { "message": message, "code": code } }).to_string();
            respond(
                status,
                &[(CONTENT_TYPE, "application/json")],
                body.into_bytes(),
                BodyEnd::Whole,
            )
        };
        let pause = |header: HeaderName, value: &str| {
            let body = json!({ "error": { "message": "slow down", "code": "rate_limited" } });
            let headers = [(CONTENT_TYPE, "application/json"), (header, value)];
            respond(429, &headers, body.to_string().into_bytes(), BodyEnd::Whole)
        };
        let page = "<!doctype html><title>harbour</title><p>The office is closed.";
        let html = [(CONTENT_TYPE, "text/html")];
        match self {
            Self::Status => refuse(status, "not now", "try_again"),
            Self::Key => refuse(401, "the key is not valid", "invalid_key"),
            Self::NoModel => refuse(404, "there is no such model", "model_not_found"),
            Self::Setting => refuse(400, "temperature exceeds the maximum of 2", "invalid_value"),
            Self::TooLong => {
                refuse(400, "the prompt has more tokens than the context length", "too_long")
            }
            Self::TooLarge => refuse(413, "", ""),
            Self::TooMany => pause(RETRY_AFTER, "0.2"),
            Self::TooManyDate => {
                let date = httpdate::fmt_http_date(std::time::SystemTime::now());
                pause(RETRY_AFTER, &date)
            }
            Self::TooManyReset => {
                pause(HeaderName::from_static("x-ratelimit-reset-requests"), "200ms")
            }
            Self::Quota => refuse(429, "your current quota is used up", "insufficient_quota"),
            Self::Server => refuse(500, "the engine sank", "internal"),
            Self::Page => respond(503, &html, page.into(), BodyEnd::Whole),
            Self::Redirect => {
                respond(302, &[(LOCATION, "http://127.0.0.1:9/v1")], Vec::new(), BodyEnd::Whole)
            }
            Self::Hang => {
                tokio::time::sleep(Duration::from_secs(3600)).await;
                refuse(503, "too late", "late")
            }
            Self::NoJson => respond(200, &html, page.into(), BodyEnd::Whole),
            Self::Nothing => respond(200, &[], Vec::new(), BodyEnd::Whole),
            _ if intended.stream => self.streamed(intended),
            _ => self.whole(intended),
        }
    }

    /// An answer, or what is taken for one, as one object.
    fn whole(self, intended: &Intended<'_>) -> Response {
        let Intended { model, text, finish, .. } = intended;
        let choice = |message: Value, finish: &str| json!({ "index": 0, "message": message, "finish_reason": finish });
        let said = |text: &str| json!({ "role": "assistant", "content": text });
        let begun = &text[..text.floor_char_boundary(text.len() / 2)];
        let (choices, usage) = match self {
            Self::NoChoice => (json!([]), intended.usage.clone()),
            Self::Empty => (json!([choice(said(""), "stop")]), Value::Null),
            Self::ErrorFinish => (json!([choice(said(begun), "error")]), Value::Null),
            Self::Filter => (json!([choice(said(begun), "content_filter")]), Value::Null),
            Self::UsageNull => (json!([choice(said(text), finish)]), Value::Null),
            Self::UsageText => (json!([choice(said(text), finish)]), as_text(&intended.usage)),
            Self::SecondChoice => {
                let second = json!({ "index": 1, "message": said("no"), "finish_reason": "stop" });
                (json!([second, choice(said(text), finish)]), intended.usage.clone())
            }
            Self::Thinking => {
                let message = json!({ "content": text, "reasoning_content": "Let me see." });
                (json!([choice(message, finish)]), with_thought(&intended.usage))
            }
            Self::OnlyThinking => {
                let message = json!({ "content": null, "reasoning_content": text });
                (json!([choice(message, "length")]), with_thought(&intended.usage))
            }
            _ => (json!([choice(said(text), finish)]), intended.usage.clone()),
        };
        let mut body = json!({ "object": "chat.completion", "model": model, "choices": choices, "usage": usage });
        if self == Self::ErrorInside {
            body = json!({ "error": { "message": "the engine sank" } });
        }
        let mut body = body.to_string();
        if self == Self::Halves {
            // Both halves, and one that is alone at the end of the object, beside the answer.
            body.insert_str(body.len() - 1, ",\"note\":\"\\ud83d\"");
        }
        let kind = if self == Self::OtherType { "text/plain" } else { "application/json" };
        let mut bytes = body.into_bytes();
        let mut end = BodyEnd::Whole;
        match self {
            Self::Stall | Self::Cut => {
                bytes.truncate(bytes.len() / 2);
                end = if self == Self::Cut { BodyEnd::Cut } else { BodyEnd::Stalled };
            }
            Self::Packed => return packed(kind, &bytes),
            _ => {}
        }
        respond(200, &[(CONTENT_TYPE, kind)], bytes, end)
    }

    /// The same as a stream.
    fn streamed(self, intended: &Intended<'_>) -> Response {
        let Intended { model, text, finish, .. } = intended;
        let part = |delta: Value, finish: Option<&str>| {
            let choice = json!({ "index": 0, "delta": delta, "finish_reason": finish });
            json!({ "object": "chat.completion.chunk", "model": model, "choices": [choice] })
                .to_string()
        };
        let middle = text.floor_char_boundary(text.len() / 2);
        let (first, second) = text.split_at(middle);
        let say = |text: &str| part(json!({ "content": text }), None);
        let ends = |word: &str| part(json!({}), Some(word));
        let usage = |usage: Value| json!({ "choices": [], "usage": usage }).to_string();
        let done = || "[DONE]".to_owned();
        let whole = || vec![say(first), say(second), ends(finish)];
        let mut events = match self {
            Self::NoChoice => vec![usage(intended.usage.clone()), done()],
            Self::Empty => vec![say(""), ends("stop"), done()],
            Self::ErrorFinish => vec![say(first), ends("error"), done()],
            Self::Filter => vec![say(first), ends("content_filter"), done()],
            Self::ErrorInside => {
                let error = json!({ "error": { "message": "the engine sank" } });
                vec![say(first), error.to_string()]
            }
            Self::Stall | Self::Cut => vec![say(first)],
            Self::OnlyThinking => {
                let thought = part(json!({ "reasoning_content": text }), None);
                vec![thought, ends("length"), usage(with_thought(&intended.usage)), done()]
            }
            Self::Thinking => {
                let thought = part(json!({ "reasoning_content": "Let me see." }), None);
                let mut events = vec![thought];
                events.extend(whole());
                events.extend([usage(with_thought(&intended.usage)), done()]);
                events
            }
            Self::SecondChoice => {
                let other = json!({ "index": 1, "delta": { "content": "no" } });
                let mut events = vec![json!({ "choices": [other] }).to_string()];
                events.extend(whole());
                events.extend([usage(intended.usage.clone()), done()]);
                events
            }
            Self::CutAfterEnd => whole(),
            _ => {
                let counts = match self {
                    Self::UsageNull => Value::Null,
                    Self::UsageText => as_text(&intended.usage),
                    _ => intended.usage.clone(),
                };
                let mut events = whole();
                events.extend([usage(counts), done()]);
                events
            }
        };
        if self == Self::Halves {
            // A comment's worth of text whose character comes in two events.
            let half = |escape: &str| {
                format!("{{\"choices\":[{{\"index\":0,\"delta\":{{\"content\":\"{escape}\"}}}}]}}")
            };
            let at = events.len().saturating_sub(3);
            events.splice(at..at, [half("\\n\\ud83d"), half("\\ude00")]);
        }
        let (line, gap) =
            if self == Self::Pieces { ("\r\n", ": wait\r\n\r\n") } else { ("\n", "") };
        let event = |data: &String| format!("{gap}data: {data}{line}{line}");
        let bytes = events.iter().map(event).collect::<String>().into_bytes();
        let kind = match self {
            Self::OtherType => "Application/Octet-Stream",
            _ => "text/event-stream",
        };
        let end = match self {
            Self::Cut | Self::CutAfterEnd => BodyEnd::Cut,
            Self::Stall => BodyEnd::Stalled,
            _ => BodyEnd::Whole,
        };
        match self {
            Self::Packed => packed(kind, &bytes),
            Self::Pieces => in_pieces(kind, bytes),
            _ => respond(200, &[(CONTENT_TYPE, kind)], bytes, end),
        }
    }
}

/// Counts as texts, one of them with a fraction.
fn as_text(usage: &Value) -> Value {
    let count = |key: &str| usage[key].as_u64().unwrap_or(0);
    json!({
        "prompt_tokens": format!("{}.0", count("prompt_tokens")),
        "completion_tokens": count("completion_tokens").to_string(),
    })
}

/// Counts that say how many were thought aloud.
fn with_thought(usage: &Value) -> Value {
    let mut usage = usage.clone();
    usage["completion_tokens_details"] = json!({ "reasoning_tokens": 3 });
    usage
}

fn respond(status: u16, headers: &[(HeaderName, &str)], bytes: Vec<u8>, end: BodyEnd) -> Response {
    let (to, from) = tokio::sync::mpsc::channel::<Result<Bytes, std::io::Error>>(2);
    let mut response = Response::new(match end {
        BodyEnd::Whole => Body::from(bytes),
        BodyEnd::Cut | BodyEnd::Stalled => {
            tokio::spawn(async move {
                let _ = to.send(Ok(Bytes::from(bytes))).await;
                // What was sent is to arrive before the connection is gone.
                tokio::time::sleep(Duration::from_millis(50)).await;
                match end {
                    BodyEnd::Stalled => tokio::time::sleep(Duration::from_secs(3600)).await,
                    _ => drop(to.send(Err(std::io::Error::other("cut"))).await),
                }
            });
            Body::from_stream(ReceiverStream::new(from))
        }
    });
    *response.status_mut() = StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_GATEWAY);
    for (name, value) in headers {
        if let Ok(value) = value.parse() {
            response.headers_mut().insert(name, value);
        }
    }
    response
}

/// A body that is packed although nobody asked for it.
fn packed(kind: &str, bytes: &[u8]) -> Response {
    let mut encoder = GzEncoder::new(Vec::new(), Compression::default());
    let packed = encoder.write_all(bytes).and_then(|()| encoder.finish()).unwrap_or_default();
    let headers = [(CONTENT_TYPE, kind), (CONTENT_ENCODING, "gzip")];
    respond(200, &headers, packed, BodyEnd::Whole)
}

/// A body in pieces of seven bytes.
fn in_pieces(kind: &str, bytes: Vec<u8>) -> Response {
    let pieces: Vec<Result<Bytes, std::io::Error>> =
        bytes.chunks(7).map(|it| Ok(Bytes::copy_from_slice(it))).collect();
    let mut response = respond(200, &[(CONTENT_TYPE, kind)], Vec::new(), BodyEnd::Whole);
    *response.body_mut() = Body::from_stream(tokio_stream::iter(pieces));
    response
}
