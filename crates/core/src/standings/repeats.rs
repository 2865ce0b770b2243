//! What repeats of the same task say, and repairs within a trial.

use super::{Results, Scope};

/// For k = 1, 2 … up to the most samples that a task has: the mean over tasks of the chance that at least one
/// of k samples, drawn without putting back, solves it: 1 − C(n − c, k) / C(n, k) for c of n solved. This is the
/// unbiased estimator of Chen et al., Evaluating Large Language Models Trained on Code, 2021, section 2.1. Tasks
/// with fewer than k samples that count are left out of the k-th figure. `tasks` are passed and counted trials.
#[must_use]
pub fn pass_at(tasks: &[(u32, u32)]) -> Vec<f64> {
    let most = tasks.iter().map(|it| it.1).max().unwrap_or(0);
    let of_task = |(passed, trials): (u32, u32), k: u32| {
        // The product of (n − c − i) / (n − i), which is the quotient of the binomials.
        let none: f64 = (0..k)
            .map(|i| f64::from((trials - passed).saturating_sub(i)) / f64::from(trials - i))
            .product();
        1.0 - none
    };
    let mean = |k: u32| {
        let (sum, count) = tasks
            .iter()
            .filter(|it| it.1 >= k)
            .fold((0.0, 0_u32), |(sum, count), &task| (sum + of_task(task, k), count + 1));
        sum / f64::from(count)
    };
    (1..=most).map(mean).collect()
}

/// The share of tasks that every sample solved; `None` without tasks. `tasks` are passed and counted trials.
#[must_use]
pub fn consistency(tasks: &[(u32, u32)]) -> Option<f64> {
    let always = tasks.iter().filter(|(passed, trials)| passed == trials).count();
    (!tasks.is_empty()).then(|| always as f64 / tasks.len() as f64)
}

/// How many tasks one repeat of all tasks solves, as people quote it: "16 of 24 ± 1".
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Spread {
    /// Repeats with a trial that counts.
    pub repeats: usize,
    /// Tasks solved, on average.
    pub mean: f64,
    /// The standard deviation of that from repeat to repeat, with n − 1; `None` with a single repeat.
    pub deviation: Option<f64>,
}

/// The spread of a candidate over the samples: the first of each task, the second of each, and so on. A repeat
/// in which some trials are void is taken as if these went as the others of it. `None` without a trial that
/// counts.
#[must_use]
pub fn spread(results: &Results, scope: &Scope, candidate: usize) -> Option<Spread> {
    let within = scope.within.unwrap_or(u32::MAX);
    let mut repeats = vec![(0_u32, 0_u32); results.samples()];
    let mut tasks = 0_u32;
    for &task in &scope.tasks {
        let outcomes = results.outcomes(candidate, task);
        tasks += u32::from(outcomes.iter().any(|it| it.counts()));
        for (repeat, outcome) in repeats.iter_mut().zip(outcomes) {
            repeat.0 += u32::from(outcome.passed_at().is_some_and(|at| at <= within));
            repeat.1 += u32::from(outcome.counts());
        }
    }
    let solved: Vec<f64> = repeats
        .into_iter()
        .filter(|it| it.1 > 0)
        .map(|(passed, trials)| f64::from(passed) / f64::from(trials) * f64::from(tasks))
        .collect();
    let n = solved.len() as f64;
    let mean = solved.iter().sum::<f64>() / n;
    let squares: f64 = solved.iter().map(|it| (it - mean).powi(2)).sum();
    let deviation = (solved.len() > 1).then(|| (squares / (n - 1.0)).sqrt());
    (!solved.is_empty()).then_some(Spread { repeats: solved.len(), mean, deviation })
}

/// The solved rate of a candidate after 1, 2 … `attempts` attempts: the repair curve. Empty without a trial that
/// counts.
#[must_use]
pub fn repair_curve(results: &Results, scope: &Scope, candidate: usize, attempts: u32) -> Vec<f64> {
    let attempts = attempts as usize;
    let (mut passed, mut trials) = (vec![0_u32; attempts], 0_u32);
    for &task in &scope.tasks {
        for outcome in results.outcomes(candidate, task) {
            trials += u32::from(outcome.counts());
            if let Some(at) = outcome.passed_at() {
                let last = attempts.saturating_sub(1);
                if let Some(place) = passed.get_mut((at as usize - 1).min(last)) {
                    *place += 1;
                }
            }
        }
    }
    if trials == 0 {
        return Vec::new();
    }
    let so_far = passed.iter().scan(0, |sum, it| {
        *sum += it;
        Some(*sum)
    });
    so_far.map(|it| f64::from(it) / f64::from(trials)).collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::{repeats, results};
    use super::*;

    fn near(found: &[f64], expected: &[f64]) {
        assert_eq!(found.len(), expected.len());
        for (a, b) in found.iter().zip(expected) {
            assert!((a - b).abs() < 1e-12, "{found:?} and {expected:?}");
        }
    }

    #[test]
    fn it_is_the_quotient_of_binomials_that_is_worked_out_by_hand() {
        // 5 samples, 2 solved: 1 − C(3,k)/C(5,k) = 2/5, 1 − 3/10, 1 − 1/10, 1, 1.
        near(&pass_at(&[(2, 5)]), &[0.4, 0.7, 0.9, 1.0, 1.0]);
        // The mean with a task that nothing solves, and one that all solve.
        near(&pass_at(&[(0, 2), (2, 2), (1, 2)]), &[0.5, 2.0 / 3.0]);
        // One with a sample less stands only in the first.
        near(&pass_at(&[(1, 2), (1, 1)]), &[0.75, 1.0]);
        assert_eq!(pass_at(&[]), [] as [f64; 0]);
    }

    #[test]
    fn the_spread_is_over_whole_repeats() {
        // Three repeats of four tasks: 3, 2 and 4 solved; the void trial counts as the rest of its repeat does.
        let results = repeats("tern", &["ppp", "pfp", "pfp", "fpp"]);
        let found = spread(&results, &Scope::all(&results), 0).unwrap();
        assert_eq!((found.repeats, found.mean, found.deviation), (3, 3.0, Some(1.0)));
        let results = repeats("tern", &["pv", "fp"]);
        let found = spread(&results, &Scope::all(&results), 0).unwrap();
        assert_eq!((found.mean, found.deviation), (1.5, Some(0.5_f64.sqrt())));
    }

    #[test]
    fn the_repair_curve_rises_with_each_attempt() {
        let results = results(&[("tern", "prRf")]);
        let curve = |attempts| repair_curve(&results, &Scope::all(&results), 0, attempts);
        assert_eq!(curve(4), [0.25, 0.5, 0.75, 0.75]);
        assert_eq!(curve(1), [0.75]);
    }

    #[test]
    fn a_task_is_solved_with_certainty_when_every_sample_does() {
        assert_eq!(consistency(&[(3, 3), (2, 3), (0, 3), (1, 1)]), Some(0.5));
        assert_eq!(consistency(&[]), None);
    }
}
