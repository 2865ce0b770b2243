//! Agents: programs that change the files of a task themselves.
//!
//! One runs in the sandbox, in a view of the prepared repository (or in a folder of the given files), with a
//! home of its own, and reaches nothing but the relay. What it changed is its answer, whatever it says.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use fairtrial_core::answer::Submission;
use fairtrial_core::change::{Change, apply_patch, write_patch};
use fairtrial_core::plan::AgentCandidate;
use fairtrial_core::text::head_and_tail;
use fairtrial_core::tree::{FileTree, RelPath, WorkTree};
use fairtrial_core::verdict::VoidReason;
use fairtrial_sandbox::{
    Archive, Caps, Collect, DRIVER, Ending, HOME, Job, LimitHit, Outcome, Reach, Sandbox,
    SandboxError, Tier, TreeView, WORK, is_system,
};
use fairtrial_worktree::{Taken, read_tree, take_change};

use crate::ask::{
    ActorEnd, Ask, AskOutcome, AskReply, Asker, AskerError, Reporter, Role, TryAgain, Workspace,
};
use crate::relay::{Relay, RelayConfig, RelayUse};
use crate::upstream::{Upstream, UpstreamConfig};

/// The port of the relay, in the agent's own network.
const PORT: u16 = 8731;

/// The name of the prompt's file, beside no file of the repository.
const PROMPT: &str = "prompt.md";

/// What an agent may print, in bytes; more is dropped.
const OUTPUT: u64 = 16 << 20;

/// Longest text of each stream that is kept, in bytes.
const SAID_MAX: usize = 16 << 10;

/// How often is looked whether an agent must end.
const POLL: Duration = Duration::from_millis(50);

/// How long an agent may go on that met a limit of its requests.
const AFTER_LIMIT: Duration = Duration::from_secs(3);

/// An agent.
pub struct AgentAsker {
    config: AgentCandidate,
    command: Vec<String>,
    version: Vec<String>,
    show: Vec<PathBuf>,
    home: WorkTree,
    upstream: Option<Arc<Upstream>>,
}

/// Why one attempt came to nothing that could be judged.
enum Spoiled {
    Cancelled,
    Void(VoidReason, String),
    Again(TryAgain),
}

