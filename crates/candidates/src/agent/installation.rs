//! An agent as the plan and this machine have it: its program, its files, its host, and how it is run.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use fairtrial_core::plan::AgentCandidate;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{FileTree, WorkTree};
use fairtrial_core::verdict::{Remedy, VoidReason};
use fairtrial_sandbox::{
    Archive, ArchiveError, Caps, Collect, Ending, HOME, Job, LimitHit, Outcome, Reach, Running,
    Sandbox, SandboxError, Stopper, Tier, WORK, is_system,
};
use fairtrial_worktree::{Taken, read_tree};

use super::work::{STUCK, base, chain, ended, so_far, view_word};
use crate::ask::{ActorEnd, Ask, AskOutcome, AskReply, AskerError, Reporter, TryAgain, Workspace};
use crate::relay::{Relay, RelayConfig, RelayUse};
use crate::upstream::{Upstream, UpstreamConfig};

/// The port of the relay, in the agent's own network.
const PORT: u16 = 8731;

/// What an agent may print, in bytes; more is dropped.
const OUTPUT: u64 = 16 << 20;

/// Longest text of each stream that is kept, in bytes.
const SAID_MAX: usize = 16 << 10;

/// How often is looked whether an agent must end.
const POLL: Duration = Duration::from_millis(50);

/// How long an agent may go on that met a limit of its requests.
const AFTER_LIMIT: Duration = Duration::from_secs(3);

/// An agent, ready to be run.
pub struct Installation {
    /// As the plan has it.
    pub config: AgentCandidate,
    /// Its program and arguments, where they really are.
    pub command: Vec<String>,
    version: Vec<String>,
    show: Vec<PathBuf>,
    home: WorkTree,
    upstream: Option<Arc<Upstream>>,
    /// Whether it says itself what it does.
    speaks_acp: bool,
}

/// Why one attempt came to nothing that could be judged.
pub enum Spoiled {
    /// The run is stopping.
    Cancelled,
    /// Our own part failed.
    Void(VoidReason, String),
    /// The host failed.
    Again(TryAgain),
    /// The host failed for good.
    Halt(VoidReason, String),
}

impl From<SandboxError> for Spoiled {
    fn from(error: SandboxError) -> Self {
        Self::of(&error)
    }
}

impl From<ArchiveError> for Spoiled {
    fn from(error: ArchiveError) -> Self {
        Self::of(&error)
    }
}

impl Spoiled {
    /// By our own part.
    pub fn of(error: &dyn std::error::Error) -> Self {
        Self::Void(VoidReason::SandboxError, chain(error))
    }

    /// As the reply to being asked.
    pub fn reply(self) -> AskReply {
        AskReply::bare(match self {
            Self::Cancelled => AskOutcome::Cancelled,
            Self::Void(reason, why) => AskOutcome::Void(reason, why),
            Self::Again(again) => AskOutcome::Again(again),
            Self::Halt(reason, why) => AskOutcome::Halt(reason, why),
        })
    }
}

/// What is laid out for an agent.
pub struct Inputs {
    driver: Option<Archive>,
    home: Archive,
    given: Archive,
    change: Archive,
}

/// The command of one run, and what it is told.
pub struct AgentStart {
    /// The program and its arguments.
    pub command: Vec<String>,
    /// What stands for `{prompt}` in its environment.
    pub prompt: String,
    /// What stands for `{prompt_file}` there.
    pub prompt_file: String,
    /// What it reads on standard input.
    pub stdin: Vec<u8>,
    /// Whether it has a channel to the tool.
    pub channel: bool,
}

/// What a run of an agent printed and used.
pub struct AgentRun<'a> {
    /// How it ended, in words.
    pub ended: String,
    /// The sandbox's limit that ended it.
    pub limit: Option<LimitHit>,
    /// What it said.
    pub stdout: &'a [u8],
    /// What it complained of.
    pub stderr: &'a [u8],
    /// Time by the clock on the wall.
    pub wall: Duration,
    /// Processor time.
    pub cpu: Duration,
    /// Most memory at one time, in bytes.
    pub peak_memory: u64,
    /// How it saw the files.
    pub view: Option<fairtrial_sandbox::TreeView>,
}

