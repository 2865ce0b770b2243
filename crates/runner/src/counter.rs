//! How far a run is.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::{RequestResult, TrialSummary};

use crate::scheduler::CandidateState;

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
    /// Answers that were taken over from another record, of this session.
    pub reused: usize,
    /// Trials under way.
    pub under_way: usize,
    /// Answers being judged.
    pub judging: usize,
    /// Answers that wait to be judged.
    pub to_judge: usize,
    /// How long the session has taken.
    pub elapsed: Duration,
}

/// How far one candidate is.
#[derive(Debug, Clone, PartialEq)]
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
    /// Money spent, earlier sessions too, in the plan's currency.
    pub cost: f64,
    /// Tokens written, of this session.
    pub written: u64,
    /// Seconds that these took.
    pub seconds: f64,
    /// What it is doing.
    pub state: CandidateState,
}

impl CandidateProgress {
    /// One of which nothing is known yet.
    #[must_use]
    pub fn new(name: &str, total: usize) -> Self {
        Self {
            name: name.to_owned(),
            total,
            counted: 0,
            passed: 0,
            void: 0,
            cost: 0.0,
            written: 0,
            seconds: 0.0,
            state: CandidateState::Asking,
        }
    }

    /// Tokens written a second, of the answers of this session; `None` before the first.
    #[must_use]
    pub fn tokens_per_second(&self) -> Option<f64> {
        (self.seconds > 0.0 && self.written > 0).then(|| self.written as f64 / self.seconds)
    }
}

/// What a candidate's first trial came to.
#[derive(Debug, Clone, PartialEq)]
pub struct FirstLook {
    /// Which trial.
    pub key: TrialKey,
    /// What its first answer, or the lack of one, came to.
    pub verdict: Verdict,
}

/// Counts what is over.
pub struct Counter {
    pub progress: Progress,
    pub unanswered: usize,
    pub void: BTreeMap<VoidReason, usize>,
    pub looked: Vec<FirstLook>,
    pub left_out: usize,
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
        let candidate =
            |name: &&str| CandidateProgress::new(name, totals.get(name).copied().unwrap_or(0));
        let progress = Progress {
            total: order.len(),
            over: 0,
            over_now: 0,
            candidates: names.iter().map(candidate).collect(),
            cost: known.values().map(|it| it.cost).sum(),
            reused: 0,
            under_way: 0,
            judging: 0,
            to_judge: 0,
            elapsed: Duration::ZERO,
        };
        let mut counter = Self {
            progress,
            unanswered: 0,
            void: BTreeMap::new(),
            looked: Vec::new(),
            left_out: 0,
        };
        for trial in known.values() {
            if let Some(row) = counter.row(&trial.key.candidate) {
                row.cost += trial.cost;
            }
        }
        let waiting: HashSet<&TrialKey> = waiting.iter().collect();
        for key in order.iter().filter(|key| !waiting.contains(key)) {
            if let Some(verdict) = known.get(key).and_then(|it| it.verdict) {
                counter.count(key, verdict);
            }
        }
        counter.progress.over_now = 0;
        counter
    }

    fn row(&mut self, candidate: &str) -> Option<&mut CandidateProgress> {
        self.progress.candidates.iter_mut().find(|it| it.name == candidate)
    }

    /// Counts what a request cost.
    pub fn spend(&mut self, candidate: &str, result: &RequestResult) {
        self.progress.cost += result.cost;
        if let Some(row) = self.row(candidate) {
            row.cost += result.cost;
            if result.outcome == "answered" {
                row.written += result.tokens.output;
                row.seconds += result.seconds;
            }
        }
    }

    /// Counts a trial that is over.
    pub fn count(&mut self, key: &TrialKey, verdict: Verdict) {
        self.progress.over += 1;
        self.progress.over_now += 1;
        if let Verdict::Void(reason) = verdict {
            *self.void.entry(reason).or_default() += 1;
        }
        if let Some(known) = self.row(&key.candidate) {
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
        counter.count(&key("skiff", 1), Verdict::Pass);
        let rows = counter.progress.candidates.iter();
        let rows: Vec<_> = rows.map(|it| (it.total, it.counted)).collect();
        assert_eq!(rows, [(2, 0), (1, 1), (0, 0)]);
    }
}
