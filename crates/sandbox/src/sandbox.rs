//! The tool's side of the sandbox: chooses the tier, starts zygotes, and lends them to runs.

use std::fs::DirBuilder;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{DirBuilderExt as _, chown};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nix::fcntl::{OFlag, open};
use nix::sys::stat::Mode;

use crate::helper::tree_owner;
use crate::job::{Collect, Job, Outcome, Reach, SandboxError};
use crate::pool::{Zygote, ZygoteKind, ZygotePool};
use crate::running::{Running, start};
use crate::tier::{Layer, Tier};

/// The sandbox of this machine, in the best tier that was to be had. One serves any number of
/// threads.
#[derive(Debug)]
pub struct Sandbox {
    helper: PathBuf,
    tier: Tier,
    layers: Vec<Layer>,
    why_not_full: Option<String>,
    /// Where trees are that runs have views of.
    store: Option<PathBuf>,
    /// Zygotes that serve nobody just now.
    pool: Arc<ZygotePool>,
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

impl Sandbox {
    /// Opens the sandbox. `helper` is a program that calls [`helper_main`](crate::helper_main) when it
    /// [`is_helper`](crate::is_helper), such as `/proc/self/exe`.
    ///
    /// # Errors
    /// When this machine has no tier that will do, or the helper cannot be started.
    pub fn open(helper: &Path, demand: Demand) -> Result<Self, SandboxError> {
        let bare = ZygoteKind { show: Vec::new(), store: None, machine_network: false };
        let attempt = |tier| Zygote::start(helper, tier, bare.clone());
        let with = |tier, (zygote, layers), why_not_full| Self {
            helper: helper.to_owned(),
            tier,
            layers,
            why_not_full,
            store: None,
            pool: Arc::new(ZygotePool::with(zygote)),
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
    /// When no zygote can be started. What fails inside is reported by [`Running::finish`].
    pub fn start(&self, job: &Job<'_>) -> Result<Running, SandboxError> {
        let needs_store = job.tree.is_some();
        let kind = ZygoteKind {
            show: job.show.clone(),
            store: self.store.clone().filter(|_| needs_store),
            machine_network: job.network == Reach::Machine,
        };
        let kept = match &job.collect {
            Collect::Keep(name) => Some(self.new_tree(name)?),
            _ => None,
        };
        // A zygote that somebody ended is found out when it is sent something.
        while let Some(zygote) = self.pool.borrow(&kind) {
            match start(&self.pool, zygote, job, kept.as_ref()) {
                Err(SandboxError::Talk(_)) => {}
                started => return started,
            }
        }
        let zygote = Zygote::start(&self.helper, self.tier, kind)?.0;
        start(&self.pool, zygote, job, kept.as_ref())
    }

    /// The same with a store: a folder for trees that runs have views of. Nobody but the tool's user may
    /// look into it.
    ///
    /// # Errors
    /// When the folder cannot be made.
    pub fn with_store(mut self, folder: PathBuf) -> Result<Self, SandboxError> {
        DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(&folder)
            .map_err(|source| SandboxError::Store { path: folder.clone(), source })?;
        self.store = Some(folder);
        Ok(self)
    }

    /// The folder of the store. `None` without one.
    #[must_use]
    pub fn store(&self) -> Option<&Path> {
        self.store.as_deref()
    }

    /// Whose the files of trees are: a word that is another where trees of one cannot be used by the other.
    #[must_use]
    pub fn tree_kind(&self) -> &'static str {
        match (self.tier, tree_owner()) {
            (Tier::Full, Some(_)) => "full-root",
            (Tier::Full, None) => "full",
            (Tier::Plain | Tier::Trusted, _) => "plain",
        }
    }

    /// A folder for a tree that is to come, owned by who will fill it.
    fn new_tree(&self, name: &str) -> Result<OwnedFd, SandboxError> {
        let store = self.store.clone().unwrap_or_default();
        let path = store.join(name);
        let failed = |source: io::Error| SandboxError::Store { path: path.clone(), source };
        DirBuilder::new().mode(0o700).create(&path).map_err(failed)?;
        if let (Tier::Full, Some(id)) = (self.tier, tree_owner()) {
            chown(&path, Some(id), Some(id)).map_err(failed)?;
        }
        let flags = OFlag::O_RDONLY | OFlag::O_DIRECTORY | OFlag::O_CLOEXEC;
        open(&path, flags, Mode::empty()).map_err(|error| failed(error.into()))
    }
}
