//! In which order trials are run.
//!
//! Every (task, sample) pair is one round in which all candidates have a trial, so that a slow
//! hour of a host, or a busy one of this machine, meets all of them alike. Rounds, and candidates
//! within a round, are shuffled by the plan's seed.

use chacha20::ChaCha8Rng;
use chacha20::rand_core::{Rng as _, SeedableRng as _};
use serde::{Deserialize, Serialize};

/// Which trial: one candidate's try at one task.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct TrialKey {
    /// The candidate's name.
    pub candidate: String,
    /// The task's name.
    pub task: String,
    /// Which sample, from 1.
    pub sample: u32,
}

/// Every trial of a run, in the order in which they are begun.
#[must_use]
pub fn schedule(candidates: &[&str], tasks: &[&str], samples: u32, seed: u64) -> Vec<TrialKey> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut rounds: Vec<(&str, u32)> =
        tasks.iter().flat_map(|&task| (1..=samples).map(move |sample| (task, sample))).collect();
    shuffle(&mut rounds, &mut rng);
    let mut order = Vec::with_capacity(rounds.len() * candidates.len());
    for (task, sample) in rounds {
        let mut round = candidates.to_vec();
        shuffle(&mut round, &mut rng);
        order.extend(round.into_iter().map(|candidate| TrialKey {
            candidate: candidate.to_owned(),
            task: task.to_owned(),
            sample,
        }));
    }
    order
}

/// Durstenfeld's form of the Fisher-Yates shuffle (Communications of the ACM 7(7), 1964).
fn shuffle<T>(items: &mut [T], rng: &mut ChaCha8Rng) {
    for last in (1..items.len()).rev() {
        items.swap(last, below(rng, last as u64 + 1) as usize);
    }
}

/// An even draw from 0 to `bound - 1`: draws that would favour the low end are thrown away.
fn below(rng: &mut ChaCha8Rng, bound: u64) -> u64 {
    let fair = u64::MAX - u64::MAX % bound;
    loop {
        let draw = rng.next_u64();
        if draw < fair {
            return draw % bound;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn every_trial_is_there_once_and_rounds_hold_all_candidates() {
        let order = schedule(&["a", "b", "c"], &["t", "u"], 4, 7);
        assert_eq!(order.iter().collect::<BTreeSet<_>>().len(), 24);
        for round in order.chunks(3) {
            let names: BTreeSet<_> = round.iter().map(|key| key.candidate.as_str()).collect();
            assert_eq!(names.len(), 3);
            assert!(round.iter().all(|key| key.task == round[0].task));
        }
    }

    #[test]
    fn the_seed_decides() {
        let order = |seed| schedule(&["a", "b", "c"], &["t", "u", "v"], 3, seed);
        assert_eq!(order(1), order(1));
        assert_ne!(order(1), order(2));
    }

    #[test]
    fn no_candidate_is_first_more_often() {
        let order = schedule(&["a", "b"], &["t"], 1000, 3);
        let first = order.chunks(2).filter(|round| round[0].candidate == "a").count();
        assert!((430..570).contains(&first), "{first}");
    }
}
