//! Programs that ask for us: one JSON request in, one JSON answer out. `docs/plan.md` has both.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{Duration, Instant};

use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::plan::{CommandCandidate, HeaderText, Tokens};
use fairtrial_core::text::head_and_tail;
use fairtrial_core::verdict::{Remedy, VoidReason};
use serde::Deserialize;
use serde_json::json;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};

use crate::ask::{
    Ask, AskOutcome, AskReply, Asker, AskerError, OnReply, Reporter, RequestNote, TryAgain,
    Workspace,
};
use crate::exchange::estimate;
use crate::leash::{ProcessGroup, leashed};
use crate::runtime::runtime;

/// The version of the request's format.
const FORMAT_VERSION: u32 = 1;

/// Longest text kept of what it says on standard error, in bytes.
const SAID_MAX: usize = 4 << 10;

/// Longest text of it that is told, in bytes.
const TOLD_MAX: usize = 500;

/// Variables that every program gets.
const PASSED: &[&str] = &["PATH", "HOME", "LANG", "LC_ALL", "TMPDIR"];

/// A program that asks for us.
pub struct CommandAsker {
    program: Arc<AskingProgram>,
}

struct AskingProgram {
    config: CommandCandidate,
    path: PathBuf,
    folder: PathBuf,
    env: BTreeMap<String, String>,
    secrets: Vec<String>,
}

/// What it writes.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct CommandAnswer {
    /// What the model said.
    answer: Option<String>,
    /// What it thought aloud.
    #[serde(default)]
    thought: String,
    /// Whether it was cut off by its length.
    #[serde(default)]
    cut_off: bool,
    /// Whether the model declined to answer.
    #[serde(default)]
    refused: bool,
    tokens_input: Option<u64>,
    #[serde(default)]
    tokens_cached: u64,
    tokens_output: Option<u64>,
    #[serde(default)]
    tokens_reasoning: u64,
    /// Seconds until the first part.
    first_token_seconds: Option<f64>,
    /// What it cost, in the plan's currency; `None`: as the price says.
    cost: Option<f64>,
    /// Why there is no answer.
    error: Option<String>,
    /// Of which kind that is, by the words of the guide; `None`: the command failed.
    fault: Option<String>,
    /// How many seconds the host asks to be left alone.
    retry_after: Option<f64>,
}

impl CommandAsker {
    /// Makes a program ready to be asked; `key` looks up environment variables, `base` is the plan's folder.
    ///
    /// # Errors
    /// When a variable is not set, or the program is not there.
    pub fn new(
        config: &CommandCandidate,
        base: &Path,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        let candidate = || config.name.clone();
        let name = config.command.first().map(String::as_str).unwrap_or_default();
        let path = match name.contains('/') {
            true => Some(base.join(name)).filter(|it| it.is_file()),
            false => {
                let places = key("PATH").unwrap_or_default();
                std::env::split_paths(&places).map(|it| it.join(name)).find(|it| it.is_file())
            }
        };
        let missing = || AskerError::Missing { candidate: candidate(), path: PathBuf::from(name) };
        let real = |it: PathBuf| std::fs::canonicalize(&it).unwrap_or(it);
        let path = path.map(real).ok_or_else(missing)?;
        let passed = PASSED.iter().filter_map(|it| Some(((*it).to_owned(), key(it)?)));
        let mut env: BTreeMap<String, String> = passed.collect();
        let mut secrets = Vec::new();
        for (name, value) in &config.env {
            let value = match value {
                HeaderText::Given(value) => value.clone(),
                HeaderText::Variable(variable) => {
                    let found = key(&variable.env).filter(|it| !it.trim().is_empty());
                    let variable = variable.env.clone();
                    found.ok_or(AskerError::NoKey { candidate: candidate(), variable })?
                }
            };
            secrets.push(value.clone());
            env.insert(name.clone(), value);
        }
        let folder = real(match base.as_os_str().is_empty() {
            true => PathBuf::from("."),
            false => base.to_owned(),
        });
        secrets.retain(|it| it.len() >= 6);
        let program = AskingProgram { config: config.clone(), path, folder, env, secrets };
        Ok(Self { program: Arc::new(program) })
    }
}

impl AskingProgram {
    fn request(&self, ask: &Ask) -> String {
        let request = json!({
            "format_version": FORMAT_VERSION,
            "candidate": self.config.name,
            "model": self.config.model,
            "task": ask.task,
            "sample": ask.sample,
            "attempt": ask.attempt,
            "seed": ask.seed & 0x7fff_ffff,
            "messages": ask.messages,
            "sampling": self.config.sampling,
        });
        request.to_string()
    }

