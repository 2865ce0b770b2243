//! All that the runs of one judgement have in common: tools, limits, surroundings.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use fairtrial_core::language::{Dialect, LanguageDefinition, fill};
use fairtrial_core::limits::{Limits, wall_of};
use fairtrial_core::task::Task;
use fairtrial_core::tree::{FileTree, RelPath, Snapshot};
use fairtrial_core::verdict::FailReason;
use fairtrial_sandbox::{
    Archive, Caps, Collect, DRIVER, Ending, Job, LimitHit, Outcome, Reach, Sandbox, SandboxError,
};

use crate::doubts::Doubts;
use crate::outcome::SealedTest;
use crate::shared::Shared;
use crate::tools::{Tool, ToolMissing};

/// Processes and threads of a build, where runs may not have more.
const BUILD_PROCESSES: u32 = 128;

/// Bytes that a build may print.
const BUILD_OUTPUT: u64 = 1 << 20;

/// Whether a file parses.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Parsed {
    /// It does, or does not.
    Told(bool),
    /// It took too much to find out.
    Untold,
    /// The language has no command that says so.
    NoCommand,
}

/// Our own part of judging failed: says nothing about the candidate.
#[derive(Debug, thiserror::Error)]
pub enum JudgeError {
    /// The sandbox could not do its part.
    #[error(transparent)]
    Sandbox(#[from] SandboxError),
    /// Something that the task needs besides its language is not on this machine.
    #[error("{0}")]
    ToolMissing(ToolMissing),
    /// The task does not hold on this machine.
    #[error("{0}")]
    Unfit(String),
}

impl JudgeError {
    /// Why the answer fails, where it is to blame: its program ran, or was to run, and nothing else was
    /// there. With what may be reported to the candidate.
    pub fn of_the_answer(&self) -> Option<(FailReason, Option<String>)> {
        let Self::Sandbox(error) = self else { return None };
        match error {
            // It was built, but into something that is no program.
            SandboxError::Exec { program, why }
                if Path::new(program).starts_with(fairtrial_sandbox::WORK) =>
            {
                let message = format!("what was built cannot be started: {why}");
                Some((FailReason::DidNotBuild, Some(message)))
            }
            SandboxError::Files(why) => {
                let message = format!("its files cannot be written: {why}");
                Some((FailReason::DidNotBuild, Some(message)))
            }
            SandboxError::Lost => Some((FailReason::Crashed, None)),
            SandboxError::Collect(_) => Some((FailReason::TooMuchOutput, None)),
            _ => None,
        }
    }
}

impl From<fairtrial_sandbox::ArchiveError> for JudgeError {
    fn from(error: fairtrial_sandbox::ArchiveError) -> Self {
        Self::Sandbox(error.into())
    }
}

/// All that the runs of one judgement have in common.
#[derive(Clone, Copy)]
pub struct JudgeContext<'a> {
    pub shared: &'a Shared,
    pub task: &'a Task,
    /// The task's sealed tests.
    pub sealed: &'a [SealedTest],
    /// The language that is run: the task's, or its checker's.
    pub language: &'a str,
    pub definition: &'a LanguageDefinition,
    pub tool: &'a Tool,
    pub limits: Limits,
    /// What the runs of one judgement have in common.
    pub session: u64,
    pub doubts: &'a Doubts,
}

/// A number that no other judgement of this process has.
pub fn new_session() -> u64 {
    static NEXT: AtomicU64 = AtomicU64::new(1);
    NEXT.fetch_add(1, Ordering::Relaxed)
}

impl<'a> JudgeContext<'a> {
    /// What a run may use.
    pub fn caps(&self) -> Caps {
        Caps {
            wall: self.limits.wall(),
            cpu: self.limits.time,
            memory: self.limits.memory.0,
            processes: self.limits.processes,
            output: self.limits.output.0,
            disk: self.limits.disk.0,
        }
    }

    /// What a command of a build may use. A compiler is not under trial, but what it is fed is.
    pub fn build_caps(&self) -> Caps {
        Caps {
            wall: wall_of(self.limits.build_time),
            cpu: self.limits.build_time,
            memory: self.limits.build_memory.0,
            processes: self.limits.processes.max(BUILD_PROCESSES),
            output: BUILD_OUTPUT,
            disk: self.limits.build_disk.0,
        }
    }

