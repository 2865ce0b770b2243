//! The keeper: prepares what runs have in common, then forks a warden for each.
//!
//! It is small and has one thread, so that forking is cheap however large the tool has grown. In
//! the full tier it lives in a mount namespace whose root is the one that programs see, so a warden
//! finds it there ready. There is one warden at a time, and each serves one run: when the next is
//! forked, nothing is left of the last. It is forked ahead of its order. The keeper ends when the
//! tool's end of the socket is closed, however that came about.

use std::os::fd::{AsFd as _, BorrowedFd};
use std::path::PathBuf;

use nix::sys::wait::{WaitStatus, waitpid};
use nix::unistd::Pid;

use super::group::Group;
use super::identity::{self, Identity};
use super::network::Network;
use super::scratch::Scratch;
use super::{Handed, fence, filter, root, warden};
use crate::tier::{Layer, State, Tier};
use crate::wire::{self, Opened, Opening, Report, Spec};

/// What the runs of one keeper have in common.
pub struct House {
    pub tier: Tier,
    pub identity: Identity,
    /// Folders of the machine that programs may read besides the system's own.
    pub show: Vec<PathBuf>,
    /// Folders that each run shows again.
    pub again: Vec<root::Again>,
    /// The network namespace, where runs get one.
    pub network: Option<Network>,
    /// The control group, where there is one.
    pub group: Option<Group>,
    /// Where the folders of runs are made, in tiers without a file system of their own.
    pub scratch: Option<Scratch>,
}

/// Serves until the tool is gone.
pub fn keep(socket: BorrowedFd<'_>) -> std::io::Result<()> {
    let Some((opening, _)) = wire::receive::<Opening>(socket)? else {
        return Ok(());
    };
    let (house, layers) = match House::open(opening) {
        Ok(opened) => opened,
        Err(why) => return wire::send(socket, &Opened::Failed(why), &[]),
    };
    wire::send(socket, &Opened::Ready(layers), &[])?;
    while let Ok(warden) = house.fork(socket) {
        let ended = waitpid(warden, None);
        if let Some(network) = &house.network {
            network.take_over();
        }
        if !matches!(ended, Ok(WaitStatus::Exited(_, SERVED))) {
            // The tool is gone, or something ended the warden: in both cases the tool sees the end
            // of the run's socket, and only a tool that is still there sends another order.
            if wire::is_at_end(socket) {
                break;
            }
        }
    }
    house.close();
    Ok(())
}

/// Exit status of a warden that was given an order.
const SERVED: i32 = 0;

/// Exit status of a warden that was given none.
const IDLE: i32 = 1;

impl House {
    /// Makes ready what can be made ready ahead of the first run.
    fn open(opening: Opening) -> Result<(Self, Vec<Layer>), String> {
        // While the machine's own files are there.
        let group = Group::make();
        identity::ask_to_be_spared();
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
        let house = Self { tier, identity, show, again, network, group, scratch };
        match house.layers() {
            Ok(layers) => Ok((house, layers)),
            Err(why) => {
                house.close();
                Err(why)
            }
        }
    }

    /// Every layer as it was found.
    fn layers(&self) -> Result<Vec<Layer>, String> {
        let mut layers = identity::layers(self.tier, self.identity);
        let (fence, filter) = (fence::layer(), filter::layer());
        if self.tier == Tier::Plain {
            fence::is_enough_alone(self.identity)?;
        }
        if self.tier != Tier::Trusted && filter.state == State::Missing {
            return Err("the kernel has no system-call filter (CONFIG_SECCOMP_FILTER)".to_owned());
        }
        layers.extend([fence, filter]);
        layers.push(Layer::new(
            "resource limits",
            State::Held,
            "processes, open files, file size, stack, core, locked memory",
            "",
        ));
        layers.push(Group::layer(self.group.as_ref()));
        Ok(layers)
    }

    /// Forks the warden of the next run, in namespaces of its own. It waits for the order itself,
    /// so that what a run needs anyway is there before it is asked for.
    fn fork(&self, socket: BorrowedFd<'_>) -> nix::Result<Pid> {
        let flags = match self.tier {
            Tier::Full => identity::RUN_NAMESPACES,
            Tier::Plain | Tier::Trusted => 0,
        };
        let child = fork_with(flags)?;
        if child == 0 {
            let status = if self.serve(socket).is_some() { SERVED } else { IDLE };
            // SAFETY: ends the process; nothing of the keeper's is to be run again here.
            unsafe { libc::_exit(status) }
        }
        Ok(Pid::from_raw(child))
    }

    /// What the warden does. `None` when no order came; one that cannot be read is dropped with its
    /// descriptors, which the tool sees as the end of the run's socket.
    fn serve(&self, socket: BorrowedFd<'_>) -> Option<()> {
        let ahead = warden::prepare(self);
        let (order, fds) = wire::receive_bytes(socket).ok()??;
        let spec: Spec = wire::read(&order).ok()?;
        let handed = Handed::sort_out(&spec, fds)?;
        let control = handed.control.try_clone().ok()?;
        if let Some(group) = &self.group {
            group.limit(&spec.caps);
        }
        let served = ahead.and_then(|()| warden::serve(self, &spec, handed));
        let report = served.unwrap_or_else(Report::SetUpFailed);
        wire::send(control.as_fd(), &report, &[]).ok()
    }

    /// Takes back what lies outside of this process.
    fn close(self) {
        if let Some(scratch) = self.scratch {
            scratch.remove();
        }
        if let Some(group) = self.group {
            group.remove();
        }
    }
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
            let scratch = Scratch::below(&opening.scratch, identity)?;
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
