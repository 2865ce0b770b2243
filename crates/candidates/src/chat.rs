//! Models behind the chat-completions HTTP protocol, with and without streaming.

use std::io::{self, BufRead as _, BufReader, Read as _};
use std::sync::Arc;
use std::time::{Duration, Instant};

use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::plan::{ChatCandidate, Tokens};
use fairtrial_core::verdict::VoidReason;
use serde_json::{Map, Value as Json, json};

use crate::ask::{
    Ask, AskOutcome, AskReply, Asker, AskerError, Reporter, RequestNote, TryAgain, Workspace,
};
use crate::classify::{Refusal, classify};
use crate::completion::{Completion, without_halves};
use crate::sse::next_event;
use crate::upstream::{Upstream, UpstreamConfig};

/// Longest answer that is read, in bytes.
const ANSWER_MAX: u64 = 16 << 20;

/// Bytes that are counted as one token where a host does not count.
const BYTES_PER_TOKEN: usize = 4;

/// A model behind a chat-completions endpoint.
pub struct ChatAsker {
    upstream: Upstream,
    config: ChatCandidate,
}

/// What one request gave.
pub(crate) struct Got {
    /// What it said.
    pub(crate) text: String,
    /// What it wants done, as it wrote it.
    pub(crate) calls: Vec<Json>,
    /// Whether the host stopped it at a length limit.
    pub(crate) cut_off: bool,
    /// What the host says of the model's declining to answer.
    refusal: String,
    /// Why it ended, in the host's word.
    finish: String,
    tokens: Option<Tokens>,
    first_token: Option<Duration>,
}

/// Why one request gave nothing.
pub(crate) struct RequestRefused {
    pub(crate) refusal: Refusal,
    status: Option<u16>,
    detail: String,
    /// How long the host asks to be left alone.
    pub(crate) wait: Option<Duration>,
    /// Whether nobody is there: the host cannot be reached at all.
    nobody: bool,
}

impl Got {
    /// How the answer ended.
    pub(crate) fn end(&self) -> AnswerEnd {
        match self.cut_off {
            true => AnswerEnd::CutOff,
            false if self.text.trim().is_empty() && !self.refusal.is_empty() => AnswerEnd::Refused,
            false => AnswerEnd::Complete,
        }
    }

    /// What was said: where the host tells of nothing else, why the model declined.
    pub(crate) fn said(self) -> String {
        if self.text.trim().is_empty() { self.refusal } else { self.text }
    }

    /// What a person should know of how it ended; empty: it ended as answers do.
    fn remark(&self) -> String {
        let finish = match self.finish.as_str() {
            "" | "stop" | "length" | "tool_calls" => String::new(),
            other => format!("finish reason `{other}`"),
        };
        let refusal = match self.refusal.as_str() {
            "" => String::new(),
            text => format!("refusal: {text}"),
        };
        [finish, refusal].into_iter().filter(|it| !it.is_empty()).collect::<Vec<_>>().join("; ")
    }
}

impl RequestRefused {
    /// Whether nobody is there.
    pub(crate) fn is_nobody(&self) -> bool {
        self.nobody
    }

    /// What it makes of the attempt.
    pub(crate) fn outcome(&self) -> AskOutcome {
        match self.refusal {
            Refusal::Halt => AskOutcome::Halt(said(self)),
            Refusal::Void(reason) => AskOutcome::Void(reason, said(self)),
            Refusal::Again(reason) => AskOutcome::Again(TryAgain {
                reason,
                why: said(self),
                after: self.wait,
                unreachable: self.nobody,
            }),
        }
    }
}

impl ChatAsker {
    /// Makes a candidate ready to be asked; `key` looks up environment variables.
    ///
    /// # Errors
    /// When the key is not in the environment, or a header cannot be sent.
    pub fn new(
        config: &ChatCandidate,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        let upstream = UpstreamConfig::of_chat(config);
        Ok(Self { upstream: Upstream::new(&upstream, key)?, config: config.clone() })
    }

    fn body(&self, ask: &Ask) -> Json {
        let mut body = Map::new();
        body.insert("model".into(), json!(self.config.model));
        body.insert("messages".into(), json!(ask.messages));
        if self.config.stream {
            body.insert("stream".into(), json!(true));
            body.insert("stream_options".into(), json!({ "include_usage": true }));
        }
        if self.config.send_seed {
            // Hosts take 32 bits at least, and not all of them more.
            body.insert("seed".into(), json!(ask.seed & 0x7fff_ffff));
        }
        body.extend(self.config.sampling.clone());
        Json::Object(body)
    }
}

