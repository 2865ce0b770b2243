//! What stands between the tool and a program that asks for it: our own program, started again, so that the program
//! and all that it starts end with the tool, however that ends.

use std::ffi::OsString;
use std::os::unix::process::ExitStatusExt as _;
use std::path::Path;
use std::process::{Command, ExitCode, ExitStatus};

use nix::sys::prctl::set_pdeathsig;
use nix::sys::signal::{SigSet, SigmaskHow, Signal, killpg, raise, sigprocmask};
use nix::unistd::{Pid, getpgrp, getppid};

/// The name under which our program is started again.
const LEASH: &str = "fairtrial-leash";

/// What it ends with where the program cannot be started, as shells have it.
const NOT_STARTED: u8 = 127;

/// A command that runs a program with arguments under a leash. It is to have a process group of its own: the group ends
/// with this process.
pub(crate) fn leashed(program: &Path, arguments: &[String]) -> tokio::process::Command {
    let mut command = tokio::process::Command::new("/proc/self/exe");
    command.arg0(LEASH).arg(std::process::id().to_string()).arg(program).args(arguments);
    command.process_group(0);
    command
}

/// Ends a process group when it is dropped.
pub(crate) struct ProcessGroup(Option<Pid>);

impl ProcessGroup {
    /// That of its first process.
    pub(crate) fn of(leader: Option<u32>) -> Self {
        Self(leader.and_then(|it| i32::try_from(it).ok()).map(Pid::from_raw))
    }
}

impl Drop for ProcessGroup {
    fn drop(&mut self) {
        if let Some(group) = self.0 {
            // It may have ended by itself.
            let _ = killpg(group, Signal::SIGKILL);
        }
    }
}

/// Whether this process was started as the leash: then `main` must do nothing but call [`leash_main`].
#[must_use]
pub fn is_leash() -> bool {
    std::env::args_os().next().is_some_and(|it| it == LEASH)
}

/// Runs the program, and ends as it did. Ends the whole process group when the tool is gone.
#[must_use]
pub fn leash_main() -> ExitCode {
    let mut args = std::env::args_os().skip(1);
    let (tool, program) = (args.next(), args.next());
    let tool = tool.as_ref().and_then(|it| it.to_str()?.parse().ok());
    let (Some(tool), Some(program)) = (tool, program) else { return ExitCode::from(NOT_STARTED) };
    match run(Pid::from_raw(tool), &program, args) {
        Ok(status) => ended_as(status),
        Err(error) => {
            eprintln!("failed to start `{}`: {error}", program.display());
            ExitCode::from(NOT_STARTED)
        }
    }
}

fn run(
    tool: Pid,
    program: &OsString,
    args: impl Iterator<Item = OsString>,
) -> std::io::Result<ExitStatus> {
    let mut awaited = SigSet::empty();
    awaited.add(Signal::SIGTERM);
    awaited.add(Signal::SIGCHLD);
    // Programs start with nothing blocked: the standard library sees to that.
    awaited.thread_block()?;
    set_pdeathsig(Signal::SIGTERM)?;
    if getppid() != tool {
        end_group();
    }
    let mut child = Command::new(program).args(args).spawn()?;
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(status);
        }
        if awaited.wait()? == Signal::SIGTERM {
            end_group();
        }
    }
}

/// Ends this process, too.
fn end_group() {
    let _ = killpg(getpgrp(), Signal::SIGKILL);
}

fn ended_as(status: ExitStatus) -> ExitCode {
    if let Some(signal) = status.signal().and_then(|it| Signal::try_from(it).ok()) {
        let _ = sigprocmask(SigmaskHow::SIG_SETMASK, Some(&SigSet::empty()), None);
        let _ = raise(signal);
    }
    ExitCode::from(status.code().and_then(|it| u8::try_from(it).ok()).unwrap_or(u8::MAX))
}