impl From<SandboxError> for Spoiled {
    fn from(error: SandboxError) -> Self {
        Self::Void(VoidReason::SandboxError, chain(&error))
    }
}

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
        let upstream = match &config.endpoint {
            None => None,
            Some(endpoint) => {
                let upstream = UpstreamConfig {
                    candidate: &config.name,
                    endpoint,
                    key_env: config.key_env.as_deref(),
                    headers: &config.headers,
                    timeout: config.timeout.0,
                };
                Some(Arc::new(Upstream::new(&upstream, &key)?))
            }
        };
        let (command, version) = (program(&config.command)?, program(&config.version)?);
        Ok(Self { config: config.clone(), command, version, show, home, upstream })
    }

    fn ask_version(&self, sandbox: &Sandbox) -> Result<String, String> {
        let caps = Caps { wall: Duration::from_secs(60), ..self.caps(0) };
        let caps = Caps { disk: 64 << 20, ..caps };
        let home = Archive::of_snapshot(&self.home).map_err(|error| error.to_string())?;
        let job = Job { home: Some(&home), ..self.job(self.version.clone(), caps) };
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

    fn job(&self, command: Vec<String>, caps: Caps) -> Job<'static> {
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
            collect: Collect::Nothing,
            session: 0,
            network: Reach::Nothing,
            caps,
        }
    }

    /// A text of the plan with its places filled in.
    fn filled(&self, text: &str, prompt: &str) -> String {
        let endpoint = format!("http://127.0.0.1:{PORT}/v1");
        let model = self.config.model.as_deref().unwrap_or_default();
        text.replace("{prompt_file}", &format!("{DRIVER}/{PROMPT}"))
            .replace("{folder}", WORK)
            .replace("{endpoint}", &endpoint)
            .replace("{model}", model)
            .replace("{prompt}", prompt)
    }

    fn attempt(
        &self,
        ask: &Ask,
        workspace: &Workspace<'_>,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(Submission, ActorEnd), Spoiled> {
        let void =
            |error: &dyn std::error::Error| Spoiled::Void(VoidReason::SandboxError, chain(error));
        let base = workspace.prepared.as_ref().map_or(&workspace.given, |it| it.base());
        let so_far = so_far(ask.last.as_ref(), base, workspace.disk);
        let prompt = prompt_of(ask);
        let archive = |archive: Result<Archive, _>| archive.map_err(|error| void(&error));
        let name = RelPath::parse(PROMPT).map_err(|error| void(&error))?;
        let driver = Archive::of(&FileTree::from([(name, prompt.clone().into_bytes())]));
        let (driver, home) = (archive(driver)?, archive(Archive::of_snapshot(&self.home))?);
        let given = archive(Archive::of_snapshot(&workspace.given))?;
        let change = archive(Archive::of_change(&so_far))?;
        let reads_stdin = self.command.iter().any(|it| it == "{stdin}");
        let command = self.command.iter().filter(|it| *it != "{stdin}");
        let mut env = workspace.env.clone();
        for (key, value) in &self.config.env {
            env.insert(key.clone(), self.filled(value, &prompt));
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
        let command = command.map(|it| self.filled(it, &prompt)).collect();
        let job = Job {
            env,
            stdin: if reads_stdin { prompt.clone().into_bytes() } else { Vec::new() },
            tree: workspace.prepared.as_ref().map(|it| it.name().to_owned()),
            layers: match workspace.prepared {
                Some(_) => vec![&change],
                None => vec![&given, &change],
            },
            home: Some(&home),
            driver: Some(&driver),
            show,
            collect: match workspace.prepared {
                Some(_) => Collect::Changes { skip: vec![".git".to_owned()] },
                None => Collect::All,
            },
            network,
            ..self.job(command, self.caps(workspace.disk))
        };
        let (outcome, used) = self.run(&job, workspace.sandbox, reporter)?;
        self.spoiled(&outcome, &used, reporter)?;
        let taken = taken(workspace, base, &outcome)
            .map_err(|why| Spoiled::Void(VoidReason::SandboxError, why))?;
        let end = self.end_of(&outcome, &used, &taken);
        let submission = match workspace.prepared {
            Some(_) => Submission::Patch(write_patch(base, &taken.change)),
            None => Submission::Files(taken.change.files()),
        };
        Ok((submission, end))
    }

    /// Runs the program, with the relay beside it, and ends it where the run is stopping or a limit of its
    /// requests is met.
    fn run(
        &self,
        job: &Job<'_>,
        sandbox: &Sandbox,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(Outcome, RelayUse), Spoiled> {
        let mut running = sandbox.start(job)?;
        let relay = match (&self.upstream, running.listener()?) {
            (Some(upstream), Some(listener)) => {
                let config = RelayConfig {
                    upstream: Arc::clone(upstream),
                    model: self.config.model.clone().unwrap_or_default(),
                    limits: self.config.limits.clone(),
                    price: self.config.price,
                };
                let started = Relay::start(listener, config, Arc::clone(reporter));
                Some(started.map_err(|error| {
                    Spoiled::Void(VoidReason::SandboxError, format!("the relay: {error}"))
                })?)
            }
            _ => None,
        };
        let (stopper, over) = (running.stopper()?, AtomicBool::new(false));
        let outcome = std::thread::scope(|scope| {
            scope.spawn(|| {
                let mut limit_met: Option<Instant> = None;
                while !over.load(Ordering::Relaxed) {
                    let is_beyond = relay.as_ref().is_some_and(|it| it.used().limit.is_some());
                    if is_beyond {
                        limit_met.get_or_insert_with(Instant::now);
                    }
                    if reporter.is_stopping()
                        || limit_met.is_some_and(|it| it.elapsed() > AFTER_LIMIT)
                    {
                        stopper.stop();
                        return;
                    }
                    std::thread::sleep(POLL);
                }
            });
            let outcome = running.finish();
            over.store(true, Ordering::Relaxed);
            outcome
        });
        let used = relay.as_ref().map(Relay::used).unwrap_or_default();
        Ok((outcome?, used))
    }

    /// Whether what happened says nothing about the agent.
    fn spoiled(
        &self,
        outcome: &Outcome,
        used: &RelayUse,
        reporter: &Arc<dyn Reporter>,
    ) -> Result<(), Spoiled> {
        if outcome.limit == Some(LimitHit::Stopped) && reporter.is_stopping() {
            return Err(Spoiled::Cancelled);
        }
        // A host that never answered has spoiled it.
        if used.requests > 0 && used.answered == 0 && !used.fault.is_empty() {
            return Err(Spoiled::Again(TryAgain {
                reason: VoidReason::ProviderError,
                why: format!("none of {} requests was answered: {}", used.requests, used.fault),
                after: None,
                unreachable: true,
            }));
        }
        Ok(())
    }

    fn end_of(&self, outcome: &Outcome, used: &RelayUse, taken: &Taken) -> ActorEnd {
        let text = |bytes: &[u8]| head_and_tail(&String::from_utf8_lossy(bytes), SAID_MAX);
        let limit = match (used.limit, outcome.limit) {
            (Some(limit), _) => limit,
            (None, Some(LimitHit::Wall)) => "wall",
            (None, Some(LimitHit::Cpu)) => "time",
            (None, Some(LimitHit::Memory)) => "memory",
            (None, Some(LimitHit::Disk)) => "disk",
            (None, Some(LimitHit::Processes)) => "processes",
            (None, Some(LimitHit::Output)) => "output",
            (None, Some(LimitHit::Stopped) | None) => "",
        };
        ActorEnd {
            ended: ended(outcome),
            limit: limit.to_owned(),
            stdout: text(&outcome.stdout.bytes),
            stderr: text(&outcome.stderr.bytes),
            wall_seconds: outcome.wall.as_secs_f64(),
            cpu_seconds: outcome.cpu.as_secs_f64(),
            peak_memory: outcome.peak_memory,
            view: view_word(outcome.view).to_owned(),
            refused: used.refused.clone(),
            left_out: taken.left_out,
        }
    }
}

/// What was changed, of what a repository or a task has.
pub(crate) fn taken(
    workspace: &Workspace<'_>,
    base: &WorkTree,
    outcome: &Outcome,
) -> Result<Taken, String> {
    let nothing = || Taken { change: Change::default(), left_out: 0 };
    let Some(collected) = &outcome.collected else { return Ok(nothing()) };
    match &workspace.prepared {
        Some(prepared) => take_change(prepared, collected).map_err(|error| chain(&error)),
        None => {
            let files = collected.files().map_err(|error| chain(&error))?;
            let mut change = Change::default();
            for (path, node) in Change::from(files).iter() {
                if base.get(path) != node {
                    change.put(path.clone(), node.cloned());
                }
            }
            Ok(Taken { change, left_out: 0 })
        }
    }
}

/// What the attempts before came to, in files of at most `most` bytes. One that was no change that fits
/// began from the start, too.
pub(crate) fn so_far(last: Option<&Submission>, base: &WorkTree, most: u64) -> Change {
    match last {
        Some(Submission::Patch(patch)) => {
            apply_patch(base, patch, most).map(|it| it.change).unwrap_or_default()
        }
        Some(Submission::Files(files)) => Change::from(files.clone()),
        Some(Submission::Text(_)) | None => Change::default(),
    }
}

/// What the agent reads: the task at first, and what was said of its last attempt later.
fn prompt_of(ask: &Ask) -> String {
    let said = ask.messages.iter().filter(|it| it.role == Role::User);
    let texts: Vec<&str> = said.map(|it| it.content.as_str()).collect();
    match texts.as_slice() {
        [] => String::new(),
        [only] => (*only).to_owned(),
        // It may keep no memory of its own from one attempt to the next.
        [first, .., last] => format!("{first}\n\n{last}"),
    }
}

/// How a view was made; empty where there was none.
pub(crate) fn view_word(view: Option<TreeView>) -> &'static str {
    match view {
        Some(TreeView::Overlay) => "overlay",
        Some(TreeView::Reflinks) => "reflinks",
        Some(TreeView::Copies) => "copies",
        None => "",
    }
}

