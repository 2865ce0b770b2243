//! What a run has spent, and which caps that reaches.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use fairtrial_core::plan::{Cap, Plan, Spending, SpendingCaps};
use fairtrial_core::schedule::TrialKey;
use fairtrial_record::TrialSummary;

/// Whose cap it is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum CapOwner {
    /// The whole run's.
    Run,
    /// One candidate's.
    Candidate(String),
    /// One trial's.
    Trial(TrialKey),
}

impl CapOwner {
    /// Whether a trial is bound by it.
    #[must_use]
    pub fn binds(&self, key: &TrialKey) -> bool {
        match self {
            Self::Run => true,
            Self::Candidate(name) => *name == key.candidate,
            Self::Trial(trial) => trial == key,
        }
    }
}

/// A cap that was reached.
#[derive(Debug, Clone, PartialEq)]
pub struct CapReached {
    /// Whose it is.
    pub owner: CapOwner,
    /// Which one.
    pub cap: Cap,
    /// What was spent in the end: more than the cap by what was under way when it was reached.
    pub spent: Spending,
}

/// What a run has spent, and what it may.
pub struct BudgetWatch {
    run: (SpendingCaps, Spending),
    candidates: BTreeMap<String, (SpendingCaps, Spending)>,
    trial: SpendingCaps,
    trials: HashMap<TrialKey, Spending>,
    reached: BTreeMap<CapOwner, Cap>,
    /// The time that earlier sessions took.
    before: Duration,
}

/// How long anything was under way, of spans that may overlap: each from when, and for how long.
pub fn time_under_way(mut spans: Vec<(Duration, Duration)>) -> Duration {
    spans.sort_unstable();
    let (mut sum, mut until) = (Duration::ZERO, Duration::ZERO);
    for (from, length) in spans {
        let end = from.saturating_add(length);
        sum += end.saturating_sub(from.max(until));
        until = until.max(end);
    }
    sum
}

impl BudgetWatch {
    /// With what earlier sessions spent, and the time that they took.
    pub fn new<'a>(
        plan: &Plan,
        known: impl Iterator<Item = &'a TrialSummary>,
        before: Duration,
    ) -> Self {
        let caps = |own: SpendingCaps| if own.is_none() { plan.budget.candidate } else { own };
        let candidate = |it: &fairtrial_core::plan::Candidate| {
            (it.name().to_owned(), (caps(it.budget()), Spending::default()))
        };
        let mut watch = Self {
            run: (plan.budget.run(), Spending::default()),
            candidates: plan.candidates.iter().map(candidate).collect(),
            trial: plan.budget.trial,
            trials: HashMap::new(),
            reached: BTreeMap::new(),
            before,
        };
        for trial in known {
            watch.spend(
                &trial.key,
                Spending {
                    money: trial.cost,
                    tokens: trial.tokens.input + trial.tokens.output,
                    time: Duration::try_from_secs_f64(trial.seconds).unwrap_or_default(),
                },
            );
        }
        watch
    }

    /// Takes note of what a trial spent.
    pub fn spend(&mut self, key: &TrialKey, spent: Spending) {
        self.run.1 += spent;
        if let Some((_, sum)) = self.candidates.get_mut(&key.candidate) {
            *sum += spent;
        }
        if !self.trial.is_none() {
            *self.trials.entry(key.clone()).or_default() += spent;
        }
    }

    /// SpendingCaps that are reached since this was last asked, at the time `now` of the session: the run's, those of candidates,
    /// and those of the trials in `under_way`.
    pub fn newly_reached<'a>(
        &mut self,
        now: Duration,
        under_way: impl Iterator<Item = &'a TrialKey>,
    ) -> Vec<CapOwner> {
        let run = Spending { time: self.before + now, ..self.run.1 };
        let mut found = Vec::new();
        found.extend(self.run.0.reached(&run).map(|cap| (CapOwner::Run, cap)));
        for (name, (caps, spent)) in &self.candidates {
            found.extend(caps.reached(spent).map(|cap| (CapOwner::Candidate(name.clone()), cap)));
        }
        if !self.trial.is_none() {
            for key in under_way {
                let reached = self.trials.get(key).and_then(|it| self.trial.reached(it));
                found.extend(reached.map(|cap| (CapOwner::Trial(key.clone()), cap)));
            }
        }
        let is_new = |it: &(CapOwner, Cap)| !self.reached.contains_key(&it.0);
        let new: Vec<_> = found.into_iter().filter(is_new).collect();
        self.reached.extend(new.iter().cloned());
        new.into_iter().map(|it| it.0).collect()
    }

    /// Whether a cap that binds a trial is reached.
    pub fn binds(&self, key: &TrialKey) -> bool {
        self.reached.contains_key(&CapOwner::Run)
            || self.reached.contains_key(&CapOwner::Candidate(key.candidate.clone()))
            || self.reached.contains_key(&CapOwner::Trial(key.clone()))
    }

    /// When the run's time is up, by the time of the session; `None`: it has as much as it takes.
    pub fn deadline(&self) -> Option<Duration> {
        self.run.0.time.map(|it| it.0.saturating_sub(self.before))
    }

    /// The caps that were reached, with what was spent, at the time `now` of the session.
    pub fn reached(&self, now: Duration) -> Vec<CapReached> {
        let spent = |owner: &CapOwner| match owner {
            CapOwner::Run => Spending { time: self.before + now, ..self.run.1 },
            CapOwner::Candidate(name) => {
                self.candidates.get(name).map(|it| it.1).unwrap_or_default()
            }
            CapOwner::Trial(key) => self.trials.get(key).copied().unwrap_or_default(),
        };
        let reached = self.reached.iter();
        reached
            .map(|(owner, cap)| CapReached { owner: owner.clone(), cap: *cap, spent: spent(owner) })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_overlaps_is_counted_once_and_a_pause_not_at_all() {
        let span = |from, length| (Duration::from_secs(from), Duration::from_secs(length));
        for (spans, sum) in [
            (vec![], 0),
            (vec![span(10, 5), span(12, 1), span(14, 4)], 8),
            (vec![span(1000, 2), span(10, 5)], 7),
            (vec![span(10, 5), span(10, 5), span(15, 1)], 6),
        ] {
            assert_eq!(time_under_way(spans), Duration::from_secs(sum));
        }
    }
}
