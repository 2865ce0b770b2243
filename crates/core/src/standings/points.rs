//! Points: partial credit, and tasks and categories that weigh more than others.

use std::collections::BTreeMap;

use super::{Results, Scope};

/// The share of points that a candidate earned over the tasks of a scope that it has trials at; `None` without
/// any.
///
/// A task gives its points times the mean credit of its trials that count: 1 where one passed, else what its
/// last answer earned. Where a docket weighs categories, the shares are taken by category and averaged with
/// these weights (1 where a category has none); otherwise all points are added up.
#[must_use]
pub fn points_rate(results: &Results, scope: &Scope, candidate: usize) -> Option<f64> {
    // Earned and possible points, and the weight, by category.
    let mut categories = BTreeMap::<(&str, &str), (f64, f64, f64)>::new();
    let mut is_weighed = false;
    for &task in &scope.tasks {
        let (facts, sums) = (&results.tasks()[task], results.sums(candidate, task));
        let (passed, trials) = results.counts(candidate, task, u32::MAX);
        if trials == 0 {
            continue;
        }
        let within = results.counts(candidate, task, scope.within.unwrap_or(u32::MAX)).0;
        // What passed later than is asked for earned nothing until then, as far as the counts say.
        let credit = (sums.credit - f64::from(passed - within)) / f64::from(trials);
        is_weighed |= facts.weight.is_some();
        let own = categories.entry((&facts.docket, &facts.category)).or_default();
        own.0 += credit.clamp(0.0, 1.0) * facts.points;
        own.1 += facts.points;
        own.2 = facts.weight.unwrap_or(1.0);
    }
    let sum = |of: fn(&(f64, f64, f64)) -> f64| categories.values().map(of).sum::<f64>();
    let (earned, possible) = match is_weighed {
        true => (sum(|it| it.2 * it.0 / it.1), sum(|it| it.2)),
        false => (sum(|it| it.0), sum(|it| it.1)),
    };
    (possible > 0.0).then(|| earned / possible)
}
