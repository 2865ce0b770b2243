//! The last steps before the program under trial: in its own process, just before `exec`.

use std::convert::Infallible;
use std::ffi::CString;
use std::os::fd::AsRawFd as _;

use nix::sys::resource::{Resource, setrlimit};
use nix::sys::signal::{SigSet, SigmaskHow, sigprocmask};
use nix::unistd::{execve, setsid};

use super::identity::{Identity, confine_user};
use super::{Handed, fence, filter};
use crate::job::WORK;
use crate::wire::Spec;

/// Open files at one time.
const OPEN_FILES: u64 = 512;

/// The largest stack of a process, in bytes: deep recursion is honest.
const STACK: u64 = 64 << 20;

/// Why the program did not come to be.
pub enum Failed {
    /// A layer could not be made.
    SetUp(String),
    /// The kernel did not start it.
    Exec(String),
}

/// Becomes the program. Comes back only when that fails.
pub fn become_program(spec: &Spec, handed: &Handed, identity: Identity) -> Failed {
    match try_become(spec, handed, identity) {
        Err(failed) => failed,
        Ok(never) => match never {},
    }
}

fn try_become(spec: &Spec, handed: &Handed, identity: Identity) -> Result<Infallible, Failed> {
    let set_up = |what: &str, error: nix::Error| Failed::SetUp(format!("{what}: {error}"));
    setsid().map_err(|error| set_up("session", error))?;
    leave_keyring();
    confine_user(identity).map_err(Failed::SetUp)?;
    limit(spec).map_err(|error| set_up("resource limits", error))?;
    std::env::set_current_dir(WORK).map_err(|error| Failed::SetUp(error.to_string()))?;
    let c_string = |text: &str| {
        CString::new(text).map_err(|_| Failed::Exec("an argument holds a NUL byte".to_owned()))
    };
    let command: Vec<CString> =
        spec.command.iter().map(|it| c_string(it)).collect::<Result<_, _>>()?;
    let env = spec.env.iter().map(|(key, value)| c_string(&format!("{key}={value}")));
    let env: Vec<CString> = env.collect::<Result<_, _>>()?;
    let Some(program) = command.first() else {
        return Err(Failed::Exec("there is no program to run".to_owned()));
    };
    lay_descriptors(handed).map_err(|error| set_up("descriptors", error))?;
    sigprocmask(SigmaskHow::SIG_SETMASK, Some(&SigSet::empty()), None)
        .map_err(|error| set_up("signal mask", error))?;
    fence::install().map_err(Failed::SetUp)?;
    filter::install().map_err(|error| Failed::SetUp(format!("system-call filter: {error}")))?;
    execve(program, &command, &env).map_err(|error| Failed::Exec(error.desc().to_owned()))
}

/// Standard streams at 0 to 2, the channel at 3, and everything else closed at `exec`.
fn lay_descriptors(handed: &Handed) -> nix::Result<()> {
    let streams =
        [Some(&handed.stdin), Some(&handed.stdout), Some(&handed.stderr), handed.channel.as_ref()];
    // Lifted first, so that none is overwritten by another. The pipe that tells of failure was
    // opened after all of these, and so stands above 3.
    let lifted = streams.iter().flatten().map(|fd| {
        // SAFETY: a plain call on a descriptor that is open.
        let raw = unsafe { libc::fcntl(fd.as_raw_fd(), libc::F_DUPFD_CLOEXEC, 16) };
        nix::errno::Errno::result(raw)
    });
    let lifted: Vec<i32> = lifted.collect::<nix::Result<_>>()?;
    for (target, source) in lifted.iter().enumerate() {
        // SAFETY: `dup2` onto a number below 4; what stood there is ours and no longer needed.
        nix::errno::Errno::result(unsafe { libc::dup2(*source, target as i32) })?;
    }
    let first = lifted.len() as u32;
    // SAFETY: only marks descriptors to be closed at `exec`; the way to tell of failure stays.
    let marked =
        unsafe { libc::syscall(libc::SYS_close_range, first, u32::MAX, libc::CLOSE_RANGE_CLOEXEC) };
    nix::errno::Errno::result(marked)?;
    Ok(())
}

/// Gives up the caller's session keyring for an empty one: what is in it can be read by whoever
/// inherits it. A kernel without keyrings has nothing to give up.
fn leave_keyring() {
    const JOIN_SESSION_KEYRING: libc::c_long = 1;
    // SAFETY: a plain call; a null name asks for a new keyring.
    unsafe { libc::syscall(libc::SYS_keyctl, JOIN_SESSION_KEYRING, 0_usize) };
}

fn limit(spec: &Spec) -> nix::Result<()> {
    let caps = &spec.caps;
    let set = |resource, value: u64| setrlimit(resource, value, value);
    set(Resource::RLIMIT_CORE, 0)?;
    set(Resource::RLIMIT_NOFILE, OPEN_FILES)?;
    set(Resource::RLIMIT_FSIZE, caps.disk)?;
    set(Resource::RLIMIT_NPROC, u64::from(caps.processes))?;
    set(Resource::RLIMIT_STACK, STACK)?;
    set(Resource::RLIMIT_MEMLOCK, 0)?;
    // Whole seconds, as a backstop to what the warden measures. Laps are told to the warden alone,
    // so a program with a channel has no limit here.
    if !spec.channel {
        let cpu = caps.cpu.as_secs() + 2;
        setrlimit(Resource::RLIMIT_CPU, cpu, cpu + 1)?;
    }
    Ok(())
}
