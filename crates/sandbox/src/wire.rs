//! Messages between the tool, the zygote and the supervisor: datagrams of JSON on socket pairs, with
//! descriptors.

use std::collections::BTreeMap;

use std::io::{self, IoSlice, IoSliceMut};
use std::os::fd::{AsRawFd as _, BorrowedFd, FromRawFd as _, OwnedFd};
use std::path::PathBuf;
use std::time::Duration;

use nix::cmsg_space;
use nix::sys::socket::{ControlMessage, ControlMessageOwned, MsgFlags, recv, recvmsg, sendmsg};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::job::{Accounting, Caps, Collect, Ending, Lap, LimitHit, Reach, TreeView};
use crate::tier::{Layer, Tier};

/// Largest message, in bytes.
const MESSAGE_MAX: usize = 128 << 10;

/// Most descriptors in one message.
const FDS_MAX: usize = 32;

/// The first message to a zygote: how its programs are to be confined, and what they may see.
#[derive(Debug, Serialize, Deserialize)]
pub struct ZygoteConfig {
    pub tier: Tier,
    /// Folders of this machine that programs may read besides the system's own.
    pub show: Vec<PathBuf>,
    /// The folder of trees, where runs get views of them.
    pub store: Option<PathBuf>,
    /// Whether its runs are in the machine's own network.
    pub machine_network: bool,
    /// Where folders are made in a tier that has no file system of its own.
    pub scratch: PathBuf,
}

/// What a zygote answers.
#[derive(Debug, Serialize, Deserialize)]
pub enum ZygoteReply {
    /// It can serve, with these layers.
    Ready(Vec<Layer>),
    /// It cannot: a layer that the tier needs is not to be had.
    Failed(String),
}

/// An order to a zygote: what to run. The descriptors come in the order: the run's own control
/// socket, standard input, output, error, the channel if there is one, the links, the archive or folder to
/// collect into if there is one, the driver if there is one, the sealed files if there are any, the
/// home if there is one, the layers.
#[derive(Debug, Serialize, Deserialize)]
pub struct Spec {
    pub command: Vec<String>,
    pub env: Vec<(String, String)>,
    pub channel: bool,
    pub links: usize,
    pub driver: bool,
    pub sealed: bool,
    pub home: bool,
    pub tree: Option<String>,
    pub terminals: bool,
    pub collect: Collect,
    pub session: u64,
    pub network: Reach,
    pub caps: Caps,
}

/// What the tool says during a run.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub enum Control {
    /// Time counts from now on, up to these limits of the wall clock and of processor time.
    Lap { wall: Duration, cpu: Duration },
    /// Let it stand still until the next lap, and pack what is wanted of its files as they are now, into
    /// the archive that comes with this.
    Pause,
    /// End it, for this reason.
    Kill(LimitHit),
}

/// What the supervisor says when it is over.
#[derive(Debug, Serialize, Deserialize)]
pub enum SupervisorEvent {
    /// A socket listens in the run's own network; it comes with this.
    Listening,
    /// The program is let go: what happens from here on may be its doing.
    Started,
    /// The program is kept from running by others, and has more time for that.
    Starved,
    /// A lap is over, and the next begins.
    Lap(Lap),
    /// It stands still, and its files are packed, or `failed` says why not.
    Paused { failed: Option<String>, cpu: Duration, peak_memory: u64, view: Option<TreeView> },
    /// The program ran.
    Ended(RunEnd),
    /// A layer could not be made.
    SetUpFailed(String),
    /// Files of the job could not be written.
    FilesFailed(String),
    /// The program could not be started.
    ExecFailed { program: String, why: String },
    /// The program ran, and what it left could not be packed.
    CollectFailed(String),
}

/// What a run came to, as the supervisor saw it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct RunEnd {
    pub ending: Ending,
    pub limit: Option<LimitHit>,
    pub wall: Duration,
    pub cpu: Duration,
    pub peak_memory: u64,
    pub peak_processes: u32,
    pub started: Option<u32>,
    pub denied: BTreeMap<String, u64>,
    pub accounting: Accounting,
    pub view: Option<TreeView>,
}

