//! The tool's side: starts the client inside, gives it prompts, and takes the files when a turn is over.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use fairtrial_core::answer::Submission;
use fairtrial_core::plan::AgentCandidate;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::verdict::VoidReason;
use fairtrial_sandbox::{Allowed, Frame, OWN_PROGRAM, Running, Sandbox};

use super::client::CLIENT;
use super::wire::{Event, TurnOrder};
use crate::agent::installation::{AgentRun, AgentStart, Installation, Spoiled, watched};
use crate::agent::program::act;
use crate::agent::work::{prompt_of, submission, taken};
use crate::ask::{ActorEnd, Ask, AskReply, Asker, AskerError, Reporter, Role, StepNote, Workspace};
use crate::relay::Relay;

/// Longest line from the client, in bytes.
const LINE_MAX: usize = 4 << 20;

/// Steps of one attempt that are recorded.
const STEPS_MAX: usize = 2000;

/// Longest word for what a step was, and for what came of it, in bytes.
const WORD_MAX: usize = 40;

/// Longest mark of a file, in bytes.
const MARK_MAX: usize = 100;

/// Longest subject of a step, in bytes.
const SUBJECT_MAX: usize = 300;

/// Longest text of a step that is recorded, in bytes.
const DETAIL_MAX: usize = 4 << 10;

/// An agent that speaks the protocol.
pub struct AcpAsker {
    agent: Installation,
    /// Agents that wait for what becomes of their last turn, standing still, by task and sample.
    sessions: Mutex<HashMap<(String, u32), LiveSession>>,
}

/// An agent under way.
struct LiveSession {
    running: Running,
    relay: Option<Relay>,
    /// The last attempt that it was asked for.
    attempt: u32,
}

/// How a turn ended.
enum TurnEnd {
    /// By itself.
    Over { stop: String, last_words: String },
    /// With the agent, or with a limit.
    Gone { why: Option<String> },
}

impl AcpAsker {
    /// Makes an agent ready; paths are beside `base`, `key` looks up environment variables.
    ///
    /// # Errors
    /// When its program, its folders or its key are not there.
    pub fn new(
        config: &AgentCandidate,
        base: &Path,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        let agent = Installation::new(config, base, key, true)?;
        Ok(Self { agent, sessions: Mutex::default() })
    }

    fn sessions(&self) -> std::sync::MutexGuard<'_, HashMap<(String, u32), LiveSession>> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The session of the attempt before this one, where it is still there, or a new one; and its prompt.
    fn session(
        &self,
        ask: &Ask,
        workspace: &Workspace<'_>,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(LiveSession, String), Spoiled> {
        let kept = self.sessions().remove(&(ask.task.clone(), ask.sample));
        if let Some(session) = kept
            && session.attempt + 1 == ask.attempt
            && let Some(said) = ask.messages.iter().rev().find(|it| it.role == Role::User)
        {
            if let Some(relay) = &session.relay {
                relay.begin(Arc::clone(reporter));
            }
            return Ok((session, said.content.clone()));
        }
        let agent = &self.agent;
        let own = [OWN_PROGRAM, CLIENT].map(str::to_owned).into_iter();
        let prompt = prompt_of(ask);
        let start = AgentStart {
            command: own.chain(agent.command.iter().map(|it| agent.filled(it, "", ""))).collect(),
            stdin: Vec::new(),
            prompt: prompt.clone(),
            prompt_file: String::new(),
            channel: true,
        };
        let inputs = agent.inputs(ask, workspace, None)?;
        let job = agent.job(start, workspace, &inputs)?;
        let mut running = workspace.sandbox.start(&job)?;
        let relay = agent.relay(&mut running, reporter)?;
        Ok((LiveSession { running, relay, attempt: 0 }, prompt))
    }

