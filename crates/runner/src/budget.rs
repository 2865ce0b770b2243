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
}

impl BudgetWatch {
    /// With what earlier sessions spent.
    pub fn new<'a>(plan: &Plan, known: impl Iterator<Item = &'a TrialSummary>) -> Self {
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
        let run = Spending { time: now, ..self.run.1 };
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

    /// When the run's time is up; `None`: it has as much as it takes.
    pub fn deadline(&self) -> Option<Duration> {
        self.run.0.time.map(|it| it.0)
    }

    /// The caps that were reached, with what was spent, at the time `now` of the session.
    pub fn reached(&self, now: Duration) -> Vec<CapReached> {
        let spent = |owner: &CapOwner| match owner {
            CapOwner::Run => Spending { time: now, ..self.run.1 },
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
