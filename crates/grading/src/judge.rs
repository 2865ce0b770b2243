//! From a task and an answer's files to a judgement.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use fairtrial_core::docket::{Docket, Proceedings, Task};
use fairtrial_core::judgement::{Judgement, TestOutcome, Usage};
use fairtrial_core::limits::{LimitSettings, Limits};
use fairtrial_core::recipe::{Recipe, Recipes, fill};
use fairtrial_core::tree::FileTree;
use fairtrial_core::verdict::{FailReason, Verdict, VoidReason};
use fairtrial_sandbox::{Archive, Caps, Collect, Ending, Job, LimitHit, Outcome, SandboxError};

use crate::tools::{Tool, Toolbox};
use crate::{build, call, program};

/// Bytes in the work folder, and again in `/tmp`.
const DISK: u64 = 64 << 20;

/// Tests that may run out of time before the rest is no longer run.
pub(crate) const TIMEOUTS_MAX: usize = 2;

/// Judges answers. One serves any number of threads.
#[derive(Debug)]
pub struct Judge {
    recipes: Recipes,
    tools: Toolbox,
    builds: build::Builds,
}

/// Our own part of judging failed: says nothing about the candidate.
#[derive(Debug, thiserror::Error)]
pub enum JudgeError {
    /// The sandbox could not do its part.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
}

impl From<fairtrial_sandbox::ArchiveError> for JudgeError {
    fn from(error: fairtrial_sandbox::ArchiveError) -> Self {
        Self::Sandbox(error.into())
    }
}

/// The limits of a task: the built-in ones, overlaid by the docket's, the task's and the plan's.
#[must_use]
pub fn limits_of(docket: &Docket, task: &Task, plan: &LimitSettings) -> Limits {
    Limits::default()
        .overlaid(&docket.settings.limits)
        .overlaid(&task.limits)
        .overlaid(plan)
}

impl Judge {
    /// A judge who knows these languages and has these tools.
    #[must_use]
    pub fn new(recipes: Recipes, tools: Toolbox) -> Self {
        Self {
            recipes,
            tools,
            builds: build::Builds::default(),
        }
    }

    /// The tools.
    #[must_use]
    pub fn tools(&self) -> &Toolbox {
        &self.tools
    }

    /// The languages.
    #[must_use]
    pub fn recipes(&self) -> &Recipes {
        &self.recipes
    }

    /// The judgement of an answer that there is nothing to run of: every sealed test failed.
    #[must_use]
    pub fn without_code(task: &Task, reason: FailReason, message: Option<String>) -> Judgement {
        nothing_run(task, reason, message)
    }

    /// Judges `answer`, laid over the task's given files. `examples` says whether visible
    /// examples are run after a failure, for feedback.
    ///
    /// What is our own fault comes back as a void verdict with the error in `notes`.
    #[must_use]
    pub fn judge(
        &self,
        task: &Task,
        answer: &FileTree,
        limits: Limits,
        examples: bool,
    ) -> Judgement {
        let tool = match self.tools.get(&task.language) {
            Ok(tool) => tool,
            Err(missing) => {
                let bare = Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
                return Judgement {
                    notes: vec![missing.to_string()],
                    ..bare
                };
            }
        };
        let Some(recipe) = self.recipes.find(&task.language) else {
            return Judgement::bare(Verdict::Void(VoidReason::ToolMissing));
        };
        let mut files = task.given.clone();
        files.extend(
            answer
                .iter()
                .map(|(path, bytes)| (path.clone(), bytes.clone())),
        );
        let bench = Bench {
            task,
            recipe,
            tool,
            limits,
            builds: &self.builds,
        };
        bench.judge(&files, examples).unwrap_or_else(|error| {
            let bare = Judgement::bare(Verdict::Void(VoidReason::SandboxError));
            Judgement {
                notes: vec![chain(&error)],
                ..bare
            }
        })
    }
}

/// An error with its causes, on one line.
fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text = format!("{text}: {error}");
        cause = error.source();
    }
    text
}

