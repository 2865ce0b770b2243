//! What a session does when a cap is reached.

use std::time::Duration;

use fairtrial_core::schedule::TrialKey;
use fairtrial_core::verdict::{Verdict, VoidReason};
use fairtrial_record::RecordError;

use super::{BUDGET_REACHED, Session};
use crate::news::RunNews;
use crate::scheduler::TrialEnd;

impl Session<'_> {
    /// Sees whether a cap is reached: then nothing more is asked that it binds, and what is left is void.
    pub(super) fn keep_to_budget(&mut self, now: Duration) -> Result<(), RecordError> {
        for owner in self.budget.newly_reached(now, self.trials.keys()) {
            // What was left off may have an answer that was paid for: it is begun, and ends where it would ask.
            let known = &self.known;
            let is_left_off = |it: &TrialKey| known.get(it).is_some_and(|it| it.verdict.is_none());
            let withdrawn = self.scheduler.withdraw(|it| owner.binds(it) && !is_left_off(it));
            let spec = self.spec;
            let prompt = |key: &TrialKey| {
                let manner = spec.world.manner(&key.candidate);
                spec.tasks[&key.task].first_prompt(&key.candidate, manner)
            };
            // Those that were void before stay what they are.
            let (old, new): (Vec<_>, Vec<_>) =
                withdrawn.not_begun.into_iter().partition(|it| self.known.contains_key(it));
            let rows: Vec<_> = new.iter().map(|key| (key, prompt(key))).collect();
            self.record.void_trials(&rows, VoidReason::BudgetReached, &spec.world.now())?;
            for key in &new {
                self.counter.count(key, Verdict::Void(VoidReason::BudgetReached));
            }
            for key in &old {
                let verdict = self.known.get(key).and_then(|it| it.verdict);
                self.counter.count(key, verdict.unwrap_or(BUDGET_REACHED));
            }
            for key in withdrawn.waiting {
                self.end(&key, BUDGET_REACHED, TrialEnd::Decided, now)?;
            }
            self.deny(withdrawn.requests);
            self.end_acting(|it| owner.binds(it));
            self.observer.happened(&RunNews::CapReached { owner: &owner });
            self.tell(now);
        }
        Ok(())
    }
}
