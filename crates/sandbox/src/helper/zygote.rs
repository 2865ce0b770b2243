//! The zygote: prepares what runs have in common, then forks a supervisor for each.
//!
//! It is small and has one thread, so that forking is cheap however large the tool has grown. In
//! the full tier it lives in a mount namespace whose root is the one that programs see, so a supervisor
//! finds it there ready. There is one supervisor at a time, and each serves one run: when the next is
//! forked, nothing is left of the last. It is forked ahead of its order. The zygote ends when the
//! tool's end of the socket is closed, however that came about, and sees to it that the supervisor does.

use std::os::fd::{AsFd as _, BorrowedFd, FromRawFd as _, OwnedFd};
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use super::group::Group;
use super::identity::{self, Identity};
use super::network::Network;
use super::processes::ProcessTable;
use super::scratch::Scratch;
use super::state::SandboxState;
use super::wait::{self, Waited};
use super::{RunFds, filter, landlock, root, supervisor};
use crate::job::{Collect, Ending};
use crate::tier::{Layer, LayerState, Tier};
use crate::wire::{self, Spec, SupervisorEvent, ZygoteConfig, ZygoteReply};

/// Serves until the tool is gone.
pub fn run(socket: BorrowedFd<'_>) -> std::io::Result<()> {
    let Some((config, _)) = wire::receive::<ZygoteConfig>(socket)? else {
        return Ok(());
    };
    // The kernel refuses to pass descriptors on while a user has more of them under way than the
    // sender may have open.
    if let Ok((_, most)) = getrlimit(Resource::RLIMIT_NOFILE) {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, most, most);
    }
    let (mut sandbox, layers) = match open(config) {
        Ok(opened) => opened,
        Err(why) => return wire::send(socket, &ZygoteReply::Failed(why), &[]),
    };
    let group = sandbox.group.as_ref();
    let kills: Vec<BorrowedFd<'_>> =
        group.map(|it| it.memory_kills().as_fd()).into_iter().collect();
    wire::send(socket, &ZygoteReply::Ready(layers), &kills)?;
    while let Ok(supervisor) = fork(&mut sandbox, socket) {
        let ended = wait_for_end(supervisor, socket);
        if let Some(network) = &sandbox.network {
            network.take_over();
        }
        if !matches!(ended, Waited::Ended(_, Ending::Exited(SERVED))) {
            clear_after(&sandbox);
            // The tool is gone, or something ended the supervisor: in both cases the tool sees the end
            // of the run's socket, and only a tool that is still there sends another order.
            if wire::is_at_end(socket) {
                break;
            }
        }
        sandbox.identity = sandbox.identity.next();
    }
    sandbox.close();
    Ok(())
}

/// How long a supervisor has to end by itself when the tool is gone.
const PATIENCE: Duration = Duration::from_secs(10);

/// Waits until a supervisor has ended. Nothing of a run may outlive the tool: a supervisor that does not
/// notice that the tool is gone is ended, and with it its namespace.
fn wait_for_end(supervisor: Pid, socket: BorrowedFd<'_>) -> Waited {
    let mut alone_since: Option<Instant> = None;
    while let Some(handle) = handle_of(supervisor) {
        let left = alone_since.map(|it| PATIENCE.saturating_sub(it.elapsed()));
        if left.is_some_and(|it| it.is_zero()) {
            let _ = kill(supervisor, Signal::SIGKILL);
            break;
        }
        let timeout = left.map_or(Ok(PollTimeout::NONE), PollTimeout::try_from);
        // Nothing but the end of a socket is reported without being asked for.
        let mut fds = vec![PollFd::new(handle.as_fd(), PollFlags::POLLIN)];
        if alone_since.is_none() {
            fds.push(PollFd::new(socket, PollFlags::empty()));
        }
        let _ = poll(&mut fds, timeout.unwrap_or(PollTimeout::ZERO));
        let seen = |at: usize| fds.get(at).is_some_and(|it| it.any() == Some(true));
        if seen(0) {
            break;
        }
        if seen(1) {
            alone_since = Some(Instant::now());
        }
    }
    wait::for_child(supervisor)
}

/// A handle of a child (pidfd_open(2)), which can be polled. `None` on a kernel without them.
fn handle_of(child: Pid) -> Option<OwnedFd> {
    // SAFETY: a plain call with plain numbers.
    let fd = unsafe { libc::syscall(libc::SYS_pidfd_open, child.as_raw(), 0) };
    // SAFETY: the kernel has just made this descriptor for us alone.
    (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd as i32) })
}

/// Ends what a supervisor left that was lost, where no namespace ended with it: orphans have come to this
/// process.
fn clear_after(sandbox: &SandboxState) {
    let Some(scratch) = &sandbox.scratch else { return };
    ProcessTable::new(sandbox).end_all_children();
    scratch.clear();
}

/// Exit status of a supervisor that was given an order.
const SERVED: i32 = 0;

