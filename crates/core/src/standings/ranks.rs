//! Ranks, as far as the decisions on pairs fix them.
//!
//! A candidate's true rank lies between 1 + the number that is established better and n − the number that is
//! established worse (Mogstad, Romano, Shaikh and Wilhelm, Review of Economic Studies 91, 2024). Where the
//! decisions hold at once at the 5 % level, so do all these ranges.

use std::cmp::Ordering;

use super::{Comparison, Standing};

/// Sets ranks and their ranges. `comparisons` has every pair, in the order of the candidates.
pub fn set(candidates: &mut [Standing], comparisons: &[Comparison]) {
    let all = candidates.len();
    let decision = |a: usize, b: usize| {
        let (first, second) = (a.min(b), a.max(b));
        // Pairs before those of `first`, and then before that with `second`.
        let at = first * all - first * (first + 1) / 2 + (second - first - 1);
        let found = comparisons.get(at).map_or(Ordering::Equal, Comparison::decision);
        if a < b { found } else { found.reverse() }
    };
    let counted: Vec<usize> = (0..all).filter(|&it| candidates[it].trials > 0).collect();
    for &own in &counted {
        let among = |wanted: Ordering| {
            counted.iter().filter(|&&it| it != own && decision(own, it) == wanted).count()
        };
        let (better, worse) = (among(Ordering::Less), among(Ordering::Greater));
        candidates[own].rank_range = Some((1 + better, counted.len() - worse));
    }
    let mut rank = 1;
    for (place, &own) in counted.iter().enumerate() {
        let (above, below) = counted.split_at(place);
        let beats = |a: usize| below.iter().all(|&b| decision(a, b) == Ordering::Greater);
        if place > 0 && above.iter().all(|&a| beats(a)) {
            rank = place + 1;
        }
        candidates[own].rank = Some(rank);
    }
}
