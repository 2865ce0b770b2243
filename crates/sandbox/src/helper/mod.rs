//! The helper: what happens between the tool and the program under trial.
//!
//! Everything here runs in processes of one thread that our own program was started again as. They
//! have an empty environment and no descriptors but the socket to the tool and what came over it.
//! The *zygote* is started once and serves one run after the other; for each it forks a *supervisor*,
//! who starts the program, watches it and reports.

mod collect;
mod failure;
mod filter;
mod group;
mod identity;
mod landlock;
mod listener;
mod mounts;
mod network;
mod processes;
mod program;
mod root;
mod scratch;
mod state;
mod store;
mod subordinate;
mod supervisor;
mod wait;
mod zygote;

use std::os::fd::{AsFd as _, BorrowedFd, FromRawFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::process::ExitCode;

use nix::fcntl::{FcntlArg, fcntl};

pub(crate) use group::MemoryKills;
pub(crate) use identity::tree_owner;
pub use root::is_system;

use crate::archive::Archive;
use crate::job::Collect;
use crate::wire::Spec;

/// The name under which our program is started again.
pub(crate) const HELPER: &str = "fairtrial-helper";

/// The descriptor of the channel, inside.
const CHANNEL: i32 = 3;

/// Whether this process was started as the helper: then `main` must do nothing but call
/// [`helper_main`].
#[must_use]
pub fn is_helper() -> bool {
    std::env::args_os().next().is_some_and(|name| name == HELPER)
}

/// The descriptors of a run, as the zygote got them.
pub(crate) struct RunFds {
    pub control: OwnedFd,
    pub stdin: OwnedFd,
    pub stdout: OwnedFd,
    pub stderr: OwnedFd,
    pub channel: Option<OwnedFd>,
    pub links: Vec<OwnedFd>,
    /// An archive, or a folder of the store.
    pub collected: Option<OwnedFd>,
    pub driver: Option<Archive>,
    pub sealed: Option<Archive>,
    pub home: Option<Archive>,
    pub layers: Vec<Archive>,
}

impl RunFds {
    /// Tells the descriptors of an order apart. `None` when there are too few.
    fn split(spec: &Spec, fds: Vec<OwnedFd>) -> Option<Self> {
        let mut fds = fds.into_iter();
        Some(Self {
            control: fds.next()?,
            stdin: fds.next()?,
            stdout: fds.next()?,
            stderr: fds.next()?,
            channel: if spec.channel { Some(fds.next()?) } else { None },
            links: (0..spec.links).map(|_| fds.next()).collect::<Option<_>>()?,
            collected: match spec.collect {
                Collect::Nothing => None,
                _ => Some(fds.next()?),
            },
            driver: if spec.driver { Some(Archive::from_fd(fds.next()?)) } else { None },
            sealed: if spec.sealed { Some(Archive::from_fd(fds.next()?)) } else { None },
            home: if spec.home { Some(Archive::from_fd(fds.next()?)) } else { None },
            layers: fds.map(Archive::from_fd).collect(),
        })
    }
}

/// Takes the channel of a run ([`Job::channel`](crate::Job::channel)) into the hands of a program of ours that
/// runs inside, so that what it starts has no part in it. To be called once, before anything else is opened.
///
/// # Errors
/// When there is none.
pub fn take_channel() -> std::io::Result<UnixStream> {
    // SAFETY: the descriptor is only looked at; the program that calls this owns it, and nobody else does.
    let channel = unsafe { BorrowedFd::borrow_raw(CHANNEL) };
    let own = fcntl(channel, FcntlArg::F_DUPFD_CLOEXEC(CHANNEL + 1))?;
    // SAFETY: as above; nobody uses it from here on.
    drop(unsafe { OwnedFd::from_raw_fd(CHANNEL) });
    // SAFETY: the kernel has just made it for us alone.
    Ok(UnixStream::from(unsafe { OwnedFd::from_raw_fd(own) }))
}

/// Does the helper's work until the tool is gone.
#[must_use]
pub fn helper_main() -> ExitCode {
    let socket = std::io::stdin();
    match zygote::run(socket.as_fd()) {
        Ok(()) => ExitCode::SUCCESS,
        // Nobody is there to report to.
        Err(_) => ExitCode::FAILURE,
    }
}
