//! Agents that get their prompt by the command line, a file or standard input, and run to their end.

use std::path::Path;
use std::sync::Arc;

use fairtrial_core::answer::{AnswerEnd, Submission};
use fairtrial_core::plan::AgentCandidate;
use fairtrial_core::tree::{FileTree, RelPath};
use fairtrial_core::verdict::VoidReason;
use fairtrial_sandbox::{DRIVER, Sandbox};

use super::installation::{AgentRun, AgentStart, Installation, Spoiled, watched};
use super::work::{prompt_of, submission, taken};
use crate::ask::{ActorEnd, Ask, AskOutcome, AskReply, Asker, AskerError, Reporter, Workspace};
use crate::relay::Relay;

/// The name of the prompt's file, beside no file of the repository.
const PROMPT: &str = "prompt.md";

/// An agent.
pub struct AgentAsker(Installation);

impl AgentAsker {
    /// Makes an agent ready; paths are beside `base`, `key` looks up environment variables.
    ///
    /// # Errors
    /// When its program, its folders or its key are not there.
    pub fn new(
        config: &AgentCandidate,
        base: &Path,
        key: impl Fn(&str) -> Option<String>,
    ) -> Result<Self, AskerError> {
        Installation::new(config, base, key, false).map(Self)
    }

    fn attempt(
        &self,
        ask: &Ask,
        workspace: &Workspace<'_>,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(Submission, ActorEnd), Spoiled> {
        let agent = &self.0;
        let prompt = prompt_of(ask);
        let name = RelPath::parse(PROMPT).map_err(|error| Spoiled::of(&error))?;
        let driver = FileTree::from([(name, prompt.clone().into_bytes())]);
        let inputs = agent.inputs(ask, workspace, Some(&driver))?;
        let reads_stdin = agent.command.iter().any(|it| it == "{stdin}");
        let command = agent.command.iter().filter(|it| *it != "{stdin}");
        let file = format!("{DRIVER}/{PROMPT}");
        let start = AgentStart {
            command: command.map(|it| agent.filled(it, &prompt, &file)).collect(),
            stdin: if reads_stdin { prompt.clone().into_bytes() } else { Vec::new() },
            prompt,
            prompt_file: file,
            channel: false,
        };
        let job = agent.job(start, workspace, &inputs)?;
        let mut running = workspace.sandbox.start(&job)?;
        let relay = agent.relay(&mut running, reporter)?;
        let stopper = running.stopper()?;
        let outcome = watched(&stopper, relay.as_ref(), &**reporter, || running.finish())?;
        let used = relay.as_ref().map(Relay::used).unwrap_or_default();
        agent.spoiled(outcome.limit, &used, reporter)?;
        let taken = taken(workspace, outcome.collected.as_ref())
            .map_err(|why| Spoiled::Void(VoidReason::SandboxError, why))?;
        let end = agent.end_of(&AgentRun::over(&outcome), &used, &taken, &**reporter);
        Ok((submission(workspace, &taken.change), end))
    }
}

impl Asker for AgentAsker {
    fn ask(
        &self,
        ask: &Ask,
        workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        act(workspace, reporter, |workspace| self.attempt(ask, workspace, reporter))
    }

    fn host(&self) -> Option<&str> {
        self.0.config.endpoint.as_deref()
    }

    fn version(&self, sandbox: &Sandbox) -> Option<Result<String, String>> {
        self.0.version(sandbox)
    }

    fn acts(&self) -> bool {
        true
    }
}

/// What comes of an attempt of one that acts.
pub(super) fn act(
    workspace: Option<&Workspace<'_>>,
    reporter: &Arc<dyn Reporter>,
    attempt: impl FnOnce(&Workspace<'_>) -> Result<(Submission, ActorEnd), Spoiled>,
) -> AskReply {
    let Some(workspace) = workspace else {
        let why = "there is no workspace to act in".to_owned();
        return Spoiled::Void(VoidReason::SandboxError, why).reply();
    };
    if reporter.is_stopping() {
        return Spoiled::Cancelled.reply();
    }
    match attempt(workspace) {
        Ok((submission, end)) => AskReply {
            ended: Some(end),
            ..AskReply::bare(AskOutcome::Answer { submission, end: AnswerEnd::Complete })
        },
        Err(spoiled) => spoiled.reply(),
    }
}