/// How a program ended, in words.
pub(crate) fn ended(outcome: &Outcome) -> String {
    match (outcome.limit, outcome.ending) {
        (Some(LimitHit::Stopped), _) => "was ended at its limit of requests".to_owned(),
        (Some(limit), _) => {
            format!("was ended at its limit of {}", format!("{limit:?}").to_lowercase())
        }
        (None, Ending::Exited(status)) => format!("ended with status {status}"),
        (None, Ending::Signalled(signal)) => format!("ended by signal {signal}"),
    }
}

fn on_search_path(name: &str, env: &impl Fn(&str) -> Option<String>) -> Option<PathBuf> {
    let search = env("PATH").unwrap_or_else(|| "/usr/local/bin:/usr/bin:/bin".to_owned());
    let places = std::env::split_paths(&search).map(|it| it.join(name)).filter(|it| it.is_file());
    let found: Vec<PathBuf> = places.filter_map(|it| fs::canonicalize(it).ok()).collect();
    // What every sandbox sees comes before a version manager's.
    found.iter().find(|it| is_system(it)).or_else(|| found.first()).cloned()
}

/// An error with its causes, on one line.
pub(crate) fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text = format!("{text}: {error}");
        cause = error.source();
    }
    text
}

impl Asker for AgentAsker {
    fn ask(
        &self,
        ask: &Ask,
        workspace: Option<&Workspace<'_>>,
        reporter: &Arc<dyn Reporter>,
    ) -> AskReply {
        let Some(workspace) = workspace else {
            let why = "there is no workspace to act in".to_owned();
            return AskReply::bare(AskOutcome::Void(VoidReason::SandboxError, why));
        };
        if reporter.is_stopping() {
            return AskReply::bare(AskOutcome::Cancelled);
        }
        match self.attempt(ask, workspace, reporter) {
            Ok((submission, end)) => AskReply {
                ended: Some(end),
                ..AskReply::bare(AskOutcome::Answer { submission, cut_off: false })
            },
            Err(Spoiled::Cancelled) => AskReply::bare(AskOutcome::Cancelled),
            Err(Spoiled::Void(reason, why)) => AskReply::bare(AskOutcome::Void(reason, why)),
            Err(Spoiled::Again(again)) => AskReply::bare(AskOutcome::Again(again)),
        }
    }

    fn has(&self, _task: &str, _sample: u32) -> bool {
        true
    }

    fn host(&self) -> Option<&str> {
        self.config.endpoint.as_deref()
    }

    fn version(&self, sandbox: &Sandbox) -> Option<Result<String, String>> {
        (!self.version.is_empty()).then(|| self.ask_version(sandbox))
    }

    fn acts(&self) -> bool {
        true
    }
}
