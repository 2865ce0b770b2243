//! What all judgements share: languages, tools, the sandbox, what was built.

use std::collections::{HashMap, VecDeque};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

use fairtrial_core::digest::Digest;
use fairtrial_core::language::{LanguageDefinition, Languages};
use fairtrial_sandbox::{Archive, Sandbox};
use fairtrial_worktree::TreeCache;

use crate::doubts::Doubts;
use crate::preflights::Preflights;
use crate::tools::{ToolMissing, Toolbox};

/// What all judgements share.
#[derive(Debug)]
pub struct Shared {
    pub languages: Languages,
    pub tools: Toolbox,
    pub sandbox: Sandbox,
    pub builds: Builds,
    /// Whether code parses, by what it is.
    pub soundness: Soundness,
    /// Repositories that were made ready.
    pub trees: TreeCache,
    /// What their tests come to before anything is changed, by task.
    pub preflights: Preflights,
    /// Doubts about the runs of checkers decide nothing: their answers are no candidate's.
    pub checkers_doubts: Doubts,
    /// How many processors judgements take.
    pub seats: Seats,
}

impl Shared {
    /// The definition of a language.
    ///
    /// # Errors
    /// When there is none.
    pub fn definition(&self, language: &str) -> Result<&LanguageDefinition, ToolMissing> {
        self.languages.find(language).ok_or_else(|| ToolMissing {
            language: language.to_owned(),
            why: "there is no definition of it".to_owned(),
        })
    }
}

/// Processors, and how many of them judgements take: what one of them can do at once is done so where one is free.
#[derive(Debug)]
pub struct Seats {
    all: usize,
    taken: AtomicUsize,
}

/// Processors that are taken, until this is dropped.
#[derive(Debug)]
pub struct Seated<'a> {
    seats: &'a Seats,
    count: usize,
}

impl Seats {
    /// Takes one, free or not.
    pub fn take(&self) -> Seated<'_> {
        self.take_some(1)
    }

    /// Takes them all.
    pub fn take_all(&self) -> Seated<'_> {
        self.take_some(self.all)
    }

    fn take_some(&self, count: usize) -> Seated<'_> {
        self.taken.fetch_add(count, Ordering::SeqCst);
        Seated { seats: self, count }
    }

    /// Takes one where one is free.
    pub fn take_free(&self) -> Option<Seated<'_>> {
        let more = |taken| (taken < self.all).then_some(taken + 1);
        self.taken.fetch_update(Ordering::SeqCst, Ordering::SeqCst, more).ok()?;
        Some(Seated { seats: self, count: 1 })
    }
}

impl Default for Seats {
    /// As many as this process may use.
    fn default() -> Self {
        let all = thread::available_parallelism().map_or(1, usize::from);
        Self { all, taken: AtomicUsize::new(0) }
    }
}

impl Drop for Seated<'_> {
    fn drop(&mut self) {
        self.seats.taken.fetch_sub(self.count, Ordering::SeqCst);
    }
}

/// Whether code parses that was looked at, by its digest.
#[derive(Debug, Default)]
pub struct Soundness(Mutex<HashMap<Digest, bool>>);

/// Texts of which that is kept.
const SOUNDNESS_MAX: usize = 20_000;

impl Soundness {
    /// Whether this parses, where that is known.
    pub fn find(&self, key: &Digest) -> Option<bool> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(key).copied()
    }

    /// Keeps it. Where there is much, all is forgotten: it can be found out again.
    pub fn keep(&self, key: Digest, is_sound: bool) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= SOUNDNESS_MAX {
            known.clear();
        }
        known.insert(key, is_sound);
    }
}

/// Builds that are kept.
const KEPT_MAX: usize = 24;

/// What was built last, by what it was built from. Equal sources under equal commands are built
/// once: candidates often send the same answer.
#[derive(Debug, Default)]
pub struct Builds(Mutex<VecDeque<(Digest, Arc<Archive>)>>);

impl Builds {
    /// What was built of this.
    pub fn find(&self, key: &Digest) -> Option<Arc<Archive>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.iter().find(|it| it.0 == *key).map(|it| Arc::clone(&it.1))
    }

    /// Keeps what was built, and forgets the oldest where there are many.
    pub fn keep(&self, key: Digest, layer: &Arc<Archive>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= KEPT_MAX {
            kept.pop_front();
        }
        kept.push_back((key, Arc::clone(layer)));
    }
}
