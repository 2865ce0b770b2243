//! The tool's side of the sandbox: chooses the tier, starts keepers, and lends them to runs.

use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Mutex, PoisonError};

use nix::sys::socket::SockType;

use crate::inner::STAGE;
use crate::job::{Job, Outcome, SandboxError};
use crate::running::{Running, socket_pair, start};
use crate::tier::{Layer, Tier};
use crate::wire::{self, Opened, Opening, Spec};

/// The sandbox of this machine, in the best tier that was to be had. One serves any number of
/// threads.
#[derive(Debug)]
pub struct Sandbox {
    stage: PathBuf,
    tier: Tier,
    layers: Vec<Layer>,
    why_not_full: Option<String>,
    /// Keepers that serve nobody just now.
    idle: Mutex<Vec<Keeper>>,
}

/// Which tiers will do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Demand {
    /// The best of full and plain.
    Confined,
    /// The best of all three: the user trusts the code.
    Anything,
    /// This one, and no other.
    Only(Tier),
}

/// A process that runs are forked from.
#[derive(Debug)]
pub(crate) struct Keeper {
    show: Vec<PathBuf>,
    child: Child,
    /// Taken when the keeper is to end.
    socket: Option<OwnedFd>,
}

impl Sandbox {
    /// Opens the sandbox. `stage` is a program that calls [`stage_main`](crate::stage_main) when it
    /// [`is_stage`](crate::is_stage), such as `/proc/self/exe`.
    ///
    /// # Errors
    /// When this machine has no tier that will do, or the stage cannot be started.
    pub fn open(stage: &Path, demand: Demand) -> Result<Self, SandboxError> {
        let attempt = |tier| Keeper::start(stage, tier, &[]);
        let with = |tier, (keeper, layers), why_not_full| Self {
            stage: stage.to_owned(),
            tier,
            layers,
            why_not_full,
            idle: Mutex::new(vec![keeper]),
        };
        if let Demand::Only(tier) = demand {
            return Ok(with(tier, attempt(tier)?, None));
        }
        let full = match attempt(Tier::Full) {
            Ok(opened) => return Ok(with(Tier::Full, opened, None)),
            Err(SandboxError::SetUp(why)) => why,
            Err(error) => return Err(error),
        };
        let plain = match attempt(Tier::Plain) {
            Ok(opened) => return Ok(with(Tier::Plain, opened, Some(full))),
            Err(SandboxError::SetUp(why)) => why,
            Err(error) => return Err(error),
        };
        if demand == Demand::Confined {
            return Err(SandboxError::NoTier { full, plain });
        }
        Ok(with(Tier::Trusted, attempt(Tier::Trusted)?, Some(full)))
    }

    /// The tier.
    #[must_use]
    pub fn tier(&self) -> Tier {
        self.tier
    }

    /// Every layer, as it was found.
    #[must_use]
    pub fn layers(&self) -> &[Layer] {
        &self.layers
    }

    /// Why the tier is not the full one; `None` when it is, or when nobody asked for it.
    #[must_use]
    pub fn why_not_full(&self) -> Option<&str> {
        self.why_not_full.as_deref()
    }

    /// Runs a program to its end.
    ///
    /// # Errors
    /// When the sandbox cannot be set up, or the program not be started.
    pub fn run(&self, job: &Job<'_>) -> Result<Outcome, SandboxError> {
        self.start(job)?.finish()
    }

    /// Starts a program.
    ///
    /// # Errors
    /// When no keeper can be started. What fails inside is told by [`Running::finish`].
    pub fn start(&self, job: &Job<'_>) -> Result<Running<'_>, SandboxError> {
        // A keeper that somebody ended is found out when it is told something.
        while let Some(keeper) = self.borrow(&job.show) {
            match start(self, keeper, job) {
                Err(SandboxError::Talk(_)) => {}
                started => return started,
            }
        }
        start(self, Keeper::start(&self.stage, self.tier, &job.show)?.0, job)
    }

    fn borrow(&self, show: &[PathBuf]) -> Option<Keeper> {
        let mut idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        let fitting = idle.iter().position(|it| it.show == show)?;
        Some(idle.swap_remove(fitting))
    }

    pub(crate) fn give_back(&self, keeper: Keeper) {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner).push(keeper);
    }
}

impl Drop for Sandbox {
    fn drop(&mut self) {
        let mut idle =
            std::mem::take(&mut *self.idle.lock().unwrap_or_else(PoisonError::into_inner));
        // All are told before the first is waited for.
        for keeper in &mut idle {
            keeper.socket = None;
        }
    }
}

impl Keeper {
    fn start(
        stage: &Path,
        tier: Tier,
        show: &[PathBuf],
    ) -> Result<(Self, Vec<Layer>), SandboxError> {
        let (socket, theirs) = socket_pair(SockType::SeqPacket)?;
        let child = Command::new(stage)
            .arg0(STAGE)
            .env_clear()
            .current_dir("/")
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

    /// Ends it at once, and with it, by the kernel, what it runs.
    pub(crate) fn kill(mut self) {
        let _ = self.child.kill();
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.socket = None;
        let _ = self.child.wait();
    }
}
