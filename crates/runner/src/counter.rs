//! How far a run is.

use std::collections::{BTreeMap, HashMap, HashSet};

use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::TrialSummary;

/// How far a run is.
#[derive(Debug, Clone, PartialEq)]
pub struct Progress {
    /// Trials that the plan asks for.
    pub total: usize,
    /// Trials that are over, those of earlier sessions too.
    pub over: usize,
    /// Trials that are over, of this session.
    pub over_now: usize,
    /// The candidates, in the plan's order.
    pub candidates: Vec<CandidateProgress>,
    /// Money spent, earlier sessions too, in the plan's currency.
    pub cost: f64,
}

/// How far one candidate is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CandidateProgress {
    /// Its name.
    pub name: String,
    /// Trials that the plan asks of it.
    pub total: usize,
    /// Trials that count.
    pub counted: usize,
    /// Of these, passed.
    pub passed: usize,
    /// Void trials.
    pub void: usize,
}

/// Counts what is over.
pub struct Counter {
    pub progress: Progress,
    pub unanswered: usize,
    pub void: BTreeMap<VoidReason, usize>,
}

impl Counter {
    /// What the trials in `order` come to as far as they are `known` and not `waiting`.
    pub fn new(
        names: &[&str],
        order: &[TrialKey],
        known: &HashMap<TrialKey, TrialSummary>,
        waiting: &[TrialKey],
    ) -> Self {
        let mut totals = HashMap::<&str, usize>::new();
        for key in order {
            *totals.entry(key.candidate.as_str()).or_default() += 1;
        }
        let candidate = |name: &&str| CandidateProgress {
            name: (*name).to_owned(),
            total: totals.get(name).copied().unwrap_or(0),
            ..Default::default()
        };
        let progress = Progress {
            total: order.len(),
            over: 0,
            over_now: 0,
            candidates: names.iter().map(candidate).collect(),
            cost: known.values().map(|it| it.cost).sum(),
        };
        let mut counter = Self { progress, unanswered: 0, void: BTreeMap::new() };
        let waiting: HashSet<&TrialKey> = waiting.iter().collect();
        for key in order.iter().filter(|key| !waiting.contains(key)) {
            if let Some(verdict) = known.get(key).and_then(|it| it.verdict) {
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
        let known = self.progress.candidates.iter_mut().find(|it| it.name == candidate);
        if let Some(known) = known {
            known.counted += usize::from(!verdict.is_void());
            known.passed += usize::from(verdict.is_pass());
            known.void += usize::from(verdict.is_void());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_candidate_has_as_many_trials_as_the_plan_asks_of_it() {
        let key = |candidate: &str, sample| TrialKey {
            candidate: candidate.into(),
            task: "gap".into(),
            sample,
        };
        let order = [key("auk", 1), key("auk", 2), key("skiff", 1)];
        let mut counter = Counter::new(&["auk", "skiff", "tern"], &order, &HashMap::new(), &[]);
        counter.count("skiff", Verdict::Pass);
        let rows = counter.progress.candidates.iter();
        let rows: Vec<_> = rows.map(|it| (it.total, it.counted)).collect();
        assert_eq!(rows, [(2, 0), (1, 1), (0, 0)]);
    }
}
