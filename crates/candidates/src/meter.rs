//! What is read of answers as they pass through the relay.

use std::time::{Duration, Instant};

use fairtrial_core::plan::{Tokens, UsagePointers};
use fairtrial_core::text::head_and_tail;
use fairtrial_core::verdict::VoidReason;
use serde_json::Value as Json;

use crate::ask::{RequestNote, StepNote};
use crate::completion::Completion;
use crate::exchange::estimate;
use crate::upstream::Unreachable;

/// Longest name and arguments of a call in the subject of its step, in bytes.
const NAMED_MAX: usize = 200;

/// Tool calls of one answer that are looked at.
const CALLS_MAX: usize = 64;

/// Longest arguments of a call that are recorded, in bytes.
const CALL_MAX: usize = 4 << 10;

/// What was wrong with a request.
pub struct RequestFault {
    /// Of which kind it is.
    pub reason: VoidReason,
    /// In words.
    pub detail: String,
    /// How long the host asks to be left alone.
    pub wait: Option<Duration>,
}

impl From<Unreachable> for RequestFault {
    fn from(it: Unreachable) -> Self {
        Self { reason: it.reason, detail: it.detail, wait: None }
    }
}

/// What is read of an answer as it passes.
pub struct Meter {
    began: Instant,
    /// Where another API's answers say what they cost; `None`: as the chat-completions protocol does.
    usage: Option<UsagePointers>,
    text: String,
    thought: String,
    tokens: Option<Tokens>,
    first_token: Option<Duration>,
    /// The tools that it asks for, by their place.
    calls: Vec<MeteredCall>,
}

/// A tool call in an answer, as it passes.
#[derive(Debug, Default)]
struct MeteredCall {
    name: String,
    arguments: String,
}

impl MeteredCall {
    fn step(&self) -> StepNote {
        let arguments = head_and_tail(&self.arguments, CALL_MAX);
        StepNote {
            kind: "call".to_owned(),
            subject: format!(
                "{} {}",
                head_and_tail(&self.name, NAMED_MAX),
                head_and_tail(&self.arguments, NAMED_MAX)
            ),
            outcome: "asked for".to_owned(),
            detail: arguments,
            took: Duration::ZERO,
            files: None,
        }
    }
}

impl Meter {
    /// Of an answer that is asked for now. `usage` says where another API's answers say what they cost; `None`: as the
    /// chat-completions protocol does.
    pub fn new(usage: Option<UsagePointers>) -> Self {
        Self {
            began: Instant::now(),
            usage,
            text: String::new(),
            thought: String::new(),
            tokens: None,
            first_token: None,
            calls: Vec::new(),
        }
    }

    /// Since it was asked for.
    pub fn elapsed(&self) -> Duration {
        self.began.elapsed()
    }

    /// The tools that it has asked for, each as a step.
    pub fn calls(&self) -> Vec<StepNote> {
        self.calls.iter().map(MeteredCall::step).collect()
    }

    /// Adds what a part of an answer has of its tool calls.
    fn take_calls(&mut self, part: &Completion) {
        for (place, call) in part.calls().iter().enumerate() {
            let at =
                call["index"].as_u64().and_then(|it| usize::try_from(it).ok()).unwrap_or(place);
            if at >= CALLS_MAX {
                continue;
            }
            if self.calls.len() <= at {
                self.calls.resize_with(at + 1, MeteredCall::default);
            }
            let known = &mut self.calls[at];
            known.name.push_str(call["function"]["name"].as_str().unwrap_or_default());
            known.arguments.push_str(call["function"]["arguments"].as_str().unwrap_or_default());
        }
    }

    /// A line of a stream.
    pub fn line(&mut self, line: &[u8]) {
        let Some(data) = line.strip_prefix(b"data:") else { return };
        if self.usage.is_some() {
            self.first_token = self.first_token.or_else(|| Some(self.began.elapsed()));
            return self.other(data);
        }
        let data = String::from_utf8_lossy(data.trim_ascii());
        let Ok(part) = Completion::parse(&data) else { return };
        let text = part.text();
        self.take_calls(&part);
        if self.first_token.is_none() && data.len() > 16 {
            self.first_token = Some(self.began.elapsed());
        }
        self.text.push_str(&text);
        self.thought.push_str(&part.thought());
        self.tokens = part.tokens().or(self.tokens);
    }

    /// A whole answer.
    pub fn whole(&mut self, bytes: &[u8]) {
        if self.usage.is_some() {
            return self.other(bytes);
        }
        if let Ok(completion) = Completion::parse(&String::from_utf8_lossy(bytes)) {
            self.text = completion.text();
            self.thought = completion.thought();
            self.take_calls(&completion);
            self.tokens = completion.tokens();
        }
    }

    /// A whole answer of another API, or an event of its stream.
    fn other(&mut self, bytes: &[u8]) {
        let Some(usage) = &self.usage else { return };
        let Ok(part) = serde_json::from_slice::<Json>(bytes.trim_ascii()) else { return };
        self.text.push_str(&String::from_utf8_lossy(bytes));
        let input = counted(&part, &usage.input);
        let (cached, output) = (counted(&part, &usage.cached), counted(&part, &usage.output));
        if input.or(cached).or(output).is_some() {
            let so_far = self.tokens.unwrap_or_default();
            self.tokens = Some(Tokens {
                input: input.unwrap_or(so_far.input),
                cached: cached.unwrap_or(so_far.cached),
                output: output.unwrap_or(so_far.output),
                reasoning: so_far.reasoning,
            });
        }
    }

    pub fn note(self, status: u16, body: &str, fault: Option<RequestFault>) -> RequestNote {
        let is_fine = fault.is_none();
        let texts = [self.text.as_str(), &self.thought];
        let estimated = if is_fine { estimate(body, &texts) } else { Tokens::default() };
        let (outcome, detail, wait) = match fault {
            Some(fault) => (fault.reason.short(), fault.detail, fault.wait),
            None => ("answered", String::new(), None),
        };
        RequestNote {
            outcome: outcome.to_owned(),
            detail,
            status: Some(status),
            took: self.began.elapsed(),
            first_token: self.first_token,
            tokens: self.tokens.unwrap_or(estimated),
            estimated: is_fine && self.tokens.is_none(),
            thought: self.thought,
            wait,
            cost: None,
        }
    }
}

/// The first number that one of these pointers leads to; one with ` + ` adds up several, of which some may
/// lead nowhere.
fn counted(part: &Json, pointers: &[String]) -> Option<u64> {
    let number = |pointer: &str| part.pointer(pointer.trim()).and_then(Json::as_u64);
    pointers.iter().find_map(|it| {
        it.split(" + ")
            .filter_map(number)
            .fold(None, |sum: Option<u64>, found| Some(sum.unwrap_or(0).saturating_add(found)))
    })
}
