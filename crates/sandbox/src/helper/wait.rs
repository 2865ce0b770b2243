//! Waiting for processes (waitid(2)), by whatever they ended.

use std::mem::MaybeUninit;

use nix::unistd::Pid;

use crate::job::Ending;

/// What was found of this process's children.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Waited {
    /// One has ended, and is no more.
    Ended(Pid, Ending),
    /// There are some, and none has ended.
    Alive,
    /// There are none.
    NoChild,
}

/// Takes note of one child that has ended, without waiting for one.
///
/// The kernel's own words are read: a signal is a number here, since not every number that a
/// program can send itself has a name in the C library (signal(7), real-time signals).
pub fn ended_child() -> Waited {
    wait(libc::P_ALL, 0, libc::WNOHANG)
}

/// Waits for one child to end.
pub fn for_child(pid: Pid) -> Waited {
    wait(libc::P_PID, pid.as_raw().unsigned_abs(), 0)
}

fn wait(whose: libc::idtype_t, id: libc::id_t, more: i32) -> Waited {
    loop {
        let mut info = MaybeUninit::<libc::siginfo_t>::zeroed();
        // SAFETY: the kernel fills in the structure that is pointed to, which is ours.
        let done = unsafe {
            libc::waitid(whose, id, info.as_mut_ptr(), libc::WEXITED | libc::__WALL | more)
        };
        if done != 0 {
            match nix::errno::Errno::last() {
                nix::errno::Errno::EINTR => continue,
                _ => return Waited::NoChild,
            }
        }
        // SAFETY: all zeroes are a value of it; without a child that ended, they stay.
        let info = unsafe { info.assume_init() };
        // SAFETY: these are there for every structure that `waitid` fills in.
        let (pid, status) = unsafe { (info.si_pid(), info.si_status()) };
        return match (pid, info.si_code) {
            (0, _) => Waited::Alive,
            (pid, libc::CLD_EXITED) => Waited::Ended(Pid::from_raw(pid), Ending::Exited(status)),
            (pid, _) => Waited::Ended(Pid::from_raw(pid), Ending::Signalled(status)),
        };
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::process::CommandExt as _;
    use std::process::Command;

    use super::*;

    /// How a shell that does this ends. Waits for that child alone, since tests share a process.
    #[expect(clippy::zombie_processes, reason = "it is waited for by what is tested")]
    fn end_of(script: &str) -> Waited {
        let child = Command::new("/bin/sh").args(["-c", script]).process_group(0).spawn().unwrap();
        for_child(Pid::from_raw(child.id() as i32))
    }

    #[test]
    fn every_signal_and_every_status_is_an_ending() {
        for status in [0, 1, 127, 255] {
            let ended = end_of(&format!("exit {status}"));
            assert!(matches!(ended, Waited::Ended(_, Ending::Exited(it)) if it == status));
        }
        // Those that stop, those that are ignored, and two that the C library keeps for itself.
        let others = [17, 18, 19, 20, 21, 22, 23, 28, 32, 33];
        // What whoever runs the tests ignores is ignored by the shell, too.
        let status = std::fs::read_to_string("/proc/self/status").unwrap();
        let ignored = status.lines().find_map(|it| it.strip_prefix("SigIgn:")).unwrap();
        let ignored = u64::from_str_radix(ignored.trim(), 16).unwrap();
        let is_ignored = |signal: i32| signal != 13 && ignored >> (signal - 1) & 1 == 1;
        for signal in (1..=64).filter(|it| !others.contains(it) && !is_ignored(*it)) {
            let ended = end_of(&format!("ulimit -c 0; kill -{signal} $$; exit 99"));
            assert!(
                matches!(ended, Waited::Ended(_, Ending::Signalled(it)) if it == signal),
                "{signal}: {ended:?}"
            );
        }
    }

    #[test]
    fn a_process_that_is_none_of_ours_is_no_child() {
        assert_eq!(for_child(Pid::from_raw(1)), Waited::NoChild);
    }
}