impl Asker for ChatAsker {
    fn ask(
        &self,
        ask: &Ask,
        _workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        let body = self.body(ask).to_string();
        if reporter.requested().is_none() {
            return AskReply::bare(AskOutcome::Cancelled);
        }
        let began = Instant::now();
        let result = exchange(&self.upstream, &body);
        let request = Some(note(&result, &body, began.elapsed()));
        let outcome = match result {
            Ok(got) => {
                let end = got.end();
                AskOutcome::Answer { submission: Submission::Text(got.said()), end }
            }
            Err(refused) => refused.outcome(),
        };
        AskReply { request, ..AskReply::bare(outcome) }
    }

    fn host(&self) -> Option<&str> {
        Some(&self.config.endpoint)
    }
}

/// Sends one request and reads the answer.
pub(crate) fn exchange(upstream: &Upstream, body: &str) -> Result<Got, RequestRefused> {
    let began = Instant::now();
    let response = upstream.send(body).map_err(|unreachable| RequestRefused {
        refusal: Refusal::Again(VoidReason::ProviderError),
        status: None,
        detail: unreachable.detail,
        wait: None,
        // Somebody who takes long is there: the next request may be answered in time.
        nobody: !unreachable.is_timeout,
    })?;
    let (status, wait) = (response.status, response.retry_after);
    let reader = response.reader.take(ANSWER_MAX);
    if !(200..300).contains(&status) {
        let mut said = String::new();
        let _ = reader.take(64 << 10).read_to_string(&mut said);
        let mut detail = upstream.clean(&message_in(&said));
        // Some hosts refuse what asks them to count tokens in a stream: then they are asked without.
        if let Some(body) = without_options(body).filter(|_| detail.contains("stream_options")) {
            return exchange(upstream, &body);
        }
        let refusal = classify(status, &detail);
        if matches!(status, 401 | 403) {
            detail = format!("{detail} ({})", upstream.key_note());
        }
        return Err(RequestRefused { refusal, status: Some(status), detail, wait, nobody: false });
    }
    read(reader, began).map_err(|error| RequestRefused {
        refusal: Refusal::Again(VoidReason::ProviderError),
        status: Some(status),
        detail: upstream.clean(&error.to_string()),
        wait: None,
        nobody: false,
    })
}

/// A request without `stream_options`; `None` where it has none.
fn without_options(body: &str) -> Option<String> {
    let mut body: Map<String, Json> = serde_json::from_str(body).ok()?;
    body.remove("stream_options")?;
    Some(Json::Object(body).to_string())
}

/// What is written down of a request.
pub(crate) fn note(
    result: &Result<Got, RequestRefused>,
    body: &str,
    took: Duration,
) -> RequestNote {
    let empty = RequestNote {
        outcome: "answered".to_owned(),
        detail: String::new(),
        status: Some(200),
        took,
        first_token: None,
        tokens: Tokens::default(),
        estimated: false,
    };
    match result {
        Ok(got) => RequestNote {
            detail: got.remark(),
            first_token: got.first_token,
            tokens: got.tokens.unwrap_or_else(|| estimate(body, &got.text)),
            estimated: got.tokens.is_none(),
            ..empty
        },
        Err(refused) => RequestNote {
            outcome: match refused.refusal {
                Refusal::Again(reason) | Refusal::Void(reason) => reason.word().to_owned(),
                Refusal::Halt => "refused".to_owned(),
            },
            detail: refused.detail.clone(),
            status: refused.status,
            ..empty
        },
    }
}

/// A refusal in words.
pub(crate) fn said(refused: &RequestRefused) -> String {
    match refused.status {
        Some(status) => format!("status {status}: {}", refused.detail),
        None => refused.detail.clone(),
    }
}

pub(crate) fn estimate(body: &str, text: &str) -> Tokens {
    let count = |text: &str| text.len().div_ceil(BYTES_PER_TOKEN) as u64;
    Tokens { input: count(body), cached: 0, output: count(text) }
}

/// The message in a host's refusal, or all of it.
fn message_in(said: &str) -> String {
    let json: Option<Json> = serde_json::from_str(said).ok();
    let error = json.as_ref().and_then(|it| it.get("error"));
    let text = |it: &Json| it.as_str().map(str::to_owned);
    let message = error.and_then(|it| text(it).or_else(|| it.get("message").and_then(text)));
    let code = error.and_then(|it| it.get("code")).and_then(text);
    match (message, code) {
        (Some(message), Some(code)) => format!("{message} ({code})"),
        (Some(message), None) => message,
        _ => said.to_owned(),
    }
}

