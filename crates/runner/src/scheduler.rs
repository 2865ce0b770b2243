//! The whole run as a state machine: which trial is begun next, and when it is over.

use std::collections::{BTreeMap, VecDeque};

use fairtrial_core::schedule::TrialKey;

/// Trials of a candidate that may be spoiled by its host one after the other before it is no
/// longer asked.
const SPOILED_MAX: u32 = 5;

/// How a trial ended, as far as the run is concerned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TrialEnd {
    /// With a verdict about the candidate, or about this machine.
    Decided,
    /// Spoiled by the candidate's host; the text says how.
    Spoiled(String),
    /// Not yet: the run was stopped while it was under way.
    Interrupted,
    /// Not at all: asking this candidate is no use for now; the text says why.
    Halted(String),
}

/// Which trials are waiting, under way, and over.
#[derive(Debug)]
pub struct Scheduler {
    waiting: VecDeque<TrialKey>,
    under_way: usize,
    parallel: usize,
    stopped: bool,
    spoiled: BTreeMap<String, u32>,
    halted: BTreeMap<String, String>,
    not_run: usize,
}

impl Scheduler {
    /// A run that holds `trials` in this order, `parallel` at a time.
    #[must_use]
    pub fn new(trials: Vec<TrialKey>, parallel: usize) -> Self {
        Self {
            waiting: trials.into(),
            under_way: 0,
            parallel: parallel.max(1),
            stopped: false,
            spoiled: BTreeMap::new(),
            halted: BTreeMap::new(),
            not_run: 0,
        }
    }

    /// The next trial to begin; `None` when there is none, or enough are under way.
    pub fn begin(&mut self) -> Option<TrialKey> {
        if self.stopped || self.under_way >= self.parallel {
            return None;
        }
        while let Some(key) = self.waiting.pop_front() {
            if self.halted.contains_key(&key.candidate) {
                self.not_run += 1;
                continue;
            }
            self.under_way += 1;
            return Some(key);
        }
        None
    }

    /// Takes note that a trial is no longer under way.
    pub fn end(&mut self, candidate: &str, ended: TrialEnd) {
        self.under_way = self.under_way.saturating_sub(1);
        match ended {
            TrialEnd::Decided => {
                self.spoiled.remove(candidate);
            }
            TrialEnd::Spoiled(why) => {
                let count = self.spoiled.entry(candidate.to_owned()).or_default();
                *count += 1;
                if *count >= SPOILED_MAX {
                    self.halt(candidate, why);
                }
            }
            TrialEnd::Interrupted => self.not_run += 1,
            TrialEnd::Halted(why) => {
                self.not_run += 1;
                self.halt(candidate, why);
            }
        }
    }

    fn halt(&mut self, candidate: &str, why: String) {
        self.halted.entry(candidate.to_owned()).or_insert(why);
    }

    /// Begins nothing more.
    pub fn stop(&mut self) {
        self.stopped = true;
        self.not_run += self.waiting.len();
        self.waiting.clear();
    }

    /// Whether everything is over.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.under_way == 0 && (self.stopped || self.waiting.is_empty())
    }

    /// Trials under way.
    #[must_use]
    pub fn under_way(&self) -> usize {
        self.under_way
    }

    /// Candidates that are no longer asked, and why.
    #[must_use]
    pub fn halted(&self) -> &BTreeMap<String, String> {
        &self.halted
    }

    /// Trials that were given up: not run, and not void.
    #[must_use]
    pub fn not_run(&self) -> usize {
        self.not_run
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn trials(candidates: &[&str], count: u32) -> Vec<TrialKey> {
        let key = |sample| {
            candidates.iter().map(move |candidate| TrialKey {
                candidate: (*candidate).to_owned(),
                task: "gap".to_owned(),
                sample,
            })
        };
        (1..=count).flat_map(key).collect()
    }

    #[test]
    fn no_more_than_allowed_are_under_way() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 3), 2);
        assert!(scheduler.begin().is_some() && scheduler.begin().is_some());
        assert_eq!(scheduler.begin(), None);
        scheduler.end("auk", TrialEnd::Decided);
        assert!(scheduler.begin().is_some());
        scheduler.end("auk", TrialEnd::Decided);
        assert!(!scheduler.is_over());
        scheduler.end("auk", TrialEnd::Decided);
        assert!(scheduler.is_over());
    }

    #[test]
    fn a_halted_candidate_does_not_stop_the_others() {
        let mut scheduler = Scheduler::new(trials(&["auk", "tern"], 3), 1);
        let mut passed = Vec::new();
        while let Some(key) = scheduler.begin() {
            let ended = match key.candidate.as_str() {
                "auk" => TrialEnd::Halted("wrong key".to_owned()),
                _ => TrialEnd::Decided,
            };
            scheduler.end(&key.candidate, ended);
            passed.push(key.candidate);
        }
        assert_eq!(passed, ["auk", "tern", "tern", "tern"]);
        assert_eq!((scheduler.not_run(), scheduler.halted()["auk"].as_str()), (3, "wrong key"));
    }

    #[test]
    fn a_host_that_comes_back_in_time_is_asked_on() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 20), 1);
        for round in 0..10 {
            scheduler.begin().unwrap();
            let ended =
                if round % 5 == 4 { TrialEnd::Decided } else { TrialEnd::Spoiled("503".into()) };
            scheduler.end("auk", ended);
        }
        assert!(scheduler.halted().is_empty());
        for _ in 0..5 {
            scheduler.begin().unwrap();
            scheduler.end("auk", TrialEnd::Spoiled("503".into()));
        }
        assert_eq!(scheduler.begin(), None);
        assert_eq!(scheduler.not_run(), 5);
    }

    #[test]
    fn a_stop_lets_what_is_under_way_end() {
        let mut scheduler = Scheduler::new(trials(&["auk"], 5), 2);
        scheduler.begin();
        scheduler.stop();
        assert_eq!(scheduler.begin(), None);
        assert!(!scheduler.is_over());
        scheduler.end("auk", TrialEnd::Decided);
        assert!(scheduler.is_over());
        assert_eq!(scheduler.not_run(), 4);
    }
}
