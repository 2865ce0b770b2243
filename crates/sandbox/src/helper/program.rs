//! The last steps before the program under trial: in its own process, just before `exec`.

use std::convert::Infallible;
use std::ffi::CString;
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use nix::fcntl::{FcntlArg, fcntl};
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use nix::sys::signal::{SigSet, SigmaskHow, sigprocmask};
use nix::unistd::{execve, setsid};

use super::identity::{confine_user, die_with_parent, drop_admin_rights};
use super::state::SandboxState;
use super::{RunFds, filter, landlock};
use crate::tier::Tier;
use crate::wire::{self, Spec};

/// Open files at one time.
const OPEN_FILES: u64 = 512;

/// Processes that a run may have for a moment above its limit, where the supervisor holds that: so many
/// that a program that makes them without end is seen before the kernel refuses it one.
const ROOM: u64 = 1024;

/// Processes that others of the same user may start while a program runs.
const ROOM_FOR_OTHERS: u64 = 512;

/// Signals that wait to be taken, of all processes of a run.
const PENDING_SIGNALS: u64 = 4096;

/// The stack of a process, in bytes: deep recursion is honest.
const STACK: u64 = 64 << 20;

/// Why the program did not come to be.
pub enum Failed {
    /// A layer could not be made.
    SetUp(String),
    /// The kernel did not start it.
    Exec(String),
}

/// Gives every signal its default action: what is ignored stays so across execve(2), and a tool that was
/// started by `nohup` or in the background of a script ignores some, as our own runtime ignores `SIGPIPE`.
fn heed_every_signal() {
    // A `struct sigaction` of the kernel: handler, flags, restorer, mask. The C library's own function
    // leaves two signals to itself.
    let default = [0_u64; 4];
    for signal in 1..=64 {
        let size = size_of::<u64>();
        // SAFETY: the structure is as large as the kernel's, and the default action runs no code of
        // ours. Those that cannot be set stay as they are.
        unsafe {
            libc::syscall(libc::SYS_rt_sigaction, signal, default.as_ptr(), 0_usize, size);
        }
    }
}

/// Becomes the program. Comes back only when that fails. `listener` tells when the supervisor
/// is ready, and takes its end of the system-call filter.
pub fn become_program(
    sandbox: &SandboxState,
    spec: &Spec,
    fds: &RunFds,
    work: &Path,
    listener: &OwnedFd,
) -> Failed {
    match try_become(sandbox, spec, fds, work, listener) {
        Err(failed) => failed,
        Ok(never) => match never {},
    }
}

fn try_become(
    sandbox: &SandboxState,
    spec: &Spec,
    fds: &RunFds,
    work: &Path,
    listener: &OwnedFd,
) -> Result<Infallible, Failed> {
    let set_up = |what: &str, error: nix::Error| Failed::SetUp(format!("{what}: {error}"));
    setsid().map_err(|error| set_up("session", error))?;
    leave_keyring();
    let others = processes_of_others(sandbox);
    drop_admin_rights(sandbox.tier, sandbox.identity).map_err(Failed::SetUp)?;
    confine_user(sandbox.tier, sandbox.identity).map_err(Failed::SetUp)?;
    if sandbox.scratch.is_some() {
        die_with_parent();
    }
    limit(sandbox, spec, others).map_err(|error| set_up("resource limits", error))?;
    std::env::set_current_dir(work).map_err(|error| Failed::SetUp(error.to_string()))?;
    let (command, env) = arguments(sandbox, spec)?;
    let Some(program) = command.first() else {
        return Err(Failed::Exec("there is no program to run".to_owned()));
    };
    arrange_descriptors(fds).map_err(|error| set_up("descriptors", error))?;
    sigprocmask(SigmaskHow::SIG_SETMASK, Some(&SigSet::empty()), None)
        .map_err(|error| set_up("signal mask", error))?;
    heed_every_signal();
    match wire::receive::<()>(listener.as_fd()) {
        Ok(Some(_)) => {}
        _ => return Err(Failed::SetUp("the supervisor is gone".to_owned())),
    }
    landlock::install(sandbox, spec.network).map_err(Failed::SetUp)?;
    if sandbox.tier > Tier::Trusted {
        let rules =
            filter::FilterRules::of(sandbox.tier, sandbox.identity, sandbox.group.is_some());
        let end = filter::install(rules)
            .map_err(|error| Failed::SetUp(format!("system-call filter: {error}")))?;
        if let Some(end) = end {
            wire::send(listener.as_fd(), &(), &[end.as_fd()])
                .map_err(|error| Failed::SetUp(format!("the filter's listener: {error}")))?;
        }
    }
    // Not before the listener is handed over: a user who has more descriptors under way than this may
    // pass none on (unix(7), `ETOOMANYREFS`).
    limit_open_files().map_err(|error| set_up("open files", error))?;
    execve(program, &command, &env).map_err(|error| Failed::Exec(error.desc().to_owned()))
}