/// Reads an answer: a stream where it looks like one, whatever the host calls it; else one object.
fn read(reader: impl io::Read, began: Instant) -> io::Result<Got> {
    let mut reader = BufReader::new(reader);
    let head = reader.fill_buf()?.trim_ascii_start();
    let is_stream =
        ["data:", "event:", "id:", "retry:", ":"].iter().any(|it| head.starts_with(it.as_bytes()));
    match is_stream {
        true => read_stream(reader, began),
        false => read_whole(reader),
    }
}

fn read_whole(mut reader: impl io::Read) -> io::Result<Got> {
    let mut bytes = Vec::new();
    reader.read_to_end(&mut bytes)?;
    let completion =
        Completion::parse(&String::from_utf8_lossy(&bytes)).map_err(io::Error::other)?;
    if let Some(error) = completion.error() {
        return Err(io::Error::other(error));
    }
    if !completion.has_choice() {
        return Err(io::Error::other("the answer holds no choice"));
    }
    let got = Got {
        calls: completion.calls().to_vec(),
        text: completion.text(),
        cut_off: completion.finish() == Some("length"),
        refusal: completion.refusal().to_owned(),
        finish: completion.finish().unwrap_or_default().to_owned(),
        tokens: completion.tokens(),
        first_token: None,
    };
    ended(got, completion.has_halves)
}

/// An answer that has ended. One that the host itself kept back or broke off is no answer of the model's.
fn ended(mut got: Got, has_halves: bool) -> io::Result<Got> {
    match got.finish.as_str() {
        "error" => return Err(io::Error::other("the host says that the answer ended by an error")),
        "content_filter" if got.refusal.is_empty() => {
            return Err(io::Error::other("the host's content filter ended the answer"));
        }
        _ => {}
    }
    if has_halves {
        got.text = without_halves(&got.text);
    }
    Ok(got)
}

/// Whether reading ended since the time for the whole answer was up.
fn is_timeout(error: &io::Error) -> bool {
    let inner = error.get_ref().and_then(|it| it.downcast_ref::<ureq::Error>());
    error.kind() == io::ErrorKind::TimedOut || matches!(inner, Some(ureq::Error::Timeout(_)))
}

/// Reads a stream. An answer that is still growing when the time is up was cut off; one that had stalled by then, or
/// a stream that breaks off before its end, is the host's fault. What comes after the end is not needed.
fn read_stream(mut reader: impl io::BufRead, began: Instant) -> io::Result<Got> {
    let mut got = Got {
        text: String::new(),
        calls: Vec::new(),
        cut_off: false,
        refusal: String::new(),
        finish: String::new(),
        tokens: None,
        first_token: None,
    };
    let (mut has_halves, mut has_choice, mut grown) = (false, false, None::<Instant>);
    loop {
        let is_over = !got.finish.is_empty();
        let event = match next_event(&mut reader) {
            Ok(Some(event)) if event.trim() == "[DONE]" => break,
            Ok(Some(event)) if event.trim().is_empty() => continue,
            Ok(Some(event)) => event,
            Ok(None) if is_over => break,
            Ok(None) => return Err(io::Error::other("the stream broke off")),
            Err(_) if is_over => break,
            Err(error) if is_timeout(&error) => match grown {
                // It grew within the last third of its time.
                Some(last) if last.elapsed() * 3 < began.elapsed() => {
                    return ended(Got { cut_off: true, ..got }, has_halves);
                }
                Some(_) => {
                    return Err(io::Error::other("the stream stalled until the time was up"));
                }
                None => return Err(error),
            },
            Err(error) => return Err(error),
        };
        let part = Completion::parse(&event).map_err(io::Error::other)?;
        if let Some(error) = part.error() {
            return Err(io::Error::other(error));
        }
        has_halves |= part.has_halves;
        has_choice |= part.has_choice();
        let text = part.text();
        if !text.is_empty() && got.first_token.is_none() {
            got.first_token = Some(began.elapsed());
        }
        if !text.is_empty() || part.thinks() {
            grown = Some(Instant::now());
        }
        got.text.push_str(&text);
        got.refusal.push_str(part.refusal());
        if let Some(reason) = part.finish() {
            got.cut_off = reason == "length";
            reason.clone_into(&mut got.finish);
        }
        got.tokens = part.tokens().or(got.tokens);
    }
    match has_choice {
        true => ended(got, has_halves),
        false => Err(io::Error::other("the stream holds no choice")),
    }
}
