//! What became of every trial, in one byte each, and sums for each candidate and task: whatever is said of a
//! run is computed from these.

use super::TaskFacts;
use crate::plan::Tokens;
use crate::trouble::Trouble;
use crate::verdict::{FailReason, Verdict, VoidReason};

/// What one trial that is over came to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrialFigures {
    /// Its verdict.
    pub verdict: Verdict,
    /// Answers that were judged; of a trial that passed, the last one did.
    pub answers: u32,
    /// Of these, those that a strict reader would not have taken as they were.
    pub deviating: u32,
    /// Whether it passed with an answer that a strict reader takes, too.
    pub strict: bool,
    /// The share of the task's points that the last answer earned, 0 to 1.
    pub credit: f64,
    /// Seconds that the candidate took to answer, faults of the host left out.
    pub seconds: f64,
    /// Tokens of all requests.
    pub tokens: Tokens,
    /// What they cost, in the plan's currency.
    pub cost: f64,
    /// Whether some tokens are an estimate.
    pub estimated: bool,
    /// Trouble on the way; `None`: it was not looked for.
    pub trouble: Option<Trouble>,
    /// Whether a person helped.
    pub helped: bool,
}

/// One byte of [`Results`]: nothing, passed at an attempt, failed or void for a reason.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct OutcomeCode(u8);

/// Most attempts that are told apart, as many as a plan may allow.
const ATTEMPTS_MAX: u32 = 100;
/// Where failures begin.
const FAILED: u8 = 128;
/// Where void trials begin.
const VOID: u8 = 192;

impl OutcomeCode {
    fn of(figures: &TrialFigures) -> Self {
        let place = |at: Option<usize>| at.unwrap_or(0) as u8;
        Self(match figures.verdict {
            Verdict::Pass => figures.answers.clamp(1, ATTEMPTS_MAX) as u8,
            Verdict::Fail(it) => FAILED + place(FailReason::ALL.iter().position(|r| *r == it)),
            Verdict::Void(it) => VOID + place(VoidReason::ALL.iter().position(|r| *r == it)),
        })
    }

    /// Whether the trial counts: it is over and not void.
    #[must_use]
    pub fn counts(self) -> bool {
        (1..VOID).contains(&self.0)
    }

    /// The attempt that passed.
    #[must_use]
    pub fn passed_at(self) -> Option<u32> {
        (1..FAILED).contains(&self.0).then(|| u32::from(self.0))
    }

    /// Why it failed.
    #[must_use]
    pub fn failed(self) -> Option<FailReason> {
        let at = usize::from(self.0.checked_sub(FAILED)?);
        if self.0 < VOID { FailReason::ALL.get(at).copied() } else { None }
    }

    /// Why it is void.
    #[must_use]
    pub fn void(self) -> Option<VoidReason> {
        VoidReason::ALL.get(usize::from(self.0.checked_sub(VOID)?)).copied()
    }
}

/// What is summed over the trials of one candidate at one task.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct CellSums {
    /// Answers judged in trials that count.
    pub answers: u32,
    /// Of these, those that a strict reader would not have taken as they were.
    pub deviating: u32,
    /// Trials that passed with an answer that a strict reader takes.
    pub strict: u32,
    /// Shares of points earned, over trials that count.
    pub credit: f64,
    /// Seconds to answer, over trials that count.
    pub seconds: f64,
    /// Tokens over all trials that are over.
    pub tokens: Tokens,
    /// What they cost.
    pub cost: f64,
    /// Trials with estimated tokens.
    pub estimated: u32,
    /// Trials that count in which trouble was looked for.
    pub looked_for: u32,
    /// In how many of these each sort was seen.
    pub trouble: Trouble,
    /// Trials in which a person helped.
    pub helped: u32,
    /// Of these, those that passed.
    pub helped_passed: u32,
}

/// Counts that a stranger's record makes up do not overflow: they stop at the highest number.
impl CellSums {
    fn add(&mut self, trial: &TrialFigures) {
        self.tokens.input = self.tokens.input.saturating_add(trial.tokens.input);
        self.tokens.cached = self.tokens.cached.saturating_add(trial.tokens.cached);
        self.tokens.output = self.tokens.output.saturating_add(trial.tokens.output);
        self.cost += trial.cost;
        self.estimated += u32::from(trial.estimated);
        self.helped += u32::from(trial.helped);
        self.helped_passed += u32::from(trial.helped && trial.verdict.is_pass());
        if trial.verdict.is_void() {
            return;
        }
        self.answers = self.answers.saturating_add(trial.answers);
        self.deviating = self.deviating.saturating_add(trial.deviating);
        self.strict = self.strict.saturating_add(u32::from(trial.strict));
        self.credit += trial.credit;
        self.seconds += trial.seconds;
        if let Some(trouble) = trial.trouble {
            self.looked_for += 1;
            self.trouble = self.trouble.and(trouble.seen());
        }
    }

