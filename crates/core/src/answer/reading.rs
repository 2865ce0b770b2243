//! What was read of an answer.

use super::{Deviation, ReadingNotes};
use crate::plan::ReadingMode;
use crate::tree::FileTree;
use crate::verdict::{FailReason, Verdict};

/// The two readings of an answer: of files, or of what else is made of them.
///
/// The strict one takes an answer exactly if there are no deviations; both are the same then.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading<F = FileTree> {
    /// What the lenient reader found, or why it found nothing.
    pub lenient: Result<F, FailReason>,
    /// What the lenient reader forgave, each once, in the order of [`Deviation::ALL`].
    pub deviations: Vec<Deviation>,
    /// Whether parts are left out.
    pub gaps: Gaps,
    /// What each block of the answer was taken for, and what was done to the code.
    pub notes: ReadingNotes,
    /// What is wrong with an answer in which nothing was found, in words for who sent it.
    pub fault: Option<String>,
}

/// Whether an answer leaves parts out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Gaps {
    /// Nothing says so.
    None,
    /// A comment could be read so. It explains that code does not build.
    Hinted,
    /// A comment says so, by three dots or the like. It explains that code does not build or run.
    Marked,
    /// Something is missing. It explains any failure.
    Shown,
}

impl<F> Reading<F> {
    /// An answer in which nothing was found.
    pub(super) fn nothing(reason: FailReason) -> Self {
        Self {
            lenient: Err(reason),
            deviations: vec![Deviation::NothingFound],
            gaps: Gaps::None,
            notes: ReadingNotes::default(),
            fault: None,
        }
    }

    /// One that came as files or as a change, so that nothing had to be found.
    pub(super) fn plain(found: F) -> Self {
        Self {
            lenient: Ok(found),
            deviations: Vec::new(),
            gaps: Gaps::None,
            notes: ReadingNotes::default(),
            fault: None,
        }
    }

    /// With these deviations, put in order.
    pub(super) fn with(mut self, deviations: impl IntoIterator<Item = Deviation>) -> Self {
        self.deviations.extend(deviations);
        self.deviations.sort_unstable();
        self.deviations.dedup();
        self
    }

    /// The same readings of something else.
    #[must_use]
    pub fn map<G>(self, make: impl Fn(F) -> G) -> Reading<G> {
        Reading {
            lenient: self.lenient.map(make),
            deviations: self.deviations,
            gaps: self.gaps,
            notes: self.notes,
            fault: self.fault,
        }
    }

    /// What a strict reader takes; `None` when the answer is not what was asked for.
    #[must_use]
    pub fn strict(&self) -> Option<&F> {
        self.lenient.as_ref().ok().filter(|_| self.deviations.is_empty())
    }

    /// The verdict that counts: a failure that gaps in the answer explain has `incomplete` as its
    /// reason. A block that does not end explains only that the code does not build.
    #[must_use]
    pub fn explained(&self, verdict: Verdict) -> Verdict {
        use FailReason::{Crashed, DidNotBuild, Incomplete, WrongResult};
        let Verdict::Fail(reason) = verdict else { return verdict };
        let unclosed = self.deviations.contains(&Deviation::UnclosedFence);
        let is_explained = match reason {
            DidNotBuild => unclosed || self.gaps >= Gaps::Hinted,
            Crashed => self.gaps >= Gaps::Marked,
            WrongResult => self.gaps == Gaps::Shown,
            _ => false,
        };
        if is_explained { Verdict::Fail(Incomplete) } else { verdict }
    }

    /// What is judged under `mode`.
    ///
    /// # Errors
    /// Why there is nothing to judge.
    pub fn judged(&self, mode: ReadingMode) -> Result<&F, FailReason> {
        let found = self.lenient.as_ref().map_err(|&reason| reason)?;
        match mode {
            ReadingMode::Strict if !self.deviations.is_empty() => Err(FailReason::NotAsAsked),
            ReadingMode::Strict | ReadingMode::Lenient => Ok(found),
        }
    }
}
