//! The tool's side of the sandbox: chooses the tier, starts zygotes, and lends them to runs.

use std::path::{Path, PathBuf};

use crate::job::{Job, Outcome, SandboxError};
use crate::pool::{Zygote, ZygotePool};
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
    /// Zygotes that serve nobody just now.
    pool: ZygotePool,
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
        let attempt = |tier| Zygote::start(helper, tier, &[]);
        let with = |tier, (zygote, layers), why_not_full| Self {
            helper: helper.to_owned(),
            tier,
            layers,
            why_not_full,
            pool: ZygotePool::with(zygote),
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
    pub fn start(&self, job: &Job<'_>) -> Result<Running<'_>, SandboxError> {
        // A zygote that somebody ended is found out when it is sent something.
        while let Some(zygote) = self.pool.borrow(&job.show) {
            match start(&self.pool, zygote, job) {
                Err(SandboxError::Talk(_)) => {}
                started => return started,
            }
        }
        start(&self.pool, Zygote::start(&self.helper, self.tier, &job.show)?.0, job)
    }
}
