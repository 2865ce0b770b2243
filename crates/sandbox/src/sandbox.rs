//! The tool's side of the sandbox: chooses the tier, starts keepers, and lends them to runs.

use std::path::{Path, PathBuf};

use crate::idle::{Idle, Keeper};
use crate::job::{Job, Outcome, SandboxError};
use crate::running::{Running, start};
use crate::tier::{Layer, Tier};

/// The sandbox of this machine, in the best tier that was to be had. One serves any number of
/// threads.
#[derive(Debug)]
pub struct Sandbox {
    stage: PathBuf,
    tier: Tier,
    layers: Vec<Layer>,
    why_not_full: Option<String>,
    /// Keepers that serve nobody just now.
    idle: Idle,
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
            idle: Idle::with(keeper),
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
        while let Some(keeper) = self.idle.borrow(&job.show) {
            match start(&self.idle, keeper, job) {
                Err(SandboxError::Talk(_)) => {}
                started => return started,
            }
        }
        start(&self.idle, Keeper::start(&self.stage, self.tier, &job.show)?.0, job)
    }
}
