//! One request to a host, and what came of it: an answer, or whose fault it is that there is none.

use std::time::{Duration, Instant};

use fairtrial_core::image::IMAGE_TOKENS;
use fairtrial_core::plan::Tokens;
use fairtrial_core::verdict::{Remedy, VoidReason};
use serde_json::{Map, Value as Json};

use crate::answered::{Got, StreamReader, read_whole};
use crate::ask::{AskOutcome, RequestNote, TryAgain};
use crate::classify::classify;
use crate::read_fault::ReadFault;
use crate::sse::EventParser;
use crate::upstream::{Upstream, UpstreamResponse};

/// Bytes that are counted as one token where a host does not count.
const BYTES_PER_TOKEN: usize = 4;

/// Longest refusal that is read, in bytes.
const REFUSAL_MAX: usize = 64 << 10;

/// Why one request gave nothing.
pub(crate) struct RequestRefused {
    pub(crate) reason: VoidReason,
    status: Option<u16>,
    detail: String,
    /// How long the host asks to be left alone.
    pub(crate) wait: Option<Duration>,
}

impl RequestRefused {
    /// An answer with nothing in it.
    pub(crate) fn empty() -> Self {
        let detail = "the answer is empty".to_owned();
        Self { reason: VoidReason::EmptyAnswer, status: Some(200), detail, wait: None }
    }

    /// What it makes of the attempt.
    pub(crate) fn outcome(&self) -> AskOutcome {
        let reason = self.reason;
        match reason.remedy() {
            Some(Remedy::EndCandidate) => AskOutcome::Halt(reason, self.said()),
            Some(Remedy::AskAgain | Remedy::AskAgainThenEnd) => AskOutcome::Again(TryAgain {
                reason,
                why: self.said(),
                after: self.wait,
                unreachable: reason.remedy() == Some(Remedy::AskAgainThenEnd),
            }),
            Some(Remedy::VoidTrial) | None => AskOutcome::Void(reason, self.said()),
        }
    }

    /// In words: of which kind it is, with the status and what the host says.
    pub(crate) fn said(&self) -> String {
        let kind = self.reason.short();
        match (self.status, self.detail.as_str()) {
            (None | Some(200..=299), detail) => format!("{kind}: {detail}"),
            (Some(status), "") => format!("{kind} (status {status})"),
            (Some(status), detail) => format!("{kind} (status {status}): {detail}"),
        }
    }
}

/// Sends one request and reads the answer, of at most so many bytes.
pub(crate) async fn exchange(
    upstream: &Upstream,
    body: &str,
    longest: u64,
) -> Result<Got, RequestRefused> {
    match exchange_once(upstream, body, longest).await {
        // Some hosts refuse what asks them to count tokens in a stream: then they are asked without.
        Err(refused) if refused.detail.contains("stream_options") => match without_options(body) {
            Some(body) => exchange_once(upstream, &body, longest).await,
            None => Err(refused),
        },
        result => result,
    }
}

async fn exchange_once(
    upstream: &Upstream,
    body: &str,
    longest: u64,
) -> Result<Got, RequestRefused> {
    let began = Instant::now();
    tracing::debug!(host = upstream.host(), bytes = body.len(), "request");
    let mut response = upstream.send(body).await.map_err(|it| {
        tracing::debug!(host = upstream.host(), fault = it.reason.short(), "no answer");
        let (reason, detail) = (it.reason, it.detail);
        RequestRefused { reason, status: None, detail, wait: None }
    })?;
    let (status, wait) = (response.status, response.retry_after);
    let seconds = began.elapsed().as_secs_f64();
    tracing::debug!(host = upstream.host(), status, seconds, ?wait, "answer begins");
    let refused =
        |reason, detail, wait| RequestRefused { reason, status: Some(status), detail, wait };
    if !(200..300).contains(&status) {
        let mut said = Vec::new();
        while let Ok(Some(piece)) = response.piece().await
            && said.len() < REFUSAL_MAX
        {
            said.extend(piece);
        }
        let mut detail = upstream.clean(&message_in(&String::from_utf8_lossy(&said)));
        let reason = classify(status, &detail);
        match (reason, &response.location) {
            (VoidReason::KeyRefused, _) => {
                detail = format!("{detail} ({})", upstream.key_note()).trim().to_owned();
            }
            (VoidReason::Redirected, Some(to)) => {
                detail = upstream.clean(&format!("to `{to}`: `endpoint` has to say so itself"));
            }
            _ => {}
        }
        return Err(refused(reason, detail, wait));
    }
    match read(&mut response, began, longest).await {
        Ok(got) => Ok(got.without_keys(upstream)),
        Err(fault) => Err(refused(fault.reason, upstream.clean(&fault.detail), wait)),
    }
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
    let empty = RequestNote { status: Some(200), ..RequestNote::bare("answered", took) };
    match result {
        Ok(got) => RequestNote {
            detail: got.remark(),
            first_token: got.first_token,
            tokens: got.tokens.unwrap_or_else(|| estimate(body, &[&got.text, &got.thought])),
            estimated: got.tokens.is_none(),
            thought: got.thought.clone(),
            ..empty
        },
        Err(refused) => RequestNote {
            outcome: refused.reason.short().to_owned(),
            detail: refused.detail.clone(),
            status: refused.status,
            wait: refused.wait,
            ..empty
        },
    }
}

