//! Models that act: our own small agent, which gives a model tools by the chat-completions protocol and
//! does what it asks for, until it asks for nothing more.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::plan::ChatCandidate;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::verdict::{Remedy, VoidReason};
use serde_json::{Map, Value as Json, json};

use crate::agent::{STUCK, so_far, submission, view_word};
use crate::answered::Got;
use crate::ask::{
    ActorEnd, Ask, AskOutcome, AskReply, Asker, AskerError, Reporter, StepNote, TryAgain, Workspace,
};
use crate::exchange::{RequestRefused, exchange, note};
use crate::relay::RelayUse;
use crate::runtime::runtime;
use crate::tools::{ModelTools, REFUSED, declared};
use crate::upstream::{Upstream, UpstreamConfig};

/// What it is told of how it works, after the plan's own system message.
const HOW: &str = "You work on files by calling tools: look at what is there, change it, and run what \
                   shows whether it works. When you are done, say so without calling a tool.";

/// How often a request is sent again, while the attempt goes on, before the attempt is spoiled.
const TRIES: u32 = 3;

/// Half of the wait before a request is sent again.
const FIRST_WAIT: Duration = Duration::from_millis(500);

/// Longest wait before a request is sent again.
const WAIT_MAX: Duration = Duration::from_secs(30);

/// How often is looked whether the run is stopping.
const POLL: Duration = Duration::from_millis(50);

/// Calls in one answer that are made; more are refused.
const CALLS_MAX: usize = 32;

/// Longest conversation that is sent, in bytes.
const REQUEST_MAX: usize = 32 << 20;

/// Longest text of its last words that is kept, in bytes.
const SAID_MAX: usize = 16 << 10;

/// A model that acts.
pub struct ActorAsker {
    upstream: Upstream,
    config: ChatCandidate,
}

/// One attempt.
struct ActingAttempt<'a> {
    asker: &'a ActorAsker,
    reporter: &'a dyn Reporter,
    began: Instant,
    used: RelayUse,
    seed: u64,
}

/// What came of one request.
enum ActingRequest {
    Got(Got),
    /// A limit of the plan, or the host's own length limit, is met.
    Limit(&'static str),
}

impl ActorAsker {
    /// Makes a candidate ready to be asked; `key` looks up environment variables, `base` is the plan's folder.
    ///
    /// # Errors
    /// When the key is not in the environment, or a header cannot be sent.
    pub fn new(
        config: &ChatCandidate,
        base: &Path,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        let upstream = UpstreamConfig::of_chat(config, base);
        Ok(Self { upstream: Upstream::new(&upstream, key)?, config: config.clone() })
    }

