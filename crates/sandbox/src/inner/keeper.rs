//! The keeper: prepares what runs have in common, then forks a warden for each.
//!
//! It is small and has one thread, so that forking is cheap however large the tool has grown. In
//! the full tier it lives in a mount namespace whose root is the one that programs see, so a warden
//! finds it there ready. There is one warden at a time, and each serves one run: when the next is
//! forked, nothing is left of the last. It is forked ahead of its order. The keeper ends when the
//! tool's end of the socket is closed, however that came about, and sees to it that the warden does.

use std::os::fd::{AsFd as _, BorrowedFd, FromRawFd as _, OwnedFd};
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use super::census::Census;
use super::group::Group;
use super::house::House;
use super::identity::{self, Identity};
use super::network::Network;
use super::scratch::Scratch;
use super::wait::{self, Waited};
use super::{Handed, fence, filter, root, warden};
use crate::job::Ending;
use crate::tier::{Layer, State, Tier};
use crate::wire::{self, Opened, Opening, Report, Spec};

/// Serves until the tool is gone.
pub fn keep(socket: BorrowedFd<'_>) -> std::io::Result<()> {
    let Some((opening, _)) = wire::receive::<Opening>(socket)? else {
        return Ok(());
    };
    // The kernel refuses to pass descriptors on while a user has more of them under way than the
    // sender may have open.
    if let Ok((_, most)) = getrlimit(Resource::RLIMIT_NOFILE) {
        let _ = setrlimit(Resource::RLIMIT_NOFILE, most, most);
    }
    let (mut house, layers) = match open(opening) {
        Ok(opened) => opened,
        Err(why) => return wire::send(socket, &Opened::Failed(why), &[]),
    };
    wire::send(socket, &Opened::Ready(layers), &[])?;
    while let Ok(warden) = fork(&house, socket) {
        let ended = see_out(warden, socket);
        if let Some(network) = &house.network {
            network.take_over();
        }
        if !matches!(ended, Waited::Ended(_, Ending::Exited(SERVED))) {
            clear_after(&house);
            // The tool is gone, or something ended the warden: in both cases the tool sees the end
            // of the run's socket, and only a tool that is still there sends another order.
            if wire::is_at_end(socket) {
                break;
            }
        }
        house.identity = house.identity.next();
    }
    house.close();
    Ok(())
}

/// How long a warden has to end by itself when the tool is gone.
const PATIENCE: Duration = Duration::from_secs(10);