/// Sends a message with descriptors.
pub fn send<T: Serialize>(
    to: BorrowedFd<'_>,
    message: &T,
    fds: &[BorrowedFd<'_>],
) -> io::Result<()> {
    let bytes = serde_json::to_vec(message).map_err(io::Error::other)?;
    if bytes.len() > MESSAGE_MAX {
        return Err(io::Error::other("a command or an environment is too long for the sandbox"));
    }
    let fds: Vec<i32> = fds.iter().map(|fd| fd.as_raw_fd()).collect();
    let rights = [ControlMessage::ScmRights(&fds)];
    let rights = if fds.is_empty() { &rights[..0] } else { &rights[..] };
    let flags = MsgFlags::MSG_NOSIGNAL;
    sendmsg::<()>(to.as_raw_fd(), &[IoSlice::new(&bytes)], rights, flags, None)?;
    Ok(())
}

/// Receives a message; `None` when the other side is gone.
pub fn receive<T: DeserializeOwned>(from: BorrowedFd<'_>) -> io::Result<Option<(T, Vec<OwnedFd>)>> {
    let Some((bytes, fds)) = receive_bytes(from)? else {
        return Ok(None);
    };
    Ok(Some((read(&bytes)?, fds)))
}

/// Reads a message.
pub fn read<T: DeserializeOwned>(bytes: &[u8]) -> io::Result<T> {
    serde_json::from_slice(bytes).map_err(io::Error::other)
}

/// Waits for a message and gives its length; `None` when the other side is gone.
fn next_length(from: BorrowedFd<'_>) -> io::Result<Option<usize>> {
    loop {
        match recv(from.as_raw_fd(), &mut [], MsgFlags::MSG_PEEK | MsgFlags::MSG_TRUNC) {
            Ok(0) => return Ok(None),
            Ok(length) if length > MESSAGE_MAX => {
                return Err(io::Error::other("a message is too long"));
            }
            Ok(length) => return Ok(Some(length)),
            // The other side is gone and left a message of ours unread. That is reported once, and before
            // what it sent itself, which is still to come.
            Err(nix::Error::EINTR | nix::Error::ECONNRESET) => {}
            Err(error) => return Err(error.into()),
        }
    }
}

/// Whether nothing more will come. To be asked of a socket that is known to be ready.
pub fn is_at_end(from: BorrowedFd<'_>) -> bool {
    let flags = MsgFlags::MSG_PEEK | MsgFlags::MSG_TRUNC | MsgFlags::MSG_DONTWAIT;
    matches!(recv(from.as_raw_fd(), &mut [], flags), Ok(0) | Err(nix::Error::ECONNRESET))
}

/// Receives a message without reading it.
pub fn receive_bytes(from: BorrowedFd<'_>) -> io::Result<Option<(Vec<u8>, Vec<OwnedFd>)>> {
    let Some(length) = next_length(from)? else {
        return Ok(None);
    };
    let mut bytes = vec![0; length];
    let mut space = cmsg_space!([i32; FDS_MAX]);
    let mut slices = [IoSliceMut::new(&mut bytes)];
    let flags = MsgFlags::MSG_CMSG_CLOEXEC;
    let (count, fds) = loop {
        match recvmsg::<()>(from.as_raw_fd(), &mut slices, Some(&mut space), flags) {
            Ok(message) => {
                let mut fds = Vec::new();
                for control in message.cmsgs()? {
                    if let ControlMessageOwned::ScmRights(raw) = control {
                        // SAFETY: the kernel has just made these descriptors for us alone.
                        fds.extend(raw.into_iter().map(|fd| unsafe { OwnedFd::from_raw_fd(fd) }));
                    }
                }
                break (message.bytes, fds);
            }
            Err(nix::Error::EINTR | nix::Error::ECONNRESET) => {}
            Err(error) => return Err(error.into()),
        }
    };
    if count == 0 {
        return Ok(None);
    }
    bytes.truncate(count);
    Ok(Some((bytes, fds)))
}

#[cfg(test)]
mod tests {
    use std::os::fd::AsFd as _;

    use nix::sys::socket::{AddressFamily, SockFlag, SockType, socketpair};

    use super::*;

    #[test]
    fn what_was_sent_last_is_read_though_the_sender_left_a_message_unread() {
        let (ours, theirs) =
            socketpair(AddressFamily::Unix, SockType::SeqPacket, None, SockFlag::SOCK_CLOEXEC)
                .unwrap();
        send(ours.as_fd(), &Control::Kill(LimitHit::Wall), &[]).unwrap();
        send(theirs.as_fd(), &SupervisorEvent::SetUpFailed("why".to_owned()), &[]).unwrap();
        drop(theirs);
        let (report, _) = receive::<SupervisorEvent>(ours.as_fd()).unwrap().unwrap();
        assert!(matches!(report, SupervisorEvent::SetUpFailed(why) if why == "why"));
        assert!(receive::<SupervisorEvent>(ours.as_fd()).unwrap().is_none());
    }
}