/// What a host would have counted, by the length of what was sent, where each image counts as [`IMAGE_TOKENS`], and of
/// each text that came back.
pub(crate) fn estimate(body: &str, texts: &[&str]) -> Tokens {
    let count = |length: usize| length.div_ceil(BYTES_PER_TOKEN) as u64;
    let output = count(texts.iter().map(|it| it.len()).sum());
    // Within a text, the quotes would be escaped.
    let url = "\"url\":\"";
    let encoded = body.match_indices(url).map(|it| &body[it.0 + url.len()..]);
    let encoded = encoded.filter(|it| it.starts_with("data:image/")).filter_map(|it| it.find('"'));
    let (images, bytes) = encoded.fold((0, 0), |it, length| (it.0 + 1, it.1 + length));
    let input = count(body.len() - bytes) + images * IMAGE_TOKENS;
    Tokens { input, output, ..Tokens::default() }
}

/// The message in a host's refusal, or all of it.
fn message_in(said: &str) -> String {
    let json: Option<Json> = serde_json::from_str(said).ok();
    // Some hosts put it into a list of one.
    let json = json.map(|it| it.get(0).cloned().unwrap_or(it));
    let error = json.as_ref().and_then(|it| it.get("error"));
    let text = |it: &Json| it.as_str().map(str::to_owned);
    let message = error.and_then(|it| text(it).or_else(|| it.get("message").and_then(text)));
    let own = |name: &str| json.as_ref().and_then(|it| it.get(name)).and_then(text);
    let message = message.or_else(|| own("message")).or_else(|| own("detail"));
    let of_error = |name: &str| error.and_then(|it| it.get(name)).and_then(text);
    match (message, of_error("code").or_else(|| of_error("type"))) {
        (Some(message), Some(code)) => format!("{message} ({code})"),
        (Some(message), None) => message,
        _ => said.to_owned(),
    }
}

/// Reads an answer: a stream where it looks like one, whatever the host calls it; else one object.
async fn read(
    response: &mut UpstreamResponse,
    began: Instant,
    longest: u64,
) -> Result<Got, ReadFault> {
    let mut head = Vec::new();
    while looks_like_stream(&head).is_none() && head.len() as u64 <= longest {
        match response.piece().await? {
            Some(piece) => head.extend(piece),
            None => break,
        }
    }
    match looks_like_stream(&head) {
        Some(true) => read_stream(head, response, began, longest).await,
        _ => {
            while let Some(piece) = response.piece().await? {
                head.extend(piece);
                if head.len() as u64 > longest {
                    let why =
                        format!("the answer has more than {longest} bytes (`longest_answer`)");
                    return Err(ReadFault::new(VoidReason::NotTheProtocol, why));
                }
            }
            read_whole(&head)
        }
    }
}

/// Whether what begins so is a stream of events; `None`: too little is there to say.
fn looks_like_stream(head: &[u8]) -> Option<bool> {
    let head = head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(head).trim_ascii_start();
    let names = ["data:", "event:", "id:", "retry:", ":"];
    if names.iter().any(|it| head.starts_with(it.as_bytes())) {
        return Some(true);
    }
    let may_become = names.iter().any(|it| it.as_bytes().starts_with(head));
    (!may_become).then_some(false)
}

/// Reads a stream. An answer that is still growing when the time is up was cut off; one that had stalled by then, or
/// a stream that breaks off before its end, is the host's fault. What comes after the end is not needed.
async fn read_stream(
    head: Vec<u8>,
    response: &mut UpstreamResponse,
    began: Instant,
    longest: u64,
) -> Result<Got, ReadFault> {
    let (mut parser, mut reader) = (EventParser::default(), StreamReader::new(began));
    let (mut piece, mut length) = (Some(head), 0);
    loop {
        let events = match &piece {
            Some(piece) => {
                length += piece.len() as u64;
                parser.push(piece)
            }
            None => parser.finish().into_iter().collect(),
        };
        for event in events {
            if reader.take(&event)? {
                return reader.ended();
            }
        }
        if piece.is_none() {
            return reader.at_end();
        }
        if length > longest {
            return reader.cut_short();
        }
        piece = match response.piece().await {
            Ok(piece) => piece,
            Err(_) if reader.is_over() => return reader.ended(),
            Err(late) if late.is_out_of_time => return reader.out_of_time(late.into()),
            Err(fault) => return Err(fault.into()),
        };
    }
}
