//! How far a run is.

use std::collections::{BTreeMap, HashMap, HashSet};

use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::TrialRow;

/// How far a run is.
#[derive(Debug, Clone, PartialEq)]
pub struct Progress {
    /// Trials that the plan asks for.
    pub total: usize,
    /// Trials that are over, those of earlier sessions too.
    pub over: usize,
    /// Trials that are over, of this session.
    pub over_now: usize,
    /// For each candidate, in the plan's order: name, trials that count, trials passed, void ones.
    pub candidates: Vec<(String, usize, usize, usize)>,
    /// Money spent, earlier sessions too, in the plan's currency.
    pub cost: f64,
}

/// Counts what is over.
pub struct Counter {
    pub progress: Progress,
    pub unanswered: usize,
    pub void: BTreeMap<VoidReason, usize>,
}

impl Counter {
    pub fn new(
        names: &[&str],
        order: &[TrialKey],
        known: &HashMap<TrialKey, TrialRow>,
        waiting: &[TrialKey],
    ) -> Self {
        let progress = Progress {
            total: order.len(),
            over: 0,
            over_now: 0,
            candidates: names.iter().map(|name| ((*name).to_owned(), 0, 0, 0)).collect(),
            cost: known.values().fold(0.0, |sum, row| sum + row.cost()),
        };
        let mut counter = Self { progress, unanswered: 0, void: BTreeMap::new() };
        let waiting: HashSet<&TrialKey> = waiting.iter().collect();
        for key in order.iter().filter(|key| !waiting.contains(key)) {
            if let Some(verdict) = known.get(key).and_then(|row| row.verdict) {
                counter.count(&key.candidate, verdict);
            }
        }
        counter.progress.over_now = 0;
        counter
    }

    pub fn count(&mut self, candidate: &str, verdict: Verdict) {
        self.progress.over += 1;
        self.progress.over_now += 1;
        if let Verdict::Void(reason) = verdict {
            *self.void.entry(reason).or_default() += 1;
        }
        if let Some(row) = self.progress.candidates.iter_mut().find(|row| row.0 == candidate) {
            row.1 += usize::from(!verdict.is_void());
            row.2 += usize::from(verdict.is_pass());
            row.3 += usize::from(verdict.is_void());
        }
    }
}
