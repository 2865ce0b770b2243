//! Answers the kernel for the system-call filter, and so knows what was tried (seccomp_unotify(2)).
//!
//! The answer is a refusal, whatever the arguments, so nothing that a program does with its memory
//! while the supervisor reads can talk it into anything.

use std::collections::BTreeMap;
use std::os::fd::{AsFd, AsRawFd as _, BorrowedFd, OwnedFd};

use super::filter::name_of;

/// Calls that are answered in one go before the supervisor looks at its other duties.
const BATCH: usize = 64;

/// `SECCOMP_IOCTL_NOTIF_RECV` and `SECCOMP_IOCTL_NOTIF_SEND`, `_IOWR('!', 0 and 1, …)` with sizes 80
/// and 24.
const RECEIVE: libc::c_ulong = 0xc050_2100;
const SEND: libc::c_ulong = 0xc018_2101;

/// `struct seccomp_notif`.
#[repr(C)]
#[derive(Default)]
struct Notice {
    id: u64,
    pid: u32,
    flags: u32,
    number: i32,
    arch: u32,
    instruction: u64,
    args: [u64; 6],
}

/// `struct seccomp_notif_resp`.
#[repr(C)]
struct NotifyResponse {
    id: u64,
    value: i64,
    error: i32,
    flags: u32,
}

/// The supervisor's end of the filter.
#[derive(Debug)]
pub struct Listener {
    fd: OwnedFd,
    counts: BTreeMap<String, u64>,
}

impl Listener {
    pub fn new(fd: OwnedFd) -> Self {
        Self { fd, counts: BTreeMap::new() }
    }

    /// Answers what waits to be answered.
    pub fn answer(&mut self) {
        for _ in 0..BATCH {
            let mut fds = [nix::poll::PollFd::new(self.fd.as_fd(), nix::poll::PollFlags::POLLIN)];
            if !matches!(nix::poll::poll(&mut fds, nix::poll::PollTimeout::ZERO), Ok(1..)) {
                return;
            }
            let seen = fds[0].revents().unwrap_or(nix::poll::PollFlags::empty());
            if !seen.contains(nix::poll::PollFlags::POLLIN) {
                return;
            }
            let mut notice = Notice::default();
            let fd = self.fd.as_raw_fd();
            // SAFETY: the structure is zeroed and has the layout and size that the request states.
            if unsafe { libc::ioctl(fd, RECEIVE, &raw mut notice) } != 0 {
                // Whoever asked is dead already.
                continue;
            }
            let name = name_of(notice.number.into()).unwrap_or("other");
            *self.counts.entry(name.to_owned()).or_default() += 1;
            let answer = NotifyResponse { id: notice.id, value: 0, error: -libc::EPERM, flags: 0 };
            // SAFETY: as above; the kernel only reads.
            unsafe { libc::ioctl(fd, SEND, &raw const answer) };
        }
    }

    /// How often each call was refused since this was asked last.
    pub fn take_counts(&mut self) -> BTreeMap<String, u64> {
        std::mem::take(&mut self.counts)
    }
}

impl AsFd for Listener {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.fd.as_fd()
    }
}