    fn attempt(
        &self,
        ask: &Ask,
        workspace: &Workspace<'_>,
        reporter: &dyn Reporter,
    ) -> Result<(Submission, ActorEnd), AskOutcome> {
        let base = workspace.prepared.as_ref().map_or(&workspace.given, |it| it.base());
        let began = Instant::now();
        let (used, seed) = (RelayUse::default(), ask.seed);
        let mut attempt = ActingAttempt { asker: self, reporter, began, used, seed };
        let limits = &self.config.limits;
        let mut tools = ModelTools::new(
            workspace,
            limits,
            base,
            &so_far(ask.last.as_ref(), base, workspace.disk),
        );
        let mut messages = vec![json!({ "role": "system", "content": HOW })];
        messages.extend(ask.messages.iter().map(|it| json!(it)));
        let (mut limit, mut last_words) = ("", String::new());
        let mut refused = BTreeMap::<String, u32>::new();
        loop {
            let asked = Instant::now();
            let got = match attempt.request(&messages)? {
                ActingRequest::Got(got) => got,
                ActingRequest::Limit(met) => {
                    limit = met;
                    break;
                }
            };
            if !got.text.is_empty() {
                last_words.clone_from(&got.text);
                reporter.step(said_step(&got.text, asked.elapsed()));
            }
            if got.calls.is_empty() {
                break;
            }
            messages
                .push(json!({ "role": "assistant", "content": got.text, "tool_calls": got.calls }));
            for (at, call) in got.calls.iter().enumerate() {
                let function = &call["function"];
                let name = function["name"].as_str().unwrap_or_default();
                let arguments = function["arguments"].as_str().unwrap_or_default();
                let given = if at >= CALLS_MAX {
                    format!("refused: more than {CALLS_MAX} calls at once")
                } else if tools.used().limit.is_some() {
                    "refused: the time is up".to_owned()
                } else {
                    let (given, step) = tools.call(name, arguments).map_err(sandbox_failed)?;
                    if step.outcome == REFUSED {
                        *refused.entry(format!("the tool `{}`", step.kind)).or_default() += 1;
                    }
                    reporter.step(step);
                    given
                };
                let id = &call["id"];
                messages.push(json!({ "role": "tool", "tool_call_id": id, "content": given }));
                if reporter.is_stopping() {
                    return Err(AskOutcome::Cancelled);
                }
            }
            if let Some(met) = tools.used().limit {
                limit = met;
                break;
            }
            if reporter.is_stuck() {
                limit = STUCK;
                break;
            }
        }
        let (change, used) = (tools.change(), tools.used());
        let ended = match limit {
            "" => "said that it is done".to_owned(),
            limit => format!("was ended at its limit of {limit}"),
        };
        let end = ActorEnd {
            ended,
            limit: limit.to_owned(),
            stdout: head_and_tail(&last_words, SAID_MAX),
            stderr: String::new(),
            wall_seconds: began.elapsed().as_secs_f64(),
            cpu_seconds: used.cpu.as_secs_f64(),
            peak_memory: used.peak_memory,
            view: view_word(used.view).to_owned(),
            left_out: used.left_out,
            refused,
        };
        Ok((submission(workspace, &change), end))
    }
}

fn sandbox_failed(why: String) -> AskOutcome {
    AskOutcome::Void(VoidReason::SandboxError, why)
}

fn said_step(text: &str, took: Duration) -> StepNote {
    let first = text.lines().next().unwrap_or_default();
    StepNote {
        kind: "said".to_owned(),
        subject: head_and_tail(first, 100),
        outcome: "done".to_owned(),
        detail: head_and_tail(text, 4 << 10),
        took,
        files: None,
    }
}

impl ActingAttempt<'_> {
    /// Sends the conversation, and again where the host is at fault.
    fn request(&mut self, messages: &[Json]) -> Result<ActingRequest, AskOutcome> {
        let config = &self.asker.config;
        let mut tries = 0;
        loop {
            if self.began.elapsed() >= config.limits.wall.0 {
                return Ok(ActingRequest::Limit("wall"));
            }
            if let Some(met) = self.used.met(&config.limits, config.price) {
                return Ok(ActingRequest::Limit(met));
            }
            let body = self.body(messages);
            if body.len() > REQUEST_MAX {
                return Ok(ActingRequest::Limit("context"));
            }
            let refused = match self.send(&body)? {
                Ok(got) => return Ok(ActingRequest::Got(got)),
                Err(refused) => refused,
            };
            tries += 1;
            let (reason, remedy) = (refused.reason, refused.reason.remedy());
            match remedy {
                // What made the conversation too long is what the model did.
                _ if reason == VoidReason::RequestRefusedForLength && self.used.answered > 0 => {
                    return Ok(ActingRequest::Limit("context"));
                }
                Some(Remedy::AskAgain | Remedy::AskAgainThenEnd) if tries < TRIES => {
                    // Where the host asks for a time, the next request waits for it in its queue.
                    self.wait(tries)?;
                }
                Some(Remedy::AskAgain | Remedy::AskAgainThenEnd) => {
                    let why = format!("{} times: {}", tries, refused.said());
                    let is_gone = remedy == Some(Remedy::AskAgainThenEnd);
                    let unreachable = is_gone && self.used.answered == 0;
                    let after = refused.wait;
                    return Err(AskOutcome::Again(TryAgain { reason, why, after, unreachable }));
                }
                Some(Remedy::VoidTrial | Remedy::EndCandidate) | None => {
                    return Err(refused.outcome());
                }
            }
        }
    }

    fn body(&self, messages: &[Json]) -> String {
        let config = &self.asker.config;
        let mut body = Map::new();
        body.insert("model".into(), json!(config.model));
        body.insert("messages".into(), json!(messages));
        body.insert("tools".into(), declared());
        if config.send_seed {
            body.insert("seed".into(), json!(self.seed & 0x7fff_ffff));
        }
        body.extend(config.sampling.clone());
        Json::Object(body).to_string()
    }

    fn send(&mut self, body: &str) -> Result<Result<Got, RequestRefused>, AskOutcome> {
        let Some(number) = self.reporter.requested() else { return Err(AskOutcome::Cancelled) };
        self.used.requests += 1;
        let began = Instant::now();
        let (upstream, longest) = (&self.asker.upstream, self.asker.config.longest_answer.0);
        let runtime = runtime().map_err(|error| sandbox_failed(error.to_string()))?;
        let result = runtime.block_on(exchange(upstream, body, longest));
        let note = note(&result, body, began.elapsed());
        self.used.count(&note);
        self.reporter.request_over(number, note);
        Ok(result)
    }

    /// Waits before a request is sent again, longer each time.
    fn wait(&self, tries: u32) -> Result<(), AskOutcome> {
        let until = Instant::now() + (FIRST_WAIT * 2u32.pow(tries)).min(WAIT_MAX);
        while Instant::now() < until {
            if self.reporter.is_stopping() {
                return Err(AskOutcome::Cancelled);
            }
            std::thread::sleep(POLL);
        }
        Ok(())
    }
}

impl Asker for ActorAsker {
    fn ask(
        &self,
        ask: &Ask,
        workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        let Some(workspace) = workspace else {
            let why = "there is no workspace".to_owned();
            return AskReply::bare(sandbox_failed(why));
        };
        match self.attempt(ask, workspace, &**reporter) {
            Ok((submission, end)) => AskReply {
                outcome: AskOutcome::Answer { submission, end: AnswerEnd::Complete },
                request: None,
                ended: Some(end),
                reused: None,
            },
            Err(outcome) => AskReply::bare(outcome),
        }
    }

    fn host(&self) -> Option<&str> {
        Some(&self.config.endpoint)
    }

    fn acts(&self) -> bool {
        true
    }
}
