//! What a host sent, read as an answer: whole, or part by part.

use std::time::{Duration, Instant};

use fairtrial_core::answer::AnswerEnd;
use fairtrial_core::plan::Tokens;
use fairtrial_core::verdict::VoidReason;
use serde_json::Value as Json;

use crate::completion::{Completion, without_halves};
use crate::read_fault::ReadFault;
use crate::sse::ServerEvent;
use crate::upstream::Upstream;

/// Words by which hosts say that the answer met a limit of length.
const TOO_LONG: &[&str] = &["length", "max_tokens", "model_length"];

/// Words by which they say that something failed on their side.
const FAILED: &[&str] = &["error", "abort", "aborted", "cancelled", "canceled", "failed"];

/// Words by which they say that a filter of theirs ended it.
const FILTERED: &[&str] =
    &["content_filter", "contentfilter", "safety", "prohibited_content", "blocklist", "recitation"];

/// What one request gave.
#[derive(Debug, Default)]
pub(crate) struct Got {
    /// What it said.
    pub(crate) text: String,
    /// What it thought aloud, where its host keeps that apart.
    pub(crate) thought: String,
    /// What it wants done, as it wrote it.
    pub(crate) calls: Vec<Json>,
    /// Whether the host stopped it at a length limit.
    pub(crate) cut_off: bool,
    /// What the host says of the model's declining to answer.
    refusal: String,
    /// Why it ended, in the host's word.
    finish: String,
    pub(crate) tokens: Option<Tokens>,
    pub(crate) first_token: Option<Duration>,
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

    /// Whether nothing came: no text, no thought, no call, no reason why, and no count of more than an end.
    pub(crate) fn is_empty(&self) -> bool {
        let said = [&self.text, &self.thought, &self.refusal];
        said.iter().all(|it| it.trim().is_empty())
            && self.calls.is_empty()
            && !self.cut_off
            && self.tokens.is_none_or(|it| it.output <= 2)
    }

    /// What a person should know of how it ended; empty: it ended as answers do.
    pub(crate) fn remark(&self) -> String {
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

    /// The same, should the host have told the key.
    pub(crate) fn without_keys(mut self, upstream: &Upstream) -> Self {
        for text in [&mut self.text, &mut self.thought, &mut self.refusal, &mut self.finish] {
            *text = upstream.without_keys(std::mem::take(text));
        }
        self
    }

    /// Where a host counted nothing as written although there is a text, the count is none.
    fn with_sound_count(mut self) -> Self {
        let wrote = !self.text.is_empty() || !self.thought.is_empty();
        self.tokens = self.tokens.filter(|it| it.output > 0 || !wrote);
        self
    }

    /// An answer that has ended. One that the host itself kept back or broke off is no answer of the model's.
    fn ended(mut self, has_halves: bool) -> Result<Self, ReadFault> {
        let finish = self.finish.to_lowercase();
        if FAILED.contains(&finish.as_str()) {
            let why = format!("the host says that the answer ended by an error (`{finish}`)");
            return Err(ReadFault::new(VoidReason::ServerError, why));
        }
        if FILTERED.contains(&finish.as_str()) && self.refusal.is_empty() {
            let why = "the host's content filter ended the answer";
            return Err(ReadFault::new(VoidReason::ContentFilter, why));
        }
        if has_halves {
            self.text = without_halves(&self.text);
            self.thought = without_halves(&self.thought);
        }
        Ok(self.with_sound_count())
    }
}

/// Reads an answer that came as one object.
pub(crate) fn read_whole(bytes: &[u8]) -> Result<Got, ReadFault> {
    let text = String::from_utf8_lossy(bytes);
    let text = text.trim_start_matches('\u{feff}').trim();
    if text.is_empty() {
        return Err(ReadFault::new(VoidReason::EmptyAnswer, "nothing came but a status"));
    }
    let not_json = |error: serde_json::Error| match error.is_eof() {
        true => ReadFault::new(VoidReason::BrokeOff, format!("the answer broke off: {error}")),
        false => {
            ReadFault::new(VoidReason::NotTheProtocol, format!("what came is no JSON: {error}"))
        }
    };
    let completion = Completion::parse(text).map_err(not_json)?;
    if let Some(error) = completion.error() {
        return Err(ReadFault::said(error));
    }
    if !completion.has_choice() {
        return Err(ReadFault::new(VoidReason::NotTheProtocol, "the answer holds no choice"));
    }
    let has_message = completion.has_message();
    let finish = completion.finish().unwrap_or_default();
    let got = Got {
        calls: completion.calls().to_vec(),
        text: completion.text(),
        thought: completion.thought(),
        cut_off: is_too_long(finish),
        refusal: completion.refusal().to_owned(),
        finish: finish.to_owned(),
        tokens: completion.tokens(),
        first_token: None,
    };
    let got = got.ended(completion.has_halves)?;
    if !has_message {
        return Err(ReadFault::new(VoidReason::NotTheProtocol, "the choice holds no message"));
    }
    Ok(got)
}

fn is_too_long(finish: &str) -> bool {
    TOO_LONG.iter().any(|it| it.eq_ignore_ascii_case(finish))
}

/// Puts an answer together from the events of a stream.
pub(crate) struct StreamReader {
    began: Instant,
    got: Got,
    has_halves: bool,
    has_choice: bool,
    /// Whether the host has counted at the end.
    is_counted: bool,
    /// When it grew last.
    grown: Option<Instant>,
}

impl StreamReader {
    pub(crate) fn new(began: Instant) -> Self {
        let got = Got::default();
        Self { began, got, has_halves: false, has_choice: false, is_counted: false, grown: None }
    }