impl<'a> AgentRun<'a> {
    /// One that is over.
    pub fn over(outcome: &'a Outcome) -> Self {
        Self {
            ended: ended(outcome),
            limit: outcome.limit,
            stdout: &outcome.stdout.bytes,
            stderr: &outcome.stderr.bytes,
            wall: outcome.wall,
            cpu: outcome.cpu,
            peak_memory: outcome.peak_memory,
            view: outcome.view,
        }
    }
}

impl Installation {
    /// Makes an agent ready; paths are beside `base`, `key` looks up environment variables.
    ///
    /// # Errors
    /// When its program, its folders or its key are not there.
    pub fn new(
        config: &AgentCandidate,
        base: &Path,
        key: impl Fn(&str) -> Option<String>,
        speaks_acp: bool,
    ) -> Result<Self, AskerError> {
        let missing = |path: &Path| AskerError::Missing {
            candidate: config.name.clone(),
            path: path.to_owned(),
        };
        let real = |path: &str| {
            let path = base.join(path);
            fs::canonicalize(&path).map_err(|_| missing(&path))
        };
        let show = config.show.iter().map(|it| real(it)).collect::<Result<Vec<_>, _>>()?;
        let program = |command: &[String]| -> Result<Vec<String>, AskerError> {
            let Some((first, rest)) = command.split_first() else { return Ok(Vec::new()) };
            let path = match first.contains('/') {
                true => real(first)?,
                false => on_search_path(first, &key).ok_or_else(|| missing(Path::new(first)))?,
            };
            let first = path.to_string_lossy().into_owned();
            // Of what it is shown, it is told where that really is.
            let shown = |it: &String| {
                let lies_in = |folder: &String| Path::new(it).starts_with(folder);
                config.show.iter().any(lies_in).then(|| real(it)).transpose()
            };
            let told = |it: &String| {
                let path = shown(it)?.map(|path| path.to_string_lossy().into_owned());
                Ok(path.unwrap_or_else(|| it.clone()))
            };
            std::iter::once(Ok(first)).chain(rest.iter().map(told)).collect()
        };
        let home = match &config.home {
            None => WorkTree::new(),
            Some(folder) => {
                let folder = real(folder)?;
                read_tree(&folder).map_err(|_| missing(&folder))?
            }
        };
        let upstream = UpstreamConfig::of_agent(config, base);
        let upstream = upstream.map(|it| Upstream::new(&it, &key).map(Arc::new)).transpose()?;
        let (command, version) = (program(&config.command)?, program(&config.version)?);
        Ok(Self { config: config.clone(), command, version, show, home, upstream, speaks_acp })
    }

    /// What its program says of its version; `None` where there is nothing to ask.
    pub fn version(&self, sandbox: &Sandbox) -> Option<Result<String, String>> {
        (!self.version.is_empty()).then(|| self.ask_version(sandbox))
    }

    fn ask_version(&self, sandbox: &Sandbox) -> Result<String, String> {
        let caps = Caps { wall: Duration::from_secs(60), ..self.caps(64 << 20) };
        let home = Archive::of_snapshot(&self.home).map_err(|error| error.to_string())?;
        let job = Job { home: Some(&home), ..self.bare_job(self.version.clone(), caps) };
        let outcome = sandbox.run(&job).map_err(|error| chain(&error))?;
        let said = String::from_utf8_lossy(&outcome.stdout.bytes);
        match outcome.ending {
            Ending::Exited(0) => Ok(said.lines().next().unwrap_or_default().trim().to_owned()),
            _ => Err(format!("its version command {}", ended(&outcome))),
        }
    }

    fn caps(&self, disk: u64) -> Caps {
        let limits = &self.config.limits;
        Caps {
            wall: limits.wall.0,
            cpu: limits.time.0,
            memory: limits.memory.0,
            processes: limits.processes,
            output: OUTPUT,
            disk,
        }
    }