/// All that the runs of one judgement have in common.
pub(crate) struct Bench<'a> {
    pub task: &'a Task,
    pub recipe: &'a Recipe,
    pub tool: &'a Tool,
    pub limits: Limits,
    pub builds: &'a build::Builds,
}

impl Bench<'_> {
    fn judge(&self, files: &FileTree, examples: bool) -> Result<Judgement, JudgeError> {
        if !files.contains_key(self.task.file()) {
            let message = format!("the file `{}` is not in the answer", self.task.file());
            return Ok(nothing_run(
                self.task,
                FailReason::NoCodeFound,
                Some(message),
            ));
        }
        match &self.task.proceedings {
            Proceedings::Call {
                settings,
                examples: visible,
                sealed,
            } => {
                let visible = if examples { visible.as_slice() } else { &[] };
                call::judge(self, settings, files, sealed, visible)
            }
            Proceedings::Program {
                examples: visible,
                sealed,
                ..
            } => {
                let visible = if examples { visible.as_slice() } else { &[] };
                let layer = match build::build(self, files)? {
                    build::Built::Ready(layer) => layer,
                    build::Built::Failed(judgement) => return Ok(judgement),
                };
                program::judge(self, &layer, sealed, visible)
            }
        }
    }

    /// What a run may use.
    pub fn caps(&self) -> Caps {
        Caps {
            wall: self.limits.time * 2,
            cpu: self.limits.time,
            memory: self.limits.memory.0,
            processes: self.limits.processes,
            output: self.limits.output.0,
            disk: DISK,
        }
    }

    /// A job in this language's surroundings.
    pub fn job<'a>(&self, command: &[String], caps: Caps, layers: Vec<&'a Archive>) -> Job<'a> {
        Job {
            command: self.command(command, caps.memory),
            env: self.env(),
            stdin: Vec::new(),
            layers,
            driver: None,
            show: self.tool.folders.clone(),
            channel: false,
            collect: Collect::Nothing,
            caps,
        }
    }

    fn command(&self, command: &[String], memory: u64) -> Vec<String> {
        let text = |path: &PathBuf| path.to_string_lossy().into_owned();
        let heap = (memory * 3 / 4) >> 20;
        let file = self.task.file();
        let mut values = vec![
            ("tool".to_owned(), text(&self.tool.program)),
            ("file".to_owned(), file.as_str().to_owned()),
            ("stem".to_owned(), file.stem().to_owned()),
            (
                "driver".to_owned(),
                format!("/opt/driver/driver.{}", file.extension()),
            ),
            ("heap_mib".to_owned(), heap.max(16).to_string()),
        ];
        values.extend(
            self.tool
                .also
                .iter()
                .map(|(name, path)| (name.clone(), text(path))),
        );
        let values: Vec<_> = values
            .iter()
            .map(|(a, b)| (a.as_str(), b.as_str()))
            .collect();
        let mut command = fill(command, &values);
        // `exec` looks for nothing: a program of the work folder needs its whole path.
        if let Some(program) = command.first_mut()
            && let Some(own) = program.strip_prefix("./")
        {
            *program = format!("{}/{own}", fairtrial_sandbox::WORK);
        }
        command
    }

    fn env(&self) -> BTreeMap<String, String> {
        let fixed = [
            ("PATH", "/usr/local/bin:/usr/bin:/bin"),
            ("HOME", fairtrial_sandbox::WORK),
            ("TMPDIR", "/tmp"),
            ("LANG", "C.UTF-8"),
            ("LC_ALL", "C.UTF-8"),
            ("TZ", "UTC"),
            ("PYTHONHASHSEED", "0"),
            ("PYTHONIOENCODING", "utf-8"),
        ];
        let mut env: BTreeMap<String, String> = fixed
            .iter()
            .map(|(key, value)| ((*key).to_owned(), (*value).to_owned()))
            .collect();
        env.extend(self.recipe.env.clone());
        env
    }

    /// Why a run that did not do what it should have done failed: a limit, memory, or a crash.
    pub fn reason(&self, outcome: &Outcome) -> FailReason {
        match outcome.limit {
            Some(LimitHit::Wall | LimitHit::Cpu) => FailReason::TimedOut,
            Some(LimitHit::Memory) => FailReason::OutOfMemory,
            Some(LimitHit::Output) => FailReason::TooMuchOutput,
            Some(LimitHit::Stopped) | None => {
                let stderr = String::from_utf8_lossy(&outcome.stderr.bytes);
                if self
                    .recipe
                    .memory_errors
                    .iter()
                    .any(|mark| stderr.contains(mark))
                {
                    FailReason::OutOfMemory
                } else {
                    FailReason::Crashed
                }
            }
        }
    }

    /// How a run ended, in words that hold nothing sealed.
    pub fn ended(&self, outcome: &Outcome) -> String {
        let seconds = |time: Duration| format!("{:.2} s", time.as_secs_f64());
        match (outcome.limit, outcome.ending) {
            (Some(LimitHit::Cpu), _) => {
                format!(
                    "used more than {} of processor time",
                    seconds(self.limits.time)
                )
            }
            (Some(LimitHit::Wall), _) => {
                format!("took more than {}", seconds(self.limits.time * 2))
            }
            (Some(LimitHit::Memory), _) => format!(
                "used more than {} MiB of memory",
                self.limits.memory.0 >> 20
            ),
            (Some(LimitHit::Output), _) => format!(
                "wrote {} bytes, more than {}",
                outcome.stdout.total + outcome.stderr.total,
                self.limits.output.0
            ),
            (_, Ending::Exited(status)) => format!("ended with status {status}"),
            (_, Ending::Signalled(signal)) => format!("ended by {}", signal_name(signal)),
        }
    }
}