    /// Runs the program once.
    async fn run(&self, request: String) -> AskReply {
        let began = Instant::now();
        let result = self.answer(&request).await;
        let empty = RequestNote::bare("answered", began.elapsed());
        match result {
            Ok(answer) => {
                let text = self.without_secrets(answer.answer.unwrap_or_default());
                let thought = self.without_secrets(answer.thought);
                let counted = answer.tokens_input.zip(answer.tokens_output);
                let tokens = counted.map(|(input, output)| Tokens {
                    input,
                    cached: answer.tokens_cached.min(input),
                    output,
                    reasoning: answer.tokens_reasoning,
                });
                let seconds = answer.first_token_seconds.and_then(span);
                let note = RequestNote {
                    first_token: seconds,
                    tokens: tokens.unwrap_or_else(|| estimate(&request, &[&text, &thought])),
                    estimated: tokens.is_none(),
                    thought,
                    cost: answer.cost.filter(|it| *it >= 0.0 && it.is_finite()),
                    ..empty
                };
                let end = match (answer.cut_off, answer.refused) {
                    (true, _) => AnswerEnd::CutOff,
                    (false, true) => AnswerEnd::Refused,
                    (false, false) => AnswerEnd::Complete,
                };
                let outcome = AskOutcome::Answer { submission: Submission::Text(text), end };
                AskReply { request: Some(note), ..AskReply::bare(outcome) }
            }
            Err((reason, why, wait)) => {
                let why = self.without_secrets(why);
                let why: String =
                    why.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
                let why = head_and_tail(why.trim(), TOLD_MAX);
                let outcome = match reason.remedy() {
                    Some(Remedy::EndCandidate) => AskOutcome::Halt(reason, why.clone()),
                    Some(Remedy::VoidTrial) | None => AskOutcome::Void(reason, why.clone()),
                    Some(remedy) => AskOutcome::Again(TryAgain {
                        reason,
                        why: why.clone(),
                        after: wait,
                        unreachable: remedy == Remedy::AskAgainThenEnd,
                    }),
                };
                let outcome_word = reason.short().to_owned();
                let note = RequestNote { outcome: outcome_word, detail: why, wait, ..empty };
                AskReply { request: Some(note), ..AskReply::bare(outcome) }
            }
        }
    }

    fn without_secrets(&self, text: String) -> String {
        self.secrets.iter().fold(text, |text, secret| {
            if text.contains(secret) { text.replace(secret, "[key]") } else { text }
        })
    }

    async fn answer(&self, request: &str) -> Result<CommandAnswer, Fault> {
        let failed = |why: String| (VoidReason::CommandFailed, why, None);
        let mut command = leashed(&self.path, &self.config.command[1..]);
        command
            .env_clear()
            .envs(&self.env)
            .current_dir(&self.folder)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let told = |error: io::Error| failed(format!("`{}`: {error}", self.path.display()));
        let mut child = command.spawn().map_err(told)?;
        // Whatever it has started ends with it.
        let group = ProcessGroup::of(child.id());
        let (stdin, stdout, stderr) =
            (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let longest = usize::try_from(self.config.longest_answer.0).unwrap_or(usize::MAX);
        let work = async {
            let write = async {
                if let Some(mut stdin) = stdin {
                    // One that does not read to the end may answer all the same.
                    let _ = stdin.write_all(request.as_bytes()).await;
                }
            };
            let (_, out, said) =
                tokio::join!(write, read_most(stdout, longest), read_most(stderr, SAID_MAX));
            (out, said, child.wait().await)
        };
        let done = tokio::time::timeout(self.config.timeout.0, work).await;
        drop(group);
        let Ok((out, said, status)) = done else {
            let seconds = self.config.timeout.0.as_secs_f64();
            let why = format!("the command took longer than {seconds} s");
            return Err((VoidReason::HostTimedOut, why, None));
        };
        let status = status.map_err(told)?;
        let said = String::from_utf8_lossy(&said).trim().to_owned();
        let answer: Result<CommandAnswer, _> = serde_json::from_slice(&out);
        let answer = match answer {
            Ok(answer) => answer,
            Err(_) if !status.success() => return Err(failed(format!("{status}: {said}"))),
            Err(error) => {
                return Err(failed(format!("what it wrote is no answer: {error} {said}")));
            }
        };
        if let Some(error) = answer.error {
            let known = answer.fault.as_deref().and_then(VoidReason::of_short);
            let reason = known.filter(|it| it.remedy().is_some());
            let reason = reason.unwrap_or(VoidReason::CommandFailed);
            return Err((reason, error, answer.retry_after.and_then(span)));
        }
        match (&answer.answer, status.success()) {
            (_, false) => Err(failed(format!("{status}: {said}"))),
            (None, true) => Err(failed("it wrote neither `answer` nor `error`".to_owned())),
            (Some(_), true) => Ok(answer),
        }
    }
}

/// Why there is no answer: of which kind, in words, and how long the host asks to be left alone.
type Fault = (VoidReason, String, Option<Duration>);

fn span(seconds: f64) -> Option<Duration> {
    Duration::try_from_secs_f64(seconds).ok()
}

/// Reads to the end, and keeps at most so many bytes.
async fn read_most(from: Option<impl AsyncRead + Unpin>, most: usize) -> Vec<u8> {
    let (mut kept, mut piece) = (Vec::new(), vec![0; 16 << 10]);
    let Some(mut from) = from else { return kept };
    while let Ok(count @ 1..) = from.read(&mut piece).await {
        let room = most.saturating_sub(kept.len());
        kept.extend_from_slice(&piece[..count.min(room)]);
    }
    kept
}

impl Asker for CommandAsker {
    fn ask(
        &self,
        ask: &Ask,
        _workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        if reporter.requested().is_none() {
            return AskReply::bare(AskOutcome::Cancelled);
        }
        match runtime() {
            Ok(runtime) => runtime.block_on(self.program.run(self.program.request(ask))),
            Err(error) => {
                AskReply::bare(AskOutcome::Void(VoidReason::SandboxError, error.to_string()))
            }
        }
    }

    fn answers_by_itself(&self) -> bool {
        true
    }

    fn begin(&self, ask: &Ask, answered: OnReply) {
        let (program, request) = (Arc::clone(&self.program), self.program.request(ask));
        match runtime() {
            Ok(runtime) => {
                runtime.spawn(async move { answered(program.run(request).await) });
            }
            Err(error) => answered(AskReply::bare(AskOutcome::Void(
                VoidReason::SandboxError,
                error.to_string(),
            ))),
        }
    }

    fn host(&self) -> Option<&str> {
        self.program.path.to_str()
    }
}