    /// Whether all that is needed is there: whatever happens now is no loss.
    pub(crate) fn is_over(&self) -> bool {
        !self.got.finish.is_empty() || self.is_counted
    }

    /// Takes an event; true: it was the last.
    pub(crate) fn take(&mut self, event: &ServerEvent) -> Result<bool, ReadFault> {
        let (event, is_error) = (event.data.trim(), event.is_error);
        if event == "[DONE]" {
            return Ok(true);
        }
        if is_error && !self.is_over() {
            let said = Completion::parse(event).ok().and_then(|it| it.error());
            return Err(ReadFault::said(said.unwrap_or_else(|| event.to_owned())));
        }
        // Words to keep a connection alive and the like; nothing of an answer is lost with them.
        if !event.starts_with(['{', '[']) {
            return Ok(false);
        }
        let part = match Completion::parse(event) {
            Ok(part) => part,
            Err(_) if self.is_over() => return Ok(false),
            Err(error) => {
                let why = format!("an event of the stream is no JSON: {error}");
                return Err(ReadFault::new(VoidReason::NotTheProtocol, why));
            }
        };
        if let Some(error) = part.error().filter(|_| !self.is_over()) {
            return Err(ReadFault::said(error));
        }
        self.has_halves |= part.has_halves;
        self.has_choice |= part.has_choice();
        let (text, thought) = (part.text(), part.thought());
        if !text.is_empty() && self.got.first_token.is_none() {
            self.got.first_token = Some(self.began.elapsed());
        }
        if !text.is_empty() || !thought.is_empty() {
            self.grown = Some(Instant::now());
        }
        self.got.text.push_str(&text);
        self.got.thought.push_str(&thought);
        self.got.refusal.push_str(part.refusal());
        if let Some(reason) = part.finish().filter(|it| !it.is_empty()) {
            self.got.cut_off = is_too_long(reason);
            reason.clone_into(&mut self.got.finish);
        }
        if let Some(tokens) = part.tokens() {
            self.got.tokens = Some(tokens);
            self.is_counted |= self.has_choice && !part.has_choice();
        }
        Ok(false)
    }

    /// The answer, after its end.
    pub(crate) fn ended(self) -> Result<Got, ReadFault> {
        match self.has_choice {
            true => self.got.ended(self.has_halves),
            false => Err(ReadFault::new(VoidReason::NotTheProtocol, "the stream holds no choice")),
        }
    }

    /// What there is when no more comes.
    pub(crate) fn at_end(self) -> Result<Got, ReadFault> {
        match (self.is_over(), self.has_choice) {
            (true, _) => self.ended(),
            (false, true) => Err(ReadFault::new(VoidReason::BrokeOff, "the stream broke off")),
            (false, false) => {
                Err(ReadFault::new(VoidReason::EmptyAnswer, "the stream ended before it began"))
            }
        }
    }

    /// What there is of an answer that is longer than anybody reads.
    pub(crate) fn cut_short(mut self) -> Result<Got, ReadFault> {
        self.got.cut_off = true;
        self.got.ended(self.has_halves)
    }

    /// What there is when the time is up.
    pub(crate) fn out_of_time(self, late: ReadFault) -> Result<Got, ReadFault> {
        match self.grown {
            // It grew within the last third of its time.
            Some(last) if last.elapsed() * 3 < self.began.elapsed() => self.cut_short(),
            Some(_) => {
                let why = "the stream stalled until the time was up";
                Err(ReadFault::new(VoidReason::HostTimedOut, why))
            }
            None => Err(late),
        }
    }
}