fn signal_name(signal: i32) -> String {
    let name = match signal {
        4 => "SIGILL",
        6 => "SIGABRT",
        7 => "SIGBUS",
        8 => "SIGFPE",
        9 => "SIGKILL",
        11 => "SIGSEGV",
        13 => "SIGPIPE",
        15 => "SIGTERM",
        24 => "SIGXCPU",
        25 => "SIGXFSZ",
        31 => "SIGSYS",
        other => return format!("signal {other}"),
    };
    format!("signal {signal} ({name})")
}

/// Every sealed test, failed for one reason without being run.
pub(crate) fn nothing_run(task: &Task, reason: FailReason, message: Option<String>) -> Judgement {
    let not_run = |(name, points): (&String, f64)| TestOutcome {
        name: name.clone(),
        visible: false,
        failed: Some(reason),
        summary: "not run".to_owned(),
        input: String::new(),
        expected: String::new(),
        found: String::new(),
        points,
        usage: None,
    };
    let tests = match &task.proceedings {
        Proceedings::Call { sealed, .. } => sealed
            .iter()
            .map(|it| (&it.name, it.points))
            .map(not_run)
            .collect(),
        Proceedings::Program { sealed, .. } => sealed
            .iter()
            .map(|it| (&it.name, it.points))
            .map(not_run)
            .collect(),
    };
    Judgement {
        verdict: Verdict::Fail(reason),
        tests,
        message,
        notes: Vec::new(),
    }
}

/// What a run used.
pub(crate) fn usage(outcome: &Outcome) -> Usage {
    Usage {
        wall_seconds: outcome.wall.as_secs_f64(),
        cpu_seconds: outcome.cpu.as_secs_f64(),
        peak_memory: outcome.peak_memory,
    }
}

/// Puts the outcomes of tests together: the reason is that of the first sealed test that failed.
pub(crate) fn settle(tests: Vec<TestOutcome>, message: Option<String>) -> Judgement {
    let failed = tests
        .iter()
        .filter(|test| !test.visible)
        .find_map(|test| test.failed);
    let verdict = failed.map_or(Verdict::Pass, Verdict::Fail);
    Judgement {
        verdict,
        tests,
        message,
        notes: Vec::new(),
    }
}

/// Whether the visible examples are wanted: something sealed failed.
pub(crate) fn any_failed(tests: &[TestOutcome]) -> bool {
    tests.iter().any(|test| test.failed.is_some())
}
