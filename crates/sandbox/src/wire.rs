//! Messages between the tool and the stage: datagrams of JSON on a socket pair, descriptors along.

use std::io::{self, IoSlice, IoSliceMut};
use std::os::fd::{AsRawFd as _, BorrowedFd, FromRawFd as _, OwnedFd};
use std::path::PathBuf;
use std::time::Duration;

use nix::cmsg_space;
use nix::sys::socket::{ControlMessage, ControlMessageOwned, MsgFlags, recvmsg, sendmsg};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::job::{Caps, Collect, Ending, LimitHit};

/// Largest message, in bytes.
const MESSAGE_MAX: usize = 128 << 10;

/// Most descriptors in one message.
const FDS_MAX: usize = 32;

/// The first message: what to run. The descriptors come in the order: standard input, output,
/// error, the channel if there is one, the archive to collect into, the driver if there is one,
/// the layers.
#[derive(Debug, Serialize, Deserialize)]
pub struct Spec {
    pub command: Vec<String>,
    pub env: Vec<(String, String)>,
    pub show: Vec<PathBuf>,
    pub channel: bool,
    pub driver: bool,
    pub collect: Collect,
    pub caps: Caps,
}

/// What the tool says during a run.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub enum Order {
    /// Time counts from now on.
    Lap,
    /// End it, for this reason.
    Kill(LimitHit),
}

/// What the warden says when it is over.
#[derive(Debug, Serialize, Deserialize)]
pub enum Report {
    /// The program ran.
    Ended(Ended),
    /// A layer could not be made.
    SetUpFailed(String),
    /// The program could not be started.
    ExecFailed { program: String, why: String },
}

/// What a run came to, as the warden saw it.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub struct Ended {
    pub ending: Ending,
    pub limit: Option<LimitHit>,
    pub wall: Duration,
    pub cpu: Duration,
    pub peak_memory: u64,
    pub peak_processes: u32,
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
    let mut bytes = vec![0; MESSAGE_MAX];
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
            Err(nix::Error::EINTR) => {}
            Err(nix::Error::ECONNRESET) => return Ok(None),
            Err(error) => return Err(error.into()),
        }
    };
    if count == 0 {
        return Ok(None);
    }
    let message = serde_json::from_slice(&bytes[..count]).map_err(io::Error::other)?;
    Ok(Some((message, fds)))
}