    fn bare_job(&self, command: Vec<String>, caps: Caps) -> Job<'static> {
        let env = [("PATH", "/usr/local/bin:/usr/bin:/bin"), ("HOME", HOME), ("LANG", "C.UTF-8")];
        Job {
            command,
            env: env.map(|(key, value)| (key.to_owned(), value.to_owned())).into(),
            stdin: Vec::new(),
            tree: None,
            layers: Vec::new(),
            home: None,
            driver: None,
            sealed: None,
            show: self.show.clone(),
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::Nothing,
            session: 0,
            network: Reach::Nothing,
            caps,
        }
    }

    /// A text of the plan with its places filled in. `prompt_file` is where the prompt lies.
    pub fn filled(&self, text: &str, prompt: &str, prompt_file: &str) -> String {
        let endpoint = format!("http://127.0.0.1:{PORT}/v1");
        let model = self.config.model.as_deref().unwrap_or_default();
        text.replace("{prompt_file}", prompt_file)
            .replace("{folder}", WORK)
            .replace("{endpoint}", &endpoint)
            .replace("{model}", model)
            .replace("{prompt}", prompt)
    }

    /// What is laid out for an attempt, which goes on from the files of the last one.
    pub fn inputs(
        &self,
        ask: &Ask,
        workspace: &Workspace<'_>,
        driver: Option<&FileTree>,
    ) -> Result<Inputs, Spoiled> {
        let base = base(workspace);
        let so_far = so_far(ask.last.as_ref(), base, workspace.disk);
        Ok(Inputs {
            driver: driver.map(Archive::of).transpose()?,
            home: Archive::of_snapshot(&self.home)?,
            given: Archive::of_snapshot(&workspace.given)?,
            change: Archive::of_change(&so_far)?,
        })
    }

    /// How it is run.
    pub fn job<'a>(
        &self,
        start: AgentStart,
        workspace: &Workspace<'_>,
        inputs: &'a Inputs,
    ) -> Result<Job<'a>, Spoiled> {
        let mut env = workspace.env.clone();
        for (key, value) in &self.config.env {
            env.insert(key.clone(), self.filled(value, &start.prompt, &start.prompt_file));
        }
        let mut show = self.show.clone();
        show.extend(workspace.show.iter().cloned());
        show.sort();
        show.dedup();
        let is_full = workspace.sandbox.tier() == Tier::Full;
        if self.upstream.is_some() && !is_full {
            let why = "an agent with an endpoint takes the full tier of the sandbox".to_owned();
            return Err(Spoiled::Void(VoidReason::SandboxError, why));
        }
        let network = match (&self.upstream, is_full) {
            (Some(_), _) => Reach::Loopback { tool: Some(PORT) },
            (None, true) => Reach::Loopback { tool: None },
            (None, false) => Reach::Nothing,
        };
        Ok(Job {
            env,
            stdin: start.stdin,
            tree: workspace.prepared.as_ref().map(|it| it.name().to_owned()),
            layers: match workspace.prepared {
                Some(_) => vec![&inputs.change],
                None => vec![&inputs.given, &inputs.change],
            },
            home: Some(&inputs.home),
            driver: inputs.driver.as_ref(),
            show,
            channel: start.channel,
            links: Vec::new(),
            terminals: true,
            collect: match workspace.prepared {
                Some(_) => Collect::Changes { skip: vec![".git".to_owned()] },
                None => Collect::All,
            },
            network,
            ..self.bare_job(start.command, self.caps(workspace.disk))
        })
    }

    /// The relay of a run that has begun; `None` where it reaches nothing.
    pub fn relay(
        &self,
        running: &mut Running,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<Option<Relay>, Spoiled> {
        let (Some(upstream), Some(listener)) = (&self.upstream, running.listener()?) else {
            return Ok(None);
        };
        let config = RelayConfig {
            upstream: Arc::clone(upstream),
            model: self.config.model.clone().unwrap_or_default(),
            limits: self.config.limits.clone(),
            price: self.config.price,
            settings: self.config.relay.clone(),
            report_calls: !self.speaks_acp,
        };
        let started = Relay::start(listener, config, Arc::clone(reporter));
        let failed = |error| Spoiled::Void(VoidReason::SandboxError, format!("the relay: {error}"));
        started.map(Some).map_err(failed)
    }

    /// Whether what happened says nothing about the agent.
    pub fn spoiled(
        &self,
        limit: Option<LimitHit>,
        used: &RelayUse,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(), Spoiled> {
        if limit == Some(LimitHit::Stopped) && reporter.is_stopping() {
            return Err(Spoiled::Cancelled);
        }
        // A host that never answered has spoiled it.
        if used.requests > 0 && used.answered == 0 && !used.fault.is_empty() {
            let reason = used.reason.unwrap_or(VoidReason::ServerError);
            let why = format!("none of {} requests was answered: {}", used.requests, used.fault);
            let unreachable = reason.remedy() == Some(Remedy::AskAgainThenEnd);
            return Err(match reason.remedy() {
                Some(Remedy::EndCandidate) => Spoiled::Halt(reason, why),
                Some(Remedy::VoidTrial) => Spoiled::Void(reason, why),
                _ => Spoiled::Again(TryAgain { reason, why, after: None, unreachable }),
            });
        }
        Ok(())
    }

    /// How an attempt ended.
    pub fn end_of(
        &self,
        run: &AgentRun<'_>,
        used: &RelayUse,
        taken: &Taken,
        reporter: &dyn Reporter,
    ) -> ActorEnd {
        let text = |bytes: &[u8]| head_and_tail(&String::from_utf8_lossy(bytes), SAID_MAX);
        let limit = match (used.limit, run.limit) {
            (Some(limit), _) => limit,
            (None, Some(LimitHit::Wall)) => "wall",
            (None, Some(LimitHit::Cpu)) => "time",
            (None, Some(LimitHit::Memory)) => "memory",
            (None, Some(LimitHit::Disk)) => "disk",
            (None, Some(LimitHit::Processes)) => "processes",
            (None, Some(LimitHit::Output)) => "output",
            (None, Some(LimitHit::Stopped)) if reporter.is_stuck() => STUCK,
            (None, Some(LimitHit::Stopped) | None) => "",
        };
        ActorEnd {
            ended: match limit {
                STUCK => "was ended: what it did came to nothing, again and again".to_owned(),
                _ => run.ended.clone(),
            },
            limit: limit.to_owned(),
            stdout: text(run.stdout),
            stderr: text(run.stderr),
            wall_seconds: run.wall.as_secs_f64(),
            cpu_seconds: run.cpu.as_secs_f64(),
            peak_memory: run.peak_memory,
            view: view_word(run.view).to_owned(),
            refused: used.refused.clone(),
            left_out: taken.left_out,
        }
    }
}

/// Does something that waits for an agent, and ends the agent meanwhile where the run is stopping or a limit
/// of its requests is met.
pub fn watched<T>(
    stopper: &Stopper,
    relay: Option<&Relay>,
    reporter: &dyn Reporter,
    wait: impl FnOnce() -> T,
) -> T {
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut limit_met: Option<Instant> = None;
            while !over.load(Ordering::Relaxed) {
                let is_beyond = relay.is_some_and(|it| it.used().limit.is_some());
                if is_beyond {
                    limit_met.get_or_insert_with(Instant::now);
                }
                let is_late = limit_met.is_some_and(|it| it.elapsed() > AFTER_LIMIT);
                if reporter.is_stopping() || reporter.is_stuck() || is_late {
                    stopper.stop();
                    return;
                }
                std::thread::sleep(POLL);
            }
        });
        let result = wait();
        over.store(true, Ordering::Relaxed);
        result
    })
}

fn on_search_path(name: &str, env: &impl Fn(&str) -> Option<String>) -> Option<PathBuf> {
    let search = env("PATH").unwrap_or_else(|| "/usr/local/bin:/usr/bin:/bin".to_owned());
    let places = std::env::split_paths(&search).map(|it| it.join(name)).filter(|it| it.is_file());
    let found: Vec<PathBuf> = places.filter_map(|it| fs::canonicalize(it).ok()).collect();
    // What every sandbox sees comes before a version manager's.
    found.iter().find(|it| is_system(it)).or_else(|| found.first()).cloned()
}
