//! Zygotes as the tool has them: started for what programs may see, lent to one run at a time.

use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use nix::sys::socket::{AddressFamily, SockFlag, SockType, socketpair};

use crate::helper::{HELPER, MemoryKills};
use crate::job::SandboxError;
use crate::tier::{Layer, Tier};
use crate::wire::{self, Spec, ZygoteConfig, ZygoteReply};

/// How long a zygote that was asked to end is waited for: it waits for its supervisor, too.
const PATIENCE: Duration = Duration::from_secs(15);

/// What the runs of one zygote have in common.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ZygoteKind {
    /// Folders of this machine that programs may read.
    pub show: Vec<PathBuf>,
    /// The store, where they get views of its trees.
    pub store: Option<PathBuf>,
    /// Whether they are in the machine's own network.
    pub machine_network: bool,
}

/// A process that runs are forked from.
#[derive(Debug)]
pub(crate) struct Zygote {
    kind: ZygoteKind,
    child: Child,
    /// Taken when the zygote is to end.
    socket: Option<OwnedFd>,
    /// Of its control group, where it has one.
    memory_kills: Option<MemoryKills>,
}

/// Zygotes that serve nobody just now.
#[derive(Debug)]
pub(crate) struct ZygotePool(Mutex<Vec<Zygote>>);

impl ZygotePool {
    /// The first zygote, just started.
    pub(crate) fn with(zygote: Zygote) -> Self {
        Self(Mutex::new(vec![zygote]))
    }

    /// One of this kind, where there is one.
    pub(crate) fn borrow(&self, kind: &ZygoteKind) -> Option<Zygote> {
        let mut pool = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let fitting = pool.iter().position(|it| it.kind == *kind)?;
        Some(pool.swap_remove(fitting))
    }

    pub(crate) fn give_back(&self, zygote: Zygote) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(zygote);
    }
}

impl Drop for ZygotePool {
    fn drop(&mut self) {
        let mut pool = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        // All are asked to end before the first is waited for.
        for zygote in &mut pool {
            zygote.socket = None;
        }
    }
}

impl Zygote {
    pub(crate) fn start(
        helper: &Path,
        tier: Tier,
        kind: ZygoteKind,
    ) -> Result<(Self, Vec<Layer>), SandboxError> {
        let (socket, theirs) = socket_pair(SockType::SeqPacket)?;
        let child = Command::new(helper)
            .arg0(HELPER)
            .env_clear()
            .current_dir("/")
            // What a person types at the terminal, such as Ctrl-C, is for the tool.
            .process_group(0)
            .stdin(Stdio::from(theirs))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(SandboxError::Start)?;
        let ZygoteKind { show, store, machine_network } = kind.clone();
        let mut zygote = Self { kind, child, socket: Some(socket), memory_kills: None };
        let scratch = std::env::temp_dir();
        let config = ZygoteConfig { tier, show, store, machine_network, scratch };
        zygote.send(&config, &[])?;
        match wire::receive::<ZygoteReply>(zygote.socket()?).map_err(SandboxError::Talk)? {
            Some((ZygoteReply::Ready(layers), fds)) => {
                zygote.memory_kills = fds.into_iter().next().map(MemoryKills::from_fd);
                Ok((zygote, layers))
            }
            Some((ZygoteReply::Failed(why), _)) => Err(SandboxError::SetUp(why)),
            None => Err(SandboxError::NoReport),
        }
    }

    /// How many processes the kernel ended for want of memory in its control group.
    pub(crate) fn memory_kills(&self) -> u64 {
        self.memory_kills.as_ref().map_or(0, MemoryKills::count)
    }

    pub(crate) fn order(&self, spec: &Spec, fds: &[BorrowedFd<'_>]) -> Result<(), SandboxError> {
        self.send(spec, fds)
    }

    fn send<T: serde::Serialize>(
        &self,
        message: &T,
        fds: &[BorrowedFd<'_>],
    ) -> Result<(), SandboxError> {
        wire::send(self.socket()?, message, fds).map_err(SandboxError::Talk)
    }

    fn socket(&self) -> Result<BorrowedFd<'_>, SandboxError> {
        self.socket.as_ref().map(OwnedFd::as_fd).ok_or(SandboxError::NoReport)
    }
}

impl Drop for Zygote {
    fn drop(&mut self) {
        // That tells it to end, and it ends what it runs.
        self.socket = None;
        let asked = Instant::now();
        while let Ok(None) = self.child.try_wait() {
            if asked.elapsed() > PATIENCE {
                let _ = self.child.kill();
                let _ = self.child.wait();
                return;
            }
            std::thread::sleep(Duration::from_millis(1));
        }
    }
}

/// The two ends of a stream by which programs of two runs talk to each other ([`Job::links`](crate::Job::links)).
/// Each end is to be dropped here when its run was started, so that the other sees the end of it.
///
/// # Errors
/// When there are no descriptors left.
pub fn link() -> Result<(OwnedFd, OwnedFd), SandboxError> {
    socket_pair(SockType::Stream)
}

pub(crate) fn socket_pair(kind: SockType) -> Result<(OwnedFd, OwnedFd), SandboxError> {
    socketpair(AddressFamily::Unix, kind, None, SockFlag::SOCK_CLOEXEC)
        .map_err(|error| SandboxError::Start(error.into()))
}
