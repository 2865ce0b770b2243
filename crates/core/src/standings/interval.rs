//! How sure a share is.

/// The 97.5 % point of the standard normal distribution.
const Z: f64 = 1.959_963_984_540_054;

/// The 95 % score interval of a share (Wilson, JASA 22, 1927), `share` from 0 to 1 out of `n`
/// independent goes. `n` may be a fraction: an effective number of goes.
#[must_use]
pub fn wilson(share: f64, n: f64) -> (f64, f64) {
    let z2 = Z * Z;
    let centre = (share + z2 / (2.0 * n)) / (1.0 + z2 / n);
    let half = Z / (1.0 + z2 / n) * (share * (1.0 - share) / n + z2 / (4.0 * n * n)).sqrt();
    ((centre - half).max(0.0), (centre + half).min(1.0))
}

/// How many independent goes a clustered sample is worth (the effective sample size of Korn and
/// Graubard, Survey Methodology 24, 1998).
///
/// `clusters` holds, for each task, trials passed and trials counted. Samples of one task resemble
/// each other, so they count for less than as many different tasks. The result is at least the
/// number of tasks and at most the number of trials. Where no variance can be seen (all passed,
/// none passed, one task) it is the number of tasks.
#[must_use]
pub fn effective_size(clusters: &[(u32, u32)]) -> f64 {
    let tasks = clusters.len() as f64;
    let trials: f64 = clusters.iter().map(|it| f64::from(it.1)).sum();
    let passed: f64 = clusters.iter().map(|it| f64::from(it.0)).sum();
    let share = passed / trials;
    let binomial = share * (1.0 - share);
    if tasks < 2.0 || binomial == 0.0 {
        return tasks;
    }
    // The variance of a ratio between clusters, linearised (Cochran, Sampling Techniques, 1977,
    // formula 6.10, without the finite population correction).
    let residual = |&(p, n): &(u32, u32)| (f64::from(p) - share * f64::from(n)).powi(2);
    let between: f64 = clusters.iter().map(residual).sum();
    let variance = tasks / (tasks - 1.0) * between / (trials * trials);
    if variance == 0.0 { trials } else { (binomial / variance).clamp(tasks, trials) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_interval_is_the_published_one() {
        // Newcombe, Statistics in Medicine 17 (1998), table I, method 3.
        for (passed, n, low, high) in [
            (81.0, 263.0, 0.2553, 0.3662),
            (15.0, 148.0, 0.0624, 0.1605),
            (0.0, 20.0, 0.0, 0.1611),
            (1.0, 29.0, 0.0061, 0.1718),
        ] {
            let (a, b) = wilson(passed / n, n);
            assert!((a - low).abs() < 5e-5 && (b - high).abs() < 5e-5, "{a} {b}");
        }
    }

    #[test]
    fn samples_that_always_agree_are_worth_one_each() {
        let agreeing: Vec<_> = (0..20).map(|i| if i % 2 == 0 { (3, 3) } else { (0, 3) }).collect();
        assert!((effective_size(&agreeing) - 20.0).abs() < 1.5);
        assert_eq!(effective_size(&[(3, 3), (3, 3)]), 2.0);
    }

    #[test]
    fn samples_that_vary_within_tasks_are_worth_more() {
        let varying = [(1, 3), (2, 3), (1, 3), (2, 3), (2, 3), (1, 3)];
        assert_eq!(effective_size(&varying), 18.0);
        // With one sample a task, every trial is its own cluster.
        let single = [(1, 1), (0, 1), (1, 1), (1, 1)];
        assert_eq!(effective_size(&single), 4.0);
    }
}