    /// Adds another's sums.
    pub fn merge(&mut self, other: &Self) {
        self.answers = self.answers.saturating_add(other.answers);
        self.deviating = self.deviating.saturating_add(other.deviating);
        self.strict = self.strict.saturating_add(other.strict);
        self.credit += other.credit;
        self.seconds += other.seconds;
        self.tokens.input = self.tokens.input.saturating_add(other.tokens.input);
        self.tokens.cached = self.tokens.cached.saturating_add(other.tokens.cached);
        self.tokens.output = self.tokens.output.saturating_add(other.tokens.output);
        self.cost += other.cost;
        self.estimated += other.estimated;
        self.looked_for += other.looked_for;
        self.trouble = self.trouble.and(other.trouble);
        self.helped += other.helped;
        self.helped_passed += other.helped_passed;
    }
}

/// What became of every trial of a run, by candidate, task and sample.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Results {
    candidates: Vec<String>,
    pub(super) tasks: Vec<TaskFacts>,
    samples: usize,
    outcomes: Vec<OutcomeCode>,
    sums: Vec<CellSums>,
}

impl Results {
    /// Without any trial yet: who stands trial, at which tasks, with so many samples of each.
    #[must_use]
    pub fn new(candidates: Vec<String>, tasks: Vec<TaskFacts>, samples: usize) -> Self {
        let cells = candidates.len() * tasks.len();
        let outcomes = vec![OutcomeCode::default(); cells * samples];
        Self { candidates, tasks, samples, outcomes, sums: vec![CellSums::default(); cells] }
    }

    /// Adds a trial that is over, `sample` from 1. What lies outside of what there is, is left out: a run may
    /// have gone on since the plan was read.
    pub fn add(&mut self, candidate: usize, task: usize, sample: usize, trial: &TrialFigures) {
        let is_inside = candidate < self.candidates.len() && task < self.tasks.len();
        if !is_inside || !(1..=self.samples).contains(&sample) {
            return;
        }
        let cell = candidate * self.tasks.len() + task;
        self.outcomes[cell * self.samples + sample - 1] = OutcomeCode::of(trial);
        self.sums[cell].add(trial);
    }

    /// Puts the trials of further candidates in place of those of this one, which has none of them. Both are of
    /// the same candidates and tasks.
    pub fn take(&mut self, candidates: &[usize], other: &Self) {
        let tasks = self.tasks.len();
        for &it in candidates {
            let cells = it * tasks..(it + 1) * tasks;
            self.sums[cells.clone()].copy_from_slice(&other.sums[cells.clone()]);
            let outcomes = cells.start * self.samples..cells.end * self.samples;
            self.outcomes[outcomes.clone()].copy_from_slice(&other.outcomes[outcomes]);
        }
    }

    /// The candidates' names.
    #[must_use]
    pub fn candidates(&self) -> &[String] {
        &self.candidates
    }

    /// The tasks.
    #[must_use]
    pub fn tasks(&self) -> &[TaskFacts] {
        &self.tasks
    }

    /// Samples of each task.
    #[must_use]
    pub fn samples(&self) -> usize {
        self.samples
    }

    /// What the trials of a candidate at a task came to, one for each sample.
    #[must_use]
    pub fn outcomes(&self, candidate: usize, task: usize) -> &[OutcomeCode] {
        let from = (candidate * self.tasks.len() + task) * self.samples;
        &self.outcomes[from..from + self.samples]
    }

    /// Their sums.
    #[must_use]
    pub fn sums(&self, candidate: usize, task: usize) -> &CellSums {
        &self.sums[candidate * self.tasks.len() + task]
    }

    /// Trials that passed within so many attempts, and trials that count.
    #[must_use]
    pub fn counts(&self, candidate: usize, task: usize, within: u32) -> (u32, u32) {
        let add = |(passed, trials): (u32, u32), it: &OutcomeCode| {
            let pass = it.passed_at().is_some_and(|at| at <= within);
            (passed + u32::from(pass), trials + u32::from(it.counts()))
        };
        self.outcomes(candidate, task).iter().fold((0, 0), add)
    }

    /// Trials that are over, void ones too.
    #[must_use]
    pub fn over(&self) -> usize {
        self.outcomes.iter().filter(|it| **it != OutcomeCode::default()).count()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_outcome_survives_its_byte() {
        let figures =
            |verdict, answers| TrialFigures { verdict, answers, ..super::super::tests::plain() };
        for attempt in [1, 2, 100] {
            let code = OutcomeCode::of(&figures(Verdict::Pass, attempt));
            assert_eq!((code.passed_at(), code.counts()), (Some(attempt), true));
            assert_eq!((code.failed(), code.void()), (None, None));
        }
        for &reason in FailReason::ALL {
            let code = OutcomeCode::of(&figures(Verdict::Fail(reason), 3));
            assert_eq!((code.failed(), code.passed_at(), code.void()), (Some(reason), None, None));
            assert!(code.counts());
        }
        for &reason in VoidReason::ALL {
            let code = OutcomeCode::of(&figures(Verdict::Void(reason), 0));
            assert_eq!((code.void(), code.failed(), code.counts()), (Some(reason), None, false));
        }
    }
}
