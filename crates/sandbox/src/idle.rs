//! Keepers as the tool has them: started for what programs may see, lent to one run at a time.

use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use nix::sys::socket::{AddressFamily, SockFlag, SockType, socketpair};

use crate::inner::STAGE;
use crate::job::SandboxError;
use crate::tier::{Layer, Tier};
use crate::wire::{self, Opened, Opening, Spec};

/// How long a keeper is waited for that was told to end: it has patience with its warden, too.
const PATIENCE: Duration = Duration::from_secs(15);

/// A process that runs are forked from.
#[derive(Debug)]
pub(crate) struct Keeper {
    show: Vec<PathBuf>,
    child: Child,
    /// Taken when the keeper is to end.
    socket: Option<OwnedFd>,
}

/// Keepers that serve nobody just now.
#[derive(Debug)]
pub(crate) struct Idle(Mutex<Vec<Keeper>>);

impl Idle {
    /// The first keeper, just started.
    pub(crate) fn with(keeper: Keeper) -> Self {
        Self(Mutex::new(vec![keeper]))
    }

    /// One that shows these folders, where there is one.
    pub(crate) fn borrow(&self, show: &[PathBuf]) -> Option<Keeper> {
        let mut idle = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let fitting = idle.iter().position(|it| it.show == show)?;
        Some(idle.swap_remove(fitting))
    }

    pub(crate) fn give_back(&self, keeper: Keeper) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(keeper);
    }
}

impl Drop for Idle {
    fn drop(&mut self) {
        let mut idle = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        // All are told before the first is waited for.
        for keeper in &mut idle {
            keeper.socket = None;
        }
    }
}

impl Keeper {
    pub(crate) fn start(
        stage: &Path,
        tier: Tier,
        show: &[PathBuf],
    ) -> Result<(Self, Vec<Layer>), SandboxError> {
        let (socket, theirs) = socket_pair(SockType::SeqPacket)?;
        let child = Command::new(stage)
            .arg0(STAGE)
            .env_clear()
            .current_dir("/")
            // What a person types at the terminal, such as Ctrl-C, is for the tool.
            .process_group(0)
            .stdin(Stdio::from(theirs))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .map_err(SandboxError::Start)?;
        let keeper = Self { show: show.to_vec(), child, socket: Some(socket) };
        let opening = Opening { tier, show: show.to_vec(), scratch: std::env::temp_dir() };
        keeper.send(&opening, &[])?;
        match wire::receive::<Opened>(keeper.socket()?).map_err(SandboxError::Talk)? {
            Some((Opened::Ready(layers), _)) => Ok((keeper, layers)),
            Some((Opened::Failed(why), _)) => Err(SandboxError::SetUp(why)),
            None => Err(SandboxError::NoReport),
        }
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

impl Drop for Keeper {
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

pub(crate) fn socket_pair(kind: SockType) -> Result<(OwnedFd, OwnedFd), SandboxError> {
    socketpair(AddressFamily::Unix, kind, None, SockFlag::SOCK_CLOEXEC)
        .map_err(|error| SandboxError::Start(error.into()))
}