    fn attempt(
        &self,
        ask: &Ask,
        workspace: &Workspace<'_>,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(Submission, ActorEnd), Spoiled> {
        let agent = &self.agent;
        let (mut session, prompt) = self.session(ask, workspace, reporter)?;
        session.attempt = ask.attempt;
        let LiveSession { running, relay, .. } = &mut session;
        let began = Instant::now();
        let order = TurnOrder { prompt, permit: agent.config.permit.clone() };
        let order = serde_json::to_vec(&order).map_err(|error| Spoiled::of(&error))?;
        let limits = &agent.config.limits;
        running.send(&order, Allowed { wall: limits.wall.0, cpu: limits.time.0 });
        let stopper = running.stopper()?;
        let turn = watched(&stopper, relay.as_ref(), &**reporter, || turn(running, &**reporter))?;
        let used = relay.as_ref().map(Relay::used).unwrap_or_default();
        let failed = |why| Spoiled::Void(VoidReason::SandboxError, why);
        if let TurnEnd::Over { stop, last_words } = &turn
            && let Some(still) = running.pause()?
        {
            agent.spoiled(None, &used, reporter)?;
            let taken = taken(workspace, Some(&still.collected)).map_err(failed)?;
            let stderr = running.complained().to_vec();
            let run = AgentRun {
                ended: format!("ended its turn ({stop})"),
                limit: None,
                stdout: last_words.as_bytes(),
                stderr: &stderr,
                wall: began.elapsed(),
                cpu: still.cpu,
                peak_memory: still.peak_memory,
                view: still.view,
            };
            let end = agent.end_of(&run, &used, &taken, &**reporter);
            let submission = submission(workspace, &taken.change);
            self.sessions().insert((ask.task.clone(), ask.sample), session);
            return Ok((submission, end));
        }
        let outcome = session.running.finish()?;
        agent.spoiled(outcome.limit, &used, reporter)?;
        let taken = taken(workspace, outcome.collected.as_ref()).map_err(failed)?;
        let last_words = match &turn {
            TurnEnd::Over { last_words, .. } => last_words.clone(),
            TurnEnd::Gone { .. } => String::new(),
        };
        let over = AgentRun::over(&outcome);
        let why = match turn {
            TurnEnd::Gone { why: Some(why) } if outcome.limit.is_none() => why,
            _ => over.ended.clone(),
        };
        let stdout = last_words.as_bytes();
        let run = AgentRun { ended: why, stdout, wall: began.elapsed(), ..over };
        let end = agent.end_of(&run, &used, &taken, &**reporter);
        Ok((submission(workspace, &taken.change), end))
    }
}

/// Hears what the client says until the turn is over.
fn turn(running: &mut Running, reporter: &dyn Reporter) -> Result<TurnEnd, Spoiled> {
    let mut steps = 0;
    loop {
        let line = match running.receive(LINE_MAX)? {
            Frame::Line(line) => line,
            Frame::Closed => return Ok(TurnEnd::Gone { why: None }),
            Frame::TooLong => {
                running.stop();
                return Ok(TurnEnd::Gone { why: Some("said too much at once".to_owned()) });
            }
        };
        match serde_json::from_slice::<Event>(&line) {
            Ok(Event::Step(step)) => {
                steps += 1;
                if steps < STEPS_MAX {
                    reporter.step(note(&step));
                } else if steps == STEPS_MAX {
                    reporter.step(note(&StepNote {
                        kind: "more".to_owned(),
                        subject: "further steps are not recorded".to_owned(),
                        outcome: "cut".to_owned(),
                        ..StepNote::default()
                    }));
                }
            }
            Ok(Event::Turn { stop, last_words }) => {
                return Ok(TurnEnd::Over { stop: head_and_tail(&stop, SUBJECT_MAX), last_words });
            }
            Ok(Event::Failed { why }) => {
                let why = head_and_tail(&why, SUBJECT_MAX);
                return Ok(TurnEnd::Gone { why: Some(why) });
            }
            // Whoever wrote that is not the client that was started.
            Err(_) => {
                running.stop();
                return Ok(TurnEnd::Gone { why: Some("spoke in its client's place".to_owned()) });
            }
        }
    }
}

/// A step as it is recorded: the agent's own words, and not too many.
fn note(step: &StepNote) -> StepNote {
    let short = |mark: &str| head_and_tail(mark, MARK_MAX);
    StepNote {
        kind: head_and_tail(&step.kind, WORD_MAX),
        subject: head_and_tail(&step.subject, SUBJECT_MAX),
        outcome: head_and_tail(&step.outcome, WORD_MAX),
        detail: head_and_tail(&step.detail, DETAIL_MAX),
        took: step.took,
        files: step.files.as_ref().map(|(before, after)| (short(before), short(after))),
    }
}

impl Asker for AcpAsker {
    fn ask(
        &self,
        ask: &Ask,
        workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        act(workspace, reporter, |workspace| self.attempt(ask, workspace, reporter))
    }

    fn host(&self) -> Option<&str> {
        self.agent.config.endpoint.as_deref()
    }

    fn version(&self, sandbox: &Sandbox) -> Option<Result<String, String>> {
        self.agent.version(sandbox)
    }

    fn acts(&self) -> bool {
        true
    }

    fn leave(&self, task: &str, sample: u32) {
        self.sessions().remove(&(task.to_owned(), sample));
    }
}