/// Exit status of a supervisor that was given none.
const IDLE: i32 = 1;

/// Makes ready what can be made ready ahead of the first run.
fn open(config: ZygoteConfig) -> Result<(SandboxState, Vec<Layer>), String> {
    // While the machine's own files are there.
    let group = Group::make();
    let counts_in_namespaces = identity::counts_in_namespaces();
    identity::lower_oom_score();
    if config.tier != Tier::Full {
        identity::become_subreaper();
    }
    let made = prepare(&config);
    let (identity, shared, scratch) = match made {
        Ok(made) => made,
        Err(why) => {
            group.into_iter().for_each(Group::remove);
            return Err(why);
        }
    };
    let ZygoteConfig { tier, show, store, machine_network, .. } = config;
    let network = (tier == Tier::Full && !machine_network).then(Network::new).transpose()?;
    let sandbox = SandboxState {
        tier,
        identity,
        counts_in_namespaces,
        show,
        store,
        shared,
        network,
        group,
        scratch,
    };
    match layers(&sandbox) {
        Ok(layers) => Ok((sandbox, layers)),
        Err(why) => {
            sandbox.close();
            Err(why)
        }
    }
}

/// Every layer as it was found.
fn layers(sandbox: &SandboxState) -> Result<Vec<Layer>, String> {
    let mut layers = identity::layers(sandbox.tier, sandbox.identity);
    let (landlock, filter) = (landlock::layer(), filter::layer());
    if sandbox.tier == Tier::Plain {
        landlock::is_enough_alone(sandbox.identity)?;
    }
    if sandbox.tier != Tier::Trusted && filter.state == LayerState::Missing {
        return Err("the kernel has no system-call filter (CONFIG_SECCOMP_FILTER)".to_owned());
    }
    layers.extend([landlock, filter]);
    layers.push(Layer::new(
        "resource limits",
        LayerState::Active,
        "processes, open files, file size, stack, core, locked memory",
        "",
    ));
    layers.push(Group::layer(sandbox.group.as_ref()));
    Ok(layers)
}

/// Forks the supervisor of the next run, in namespaces of its own. It waits for the order itself,
/// so that what a run needs anyway is there before it is asked for.
fn fork(sandbox: &mut SandboxState, socket: BorrowedFd<'_>) -> nix::Result<Pid> {
    let flags = match sandbox.tier {
        Tier::Full => identity::RUN_NAMESPACES,
        Tier::Plain | Tier::Trusted => 0,
    };
    let child = fork_with(flags)?;
    if child == 0 {
        let status = if serve(sandbox, socket).is_some() { SERVED } else { IDLE };
        // SAFETY: ends the process; nothing of the zygote's is to be run again here.
        unsafe { libc::_exit(status) }
    }
    Ok(Pid::from_raw(child))
}

/// What the supervisor does. `None` when no order came; one that cannot be read is dropped with its
/// descriptors, which the tool sees as the end of the run's socket.
fn serve(sandbox: &mut SandboxState, socket: BorrowedFd<'_>) -> Option<()> {
    let ahead = supervisor::prepare(sandbox);
    let (order, fds) = wire::receive_bytes(socket).ok()??;
    let spec: Spec = wire::read(&order).ok()?;
    let fds = RunFds::split(&spec, fds)?;
    let control = fds.control.try_clone().ok()?;
    if sandbox.tier == Tier::Full
        && (spec.tree.is_some() || matches!(spec.collect, Collect::Keep(_)))
    {
        sandbox.identity = sandbox.identity.of_trees();
    }
    if let Some(group) = &sandbox.group {
        group.limit(&spec.caps);
    }
    let served = ahead.and_then(|()| supervisor::serve(sandbox, &spec, fds));
    let report = served.unwrap_or_else(SupervisorEvent::SetUpFailed);
    wire::send(control.as_fd(), &report, &[]).ok()
}

/// What of a sandbox depends on its tier.
type Prepared = (Identity, Vec<root::SharedFolder>, Option<Scratch>);

fn prepare(config: &ZygoteConfig) -> Result<Prepared, String> {
    match config.tier {
        Tier::Full => {
            let identity = identity::enter_namespaces()?;
            Ok((identity, root::build_root(config, identity)?, None))
        }
        Tier::Plain | Tier::Trusted => {
            let identity = identity::without_namespaces();
            let scratch = Scratch::below(&config.scratch)?;
            Ok((identity, Vec::new(), Some(scratch)))
        }
    }
}

/// Forks, the child in new namespaces of its own. Gives 0 in the child.
fn fork_with(flags: i32) -> nix::Result<i32> {
    // SAFETY: this process has one thread, so the child finds every lock free; without a stack of
    // its own the child goes on with a copy of this one, as after `fork`.
    let pid = unsafe {
        libc::syscall(libc::SYS_clone, libc::c_long::from(flags | libc::SIGCHLD), 0, 0, 0, 0)
    };
    nix::errno::Errno::result(pid).map(|pid| pid as i32)
}