    /// The sandbox.
    pub fn sandbox(&self) -> &'a Sandbox {
        &self.shared.sandbox
    }

    /// The same for a program of the task's own in another language, such as a checker.
    ///
    /// # Errors
    /// When the tool of that language is missing.
    pub fn in_language(&self, language: &'a str) -> Result<Self, ToolMissing> {
        let definition = self.shared.definition(language)?;
        let tool = self.shared.tools.get(language)?;
        let (limits, session) = (Limits::default(), new_session());
        let doubts = &self.shared.checkers_doubts;
        Ok(Self { language, definition, tool, limits, session, doubts, ..*self })
    }

    /// A command of the definition as a job, about `file`.
    pub fn job<'l>(
        &self,
        command: &[String],
        file: &RelPath,
        caps: Caps,
        layers: Vec<&'l Archive>,
    ) -> Job<'l> {
        Job {
            command: self.command(command, file, caps.memory),
            env: self.env(),
            stdin: Vec::new(),
            layers,
            driver: None,
            sealed: None,
            show: self.tool.folders.clone(),
            channel: false,
            links: Vec::new(),
            terminals: false,
            collect: Collect::Nothing,
            session: self.session,
            network: Reach::Nothing,
            tree: None,
            home: None,
            caps,
        }
    }

    /// Whether a file parses.
    ///
    /// # Errors
    /// When our own part goes wrong.
    pub fn parses(&self, file: &RelPath, files: &Snapshot) -> Result<Parsed, JudgeError> {
        if self.definition.parse.is_empty() {
            return Ok(Parsed::NoCommand);
        }
        let before = self.definition.parse_before.as_bytes();
        let layer = match files.file(file.as_str()) {
            Some(code) if !before.is_empty() => {
                let mut files = files.clone();
                files.put_files(&FileTree::from([(file.clone(), [before, code].concat())]));
                Archive::of_snapshot(&files)?
            }
            _ => Archive::of_snapshot(files)?,
        };
        let job = self.job(&self.definition.parse, file, self.build_caps(), vec![&layer]);
        let outcome = self.sandbox().run(&job)?;
        Ok(match outcome.limit {
            Some(LimitHit::Output) => Parsed::Told(false),
            Some(_) => Parsed::Untold,
            None => Parsed::Told(outcome.ending == Ending::Exited(0)),
        })
    }

    /// A command of the definition, about a file.
    pub fn command(&self, command: &[String], file: &RelPath, memory: u64) -> Vec<String> {
        self.command_with(command, file, memory, self.driver_name())
    }

    /// The same with another driver in the place of the language's.
    pub fn command_with(
        &self,
        command: &[String],
        file: &RelPath,
        memory: u64,
        driver: &str,
    ) -> Vec<String> {
        let text = |path: &PathBuf| path.to_string_lossy().into_owned();
        let heap = (memory * 3 / 4) >> 20;
        let mut values = vec![
            ("tool".to_owned(), text(&self.tool.program)),
            ("file".to_owned(), file.as_str().to_owned()),
            ("stem".to_owned(), file.stem().to_owned()),
            ("drivers".to_owned(), DRIVER.to_owned()),
            ("driver".to_owned(), format!("{DRIVER}/{driver}")),
            ("heap_mib".to_owned(), heap.max(16).to_string()),
        ];
        values.extend(self.tool.also.iter().map(|(name, path)| (name.clone(), text(path))));
        let values: Vec<_> = values.iter().map(|(a, b)| (a.as_str(), b.as_str())).collect();
        let mut command = fill(command, &values);
        // `exec` looks for nothing: a program of the work folder needs its whole path.
        if let Some(program) = command.first_mut()
            && let Some(own) = program.strip_prefix("./")
        {
            *program = format!("{}/{own}", fairtrial_sandbox::WORK);
        }
        command
    }

    /// How values are written in the language.
    pub fn dialect(&self) -> Dialect<'a> {
        self.definition.dialect()
    }

    /// The name of the driver itself, among the files of each of the language's drivers.
    fn driver_name(&self) -> &str {
        let drivers = &self.definition.drivers;
        let first = [&drivers.call, &drivers.program, &drivers.tests];
        first.into_iter().find_map(|set| set.keys().next()).map_or("", String::as_str)
    }

    /// The file that a driver of calls loads.
    pub fn call_file(&self, file: &RelPath) -> String {
        match self.definition.call_file.as_str() {
            "" => file.as_str().to_owned(),
            given => given.replace("{stem}", file.stem()),
        }
    }

    /// The environment of every program.
    pub fn env(&self) -> BTreeMap<String, String> {
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
        let mut env: BTreeMap<String, String> =
            fixed.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect();
        env.extend(self.definition.env.clone());
        if !self.task.packages.is_empty() {
            env.insert("FAIRTRIAL_PACKAGES".to_owned(), self.task.packages.join(","));
        }
        env
    }

    /// Where programs are looked for: in `first`, among the language's tools, in the system's folders.
    pub fn search_path(&self, first: &[PathBuf]) -> String {
        let tools = [&self.tool.program].into_iter().chain(self.tool.also.values());
        let tools = tools.filter_map(|it| it.parent());
        let mut places: Vec<String> = Vec::new();
        for place in first.iter().map(PathBuf::as_path).chain(tools) {
            let place = place.to_string_lossy().into_owned();
            if !places.contains(&place) {
                places.push(place);
            }
        }
        places.extend(self.env().remove("PATH"));
        places.join(":")
    }

    /// Why a run that did not do what it should have done failed: a limit, memory, or a crash.
    pub fn reason(&self, outcome: &Outcome) -> FailReason {
        match outcome.limit {
            Some(LimitHit::Wall | LimitHit::Cpu) => {
                self.doubts.note(outcome, self.limits.time);
                FailReason::TimedOut
            }
            Some(LimitHit::Memory) => FailReason::OutOfMemory,
            Some(LimitHit::Output | LimitHit::Disk) => FailReason::TooMuchOutput,
            Some(LimitHit::Processes | LimitHit::Stopped) | None => {
                let stderr = String::from_utf8_lossy(&outcome.stderr.bytes);
                if self.definition.memory_errors.iter().any(|mark| stderr.contains(mark)) {
                    FailReason::OutOfMemory
                } else {
                    FailReason::Crashed
                }
            }
        }
    }

    /// How a run ended, in words that reveal nothing sealed.
    pub fn ended(&self, outcome: &Outcome) -> String {
        self.ended_within(outcome, self.limits.time)
    }

    /// As [`Self::ended`], of a run with a limit of processor time of its own.
    pub fn ended_within(&self, outcome: &Outcome, time: Duration) -> String {
        let seconds = |time: Duration| format!("{:.2} s", time.as_secs_f64());
        match (outcome.limit, outcome.ending) {
            (Some(LimitHit::Cpu), _) => {
                format!("used more than {} of processor time", seconds(time))
            }
            (Some(LimitHit::Wall), _) => {
                format!("took more than {}", seconds(wall_of(time)))
            }
            (Some(LimitHit::Processes), _) => {
                format!("had more than {} processes and threads", self.limits.processes)
            }
            (Some(LimitHit::Memory), _) => {
                format!("used more than {} MiB of memory", self.limits.memory.0 >> 20)
            }
            (Some(LimitHit::Disk), _) => {
                format!("wrote more than {} MiB of files", self.limits.disk.0 >> 20)
            }
            (Some(LimitHit::Output), _) => {
                format!("wrote {} bytes, more than {}", outcome.last_out(), self.limits.output.0)
            }
            (_, Ending::Exited(status)) => format!("ended with status {status}"),
            (_, Ending::Signalled(signal)) => format!("ended by {}", signal_name(signal)),
        }
    }
}

/// A signal by number and name.
pub fn signal_name(signal: i32) -> String {
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
        34.. => return format!("signal {signal} (real-time)"),
        other => return format!("signal {other}"),
    };
    format!("signal {signal} ({name})")
}
