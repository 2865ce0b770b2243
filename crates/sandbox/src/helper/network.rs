//! The empty network namespace of a run.
//!
//! Making one takes as long as all else together, and the kernel makes and clears away one at a time.
//! So the runs of one session, which follow each other, share one: a run finds it when every process
//! of the one before is dead, and with it every socket. Nothing in it was ever up, unless the tool itself
//! listens there: then it is that run's alone. Another session never sees it.

use std::cell::Cell;
use std::fs::File;
use std::net::{Ipv4Addr, TcpListener};
use std::os::fd::{AsFd as _, AsRawFd as _, OwnedFd};

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

/// Takes the loopback device of this process's own network up.
pub fn take_loopback_up() -> Result<(), String> {
    let failed = |error: std::io::Error| format!("the loopback device: {error}");
    let control = nix::sys::socket::socket(
        AddressFamily::Inet,
        SockType::Datagram,
        SockFlag::SOCK_CLOEXEC,
        None,
    );
    let control = control.map_err(|error| failed(error.into()))?;
    // SAFETY: all of its fields are numbers, for which zero is a value.
    let mut request: libc::ifreq = unsafe { std::mem::zeroed() };
    for (to, from) in request.ifr_name.iter_mut().zip(*b"lo") {
        *to = from as libc::c_char;
    }
    request.ifr_ifru.ifru_flags = libc::IFF_UP as libc::c_short;
    // SAFETY: the request is the structure that this call reads (netdevice(7)).
    if unsafe { libc::ioctl(control.as_raw_fd(), libc::SIOCSIFFLAGS, &raw const request) } != 0 {
        return Err(failed(std::io::Error::last_os_error()));
    }
    Ok(())
}

/// Listens at a port of this process's own network.
pub fn listen(port: u16) -> Result<OwnedFd, String> {
    let failed = |error: std::io::Error| format!("listening at port {port}: {error}");
    TcpListener::bind((Ipv4Addr::LOCALHOST, port)).map(OwnedFd::from).map_err(failed)
}
