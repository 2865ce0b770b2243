//! What is known of tasks before anything is changed, kept for all judgements of a process.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use fairtrial_core::digest::Digest;
use serde::{Deserialize, Serialize};

/// Where tests of our own stand among those of a repository.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum GuardMode {
    /// In files of their own.
    Beside,
    /// In the files of the others.
    Within,
    /// Nowhere: the command would not run them, or nobody knows how its tests are written.
    Nowhere,
}

/// What was found of a task that holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Checked {
    /// Where tests of our own stand.
    pub guard: GuardMode,
    /// What they are made of: they were seen to come to what they must, and are called otherwise in each
    /// run.
    pub seed: u64,
    /// Whether the command's exit status says that tests failed.
    pub status_tells: bool,
}

/// What was found, by task: of one that does not hold, why.
#[derive(Debug, Default)]
pub struct Preflights(Mutex<BTreeMap<Digest, PreflightSlot>>);

/// Held while it is found out, so that nobody does so twice.
type PreflightSlot = Arc<Mutex<Option<Result<Checked, String>>>>;

impl Preflights {
    /// What is known under a key, found out where it is not. An error of `find_out` is not kept.
    ///
    /// # Errors
    /// That of `find_out`.
    pub fn get<E>(
        &self,
        key: &Digest,
        find_out: impl FnOnce() -> Result<Result<Checked, String>, E>,
    ) -> Result<Result<Checked, String>, E> {
        let slot = {
            let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(all.entry(key.clone()).or_default())
        };
        let mut slot = slot.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = &*slot {
            return Ok(known.clone());
        }
        let found = find_out()?;
        *slot = Some(found.clone());
        Ok(found)
    }
}