/// Waits until a warden has ended. Nothing of a run may outlive the tool: a warden that does not
/// notice that the tool is gone is ended, and with it its namespace.
fn see_out(warden: Pid, socket: BorrowedFd<'_>) -> Waited {
    let mut alone_since: Option<Instant> = None;
    while let Some(handle) = handle_of(warden) {
        let left = alone_since.map(|it| PATIENCE.saturating_sub(it.elapsed()));
        if left.is_some_and(|it| it.is_zero()) {
            let _ = kill(warden, Signal::SIGKILL);
            break;
        }
        let timeout = left.map_or(Ok(PollTimeout::NONE), PollTimeout::try_from);
        // Nothing but the end of a socket is told without being asked for.
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
    wait::for_child(warden)
}

/// A handle of a child (pidfd_open(2)), which can be polled. `None` on a kernel without them.
fn handle_of(child: Pid) -> Option<OwnedFd> {
    // SAFETY: a plain call with plain numbers.
    let fd = unsafe { libc::syscall(libc::SYS_pidfd_open, child.as_raw(), 0) };
    // SAFETY: the kernel has just made this descriptor for us alone.
    (fd >= 0).then(|| unsafe { OwnedFd::from_raw_fd(fd as i32) })
}

/// Ends what a warden left that was lost, where no namespace ended with it: orphans have come to this
/// process.
fn clear_after(house: &House) {
    let Some(scratch) = &house.scratch else { return };
    Census::new(house).end_all_children();
    scratch.clear();
}

/// Exit status of a warden that was given an order.
const SERVED: i32 = 0;

/// Exit status of a warden that was given none.
const IDLE: i32 = 1;

/// Makes ready what can be made ready ahead of the first run.
fn open(opening: Opening) -> Result<(House, Vec<Layer>), String> {
    // While the machine's own files are there.
    let group = Group::make();
    let counts_in_namespaces = identity::counts_in_namespaces();
    identity::ask_to_be_spared();
    if opening.tier != Tier::Full {
        identity::adopt_orphans();
    }
    let made = prepare(&opening);
    let (identity, again, scratch) = match made {
        Ok(made) => made,
        Err(why) => {
            group.into_iter().for_each(Group::remove);
            return Err(why);
        }
    };
    let (tier, show) = (opening.tier, opening.show);
    let network = (tier == Tier::Full).then(Network::new).transpose()?;
    let house =
        House { tier, identity, counts_in_namespaces, show, again, network, group, scratch };
    match layers(&house) {
        Ok(layers) => Ok((house, layers)),
        Err(why) => {
            house.close();
            Err(why)
        }
    }
}

/// Every layer as it was found.
fn layers(house: &House) -> Result<Vec<Layer>, String> {
    let mut layers = identity::layers(house.tier, house.identity);
    let (fence, filter) = (fence::layer(), filter::layer());
    if house.tier == Tier::Plain {
        fence::is_enough_alone(house.identity)?;
    }
    if house.tier != Tier::Trusted && filter.state == State::Missing {
        return Err("the kernel has no system-call filter (CONFIG_SECCOMP_FILTER)".to_owned());
    }
    layers.extend([fence, filter]);
    layers.push(Layer::new(
        "resource limits",
        State::Held,
        "processes, open files, file size, stack, core, locked memory",
        "",
    ));
    layers.push(Group::layer(house.group.as_ref()));
    Ok(layers)
}

/// Forks the warden of the next run, in namespaces of its own. It waits for the order itself,
/// so that what a run needs anyway is there before it is asked for.
fn fork(house: &House, socket: BorrowedFd<'_>) -> nix::Result<Pid> {
    let flags = match house.tier {
        Tier::Full => identity::RUN_NAMESPACES,
        Tier::Plain | Tier::Trusted => 0,
    };
    let child = fork_with(flags)?;
    if child == 0 {
        let status = if serve(house, socket).is_some() { SERVED } else { IDLE };
        // SAFETY: ends the process; nothing of the keeper's is to be run again here.
        unsafe { libc::_exit(status) }
    }
    Ok(Pid::from_raw(child))
}

/// What the warden does. `None` when no order came; one that cannot be read is dropped with its
/// descriptors, which the tool sees as the end of the run's socket.
fn serve(house: &House, socket: BorrowedFd<'_>) -> Option<()> {
    let ahead = warden::prepare(house);
    let (order, fds) = wire::receive_bytes(socket).ok()??;
    let spec: Spec = wire::read(&order).ok()?;
    let handed = Handed::sort_out(&spec, fds)?;
    let control = handed.control.try_clone().ok()?;
    if let Some(group) = &house.group {
        group.limit(&spec.caps);
    }
    let served = ahead.and_then(|()| warden::serve(house, &spec, handed));
    let report = served.unwrap_or_else(Report::SetUpFailed);
    wire::send(control.as_fd(), &report, &[]).ok()
}

/// What of a house depends on its tier.
type Prepared = (Identity, Vec<root::Again>, Option<Scratch>);

fn prepare(opening: &Opening) -> Result<Prepared, String> {
    match opening.tier {
        Tier::Full => {
            let identity = identity::enter_namespaces()?;
            Ok((identity, root::raise(&opening.show, identity)?, None))
        }
        Tier::Plain | Tier::Trusted => {
            let identity = identity::without_namespaces();
            let scratch = Scratch::below(&opening.scratch)?;
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
