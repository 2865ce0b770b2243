//! The stage: what happens between the tool and the program under trial.
//!
//! Everything here runs in processes of one thread that our own program was started again as. They
//! have an empty environment and no descriptors but the socket to the tool and what came over it.

mod fence;
mod filter;
mod identity;
mod program;
mod root;
mod warden;

use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::process::ExitCode;

use nix::sys::wait::waitpid;
use nix::unistd::{ForkResult, fork};

pub use root::is_system;

use crate::archive::Archive;
use crate::job::Collect;
use crate::wire::{self, Report, Spec};

/// The name under which our program is started again.
pub(crate) const STAGE: &str = "fairtrial-stage";

/// Whether this process was started as the stage: then `main` must do nothing but call
/// [`stage_main`].
#[must_use]
pub fn is_stage() -> bool {
    std::env::args_os().next().is_some_and(|name| name == STAGE)
}

/// The descriptors of a run, as the stage got them.
pub(crate) struct Handed {
    pub stdin: OwnedFd,
    pub stdout: OwnedFd,
    pub stderr: OwnedFd,
    pub channel: Option<OwnedFd>,
    pub collected: Option<Archive>,
    pub driver: Option<Archive>,
    pub layers: Vec<Archive>,
}

/// Does the stage's work. The exit status says only whether a report was sent.
#[must_use]
pub fn stage_main() -> ExitCode {
    let stdin = std::io::stdin();
    let control = stdin.as_fd();
    match stage(control) {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            let sent = wire::send(control, &Report::SetUpFailed(why), &[]);
            if sent.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
        }
    }
}

fn stage(control: BorrowedFd<'_>) -> Result<(), String> {
    identity::die_with_parent();
    let received = wire::receive::<Spec>(control).map_err(|error| error.to_string())?;
    // Without a message the tool is gone, and nobody is there to be told.
    let Some((spec, fds)) = received else {
        return Ok(());
    };
    let handed = sort_out(&spec, fds).ok_or("too few descriptors came with the order")?;
    let identity = identity::enter_namespaces()?;
    // SAFETY: this process has one thread.
    match unsafe { fork() }.map_err(|error| format!("fork: {error}"))? {
        ForkResult::Child => {
            let report =
                warden::serve(control, &spec, handed, identity).unwrap_or_else(Report::SetUpFailed);
            let _ = wire::send(control, &report, &[]);
            // SAFETY: ends the process; nothing of the stage's is to be run again here.
            unsafe { libc::_exit(0) }
        }
        ForkResult::Parent { child } => {
            drop(handed);
            let _ = waitpid(child, None);
            Ok(())
        }
    }
}

fn sort_out(spec: &Spec, fds: Vec<OwnedFd>) -> Option<Handed> {
    let mut fds = fds.into_iter();
    let handed = Handed {
        stdin: fds.next()?,
        stdout: fds.next()?,
        stderr: fds.next()?,
        channel: if spec.channel { Some(fds.next()?) } else { None },
        collected: match spec.collect {
            Collect::Nothing => None,
            _ => Some(Archive::from_fd(fds.next()?)),
        },
        driver: if spec.driver { Some(Archive::from_fd(fds.next()?)) } else { None },
        layers: fds.map(Archive::from_fd).collect(),
    };
    Some(handed)
}