/// The command and the environment, paths as they are in this tier.
fn arguments(sandbox: &SandboxState, spec: &Spec) -> Result<(Vec<CString>, Vec<CString>), Failed> {
    let real = |text: &str| match &sandbox.scratch {
        Some(scratch) => scratch.real(text, &sandbox.show),
        None => text.to_owned(),
    };
    let c_string = |text: String| {
        CString::new(text).map_err(|_| Failed::Exec("an argument holds a NUL byte".to_owned()))
    };
    let command = spec.command.iter().map(|it| c_string(real(it)));
    let env = spec.env.iter().map(|(key, value)| c_string(format!("{key}={}", real(value))));
    Ok((command.collect::<Result<_, _>>()?, env.collect::<Result<_, _>>()?))
}

/// Processes and threads of the user, where the program is to be that same user and the kernel counts
/// them together; and room for those that others start meanwhile, who must not be felt here.
fn processes_of_others(sandbox: &SandboxState) -> u64 {
    if sandbox.counts_alone() {
        return 0;
    }
    let tasks = |entry: std::fs::DirEntry| {
        let own = entry.metadata().is_ok_and(|it| it.uid() == sandbox.identity.id);
        let folder = own.then(|| std::fs::read_dir(entry.path().join("task")).ok()).flatten();
        folder.map_or(0, |it| it.count() as u64)
    };
    let now: u64 = std::fs::read_dir("/proc").into_iter().flatten().flatten().map(tasks).sum();
    now + ROOM_FOR_OTHERS
}

/// Standard streams at 0 to 2, the channel and links behind them, and everything else closed at `exec`.
fn arrange_descriptors(fds: &RunFds) -> nix::Result<()> {
    let streams = [&fds.stdin, &fds.stdout, &fds.stderr];
    let streams = streams.into_iter().chain(&fds.channel).chain(&fds.links);
    // Lifted first, so that none is overwritten by another. The pipe that tells of failure was
    // opened after all of these, and so stands above them.
    let lifted = streams.map(|fd| fcntl(fd, FcntlArg::F_DUPFD_CLOEXEC(16)));
    let lifted: Vec<i32> = lifted.collect::<nix::Result<_>>()?;
    for (target, source) in lifted.iter().enumerate() {
        // SAFETY: `dup2` onto one of the first numbers; what stood there is ours and no longer needed.
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

fn limit_open_files() -> nix::Result<()> {
    let (_, most) = getrlimit(Resource::RLIMIT_NOFILE)?;
    let own = OPEN_FILES.min(most / 2);
    setrlimit(Resource::RLIMIT_NOFILE, own, own)
}

/// `others` are processes that are, or may come to be, counted with those of the run.
fn limit(sandbox: &SandboxState, spec: &Spec, others: u64) -> nix::Result<()> {
    let caps = &spec.caps;
    let set = |resource, value: u64| setrlimit(resource, value, value);
    // Programs may ask for more, as those that recurse deeply do: what they touch is counted.
    let (_, most) = getrlimit(Resource::RLIMIT_STACK)?;
    setrlimit(Resource::RLIMIT_STACK, STACK.min(most), most)?;
    // Not 0, which counts for files only: at 1 the kernel starts no helper for core dumps either,
    // which would run outside (core(5)).
    set(Resource::RLIMIT_CORE, 1)?;
    set(Resource::RLIMIT_FSIZE, caps.disk)?;
    let processes = u64::from(caps.processes);
    if sandbox.group.is_some() {
        set(Resource::RLIMIT_NPROC, processes)?;
    } else {
        // The supervisor ends a run that has more: a kernel that refuses a process for this limit has made
        // half of it by then, and a program that tries without end uses up the machine by that alone.
        let (_, most) = getrlimit(Resource::RLIMIT_NPROC)?;
        set(Resource::RLIMIT_NPROC, (processes + ROOM + others).min(most))?;
    }
    if sandbox.counts_alone() {
        let (_, most) = getrlimit(Resource::RLIMIT_SIGPENDING)?;
        set(Resource::RLIMIT_SIGPENDING, PENDING_SIGNALS.min(most))?;
    }
    set(Resource::RLIMIT_MEMLOCK, 0)?;
    // Whole seconds, as a backstop to what the supervisor measures. Laps are known to the supervisor alone,
    // so a program with a channel has no limit here.
    if !spec.channel {
        let cpu = caps.cpu.as_secs() + 2;
        setrlimit(Resource::RLIMIT_CPU, cpu, cpu + 1)?;
    }
    Ok(())
}
