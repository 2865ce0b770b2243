//! The empty network namespace of a run.
//!
//! Making one takes as long as all else together, and the kernel makes and clears away one at a time.
//! So the runs of one session, which follow each other, share one: a run finds it when every process
//! of the one before is dead, and with it every socket. Nothing in it was ever up. Another session
//! never sees it.

use std::cell::Cell;
use std::fs::File;
use std::os::fd::{AsFd as _, OwnedFd};

use nix::sched::{CloneFlags, setns, unshare};
use nix::sys::socket::{AddressFamily, SockFlag, SockType, socketpair};

use crate::wire;

/// The zygote's network namespace, in which its supervisors are born, and whose session it is.
#[derive(Debug)]
pub struct Network {
    session: Cell<u64>,
    /// On which supervisors hand over the one that they made.
    zygote: OwnedFd,
    supervisor: OwnedFd,
}

impl Network {
    pub fn new() -> Result<Self, String> {
        let flags = SockFlag::SOCK_CLOEXEC | SockFlag::SOCK_NONBLOCK;
        let (zygote, supervisor) =
            socketpair(AddressFamily::Unix, SockType::SeqPacket, None, flags)
                .map_err(|error| format!("socket pair: {error}"))?;
        Ok(Self { session: Cell::new(0), zygote, supervisor })
    }

    /// Makes sure that the calling supervisor is in a namespace that no other session has seen.
    pub fn enter(&self, session: u64) -> Result<(), String> {
        if session != 0 && session == self.session.get() {
            return Ok(());
        }
        unshare(CloneFlags::CLONE_NEWNET).map_err(|error| format!("network namespace: {error}"))?;
        if session != 0 {
            let own = File::open("/proc/self/ns/net")
                .map_err(|error| format!("own network namespace: {error}"))?;
            // Without it the next run makes one of its own.
            let _ = wire::send(self.supervisor.as_fd(), &session, &[own.as_fd()]);
        }
        Ok(())
    }

    /// Takes over what the last supervisor made, for the next. The zygote calls this when the supervisor is
    /// gone.
    pub fn take_over(&self) {
        while let Ok(Some((session, fds))) = wire::receive::<u64>(self.zygote.as_fd()) {
            let entered = fds.first().map(|fd| setns(fd, CloneFlags::CLONE_NEWNET));
            self.session.set(if entered == Some(Ok(())) { session } else { 0 });
        }
    }
}
