//! How sure a share is, and the difference of two.

use super::Pair;
use super::tasks::correlation;

/// The 97.5 % point of the standard normal distribution.
const Z: f64 = 1.959_963_984_540_054;

/// The 95 % score interval of a share (Wilson, JASA 22, 1927), `share` from 0 to 1 out of `n`
/// independent trials. `n` may be a fraction: an effective number of them.
#[must_use]
pub fn wilson(share: f64, n: f64) -> (f64, f64) {
    let z2 = Z * Z;
    let centre = (share + z2 / (2.0 * n)) / (1.0 + z2 / n);
    let half = Z / (1.0 + z2 / n) * (share * (1.0 - share) / n + z2 / (4.0 * n * n)).sqrt();
    ((centre - half).max(0.0), (centre + half).min(1.0))
}

/// How alike samples of one task are taken to be before any are seen: the correlation of their outcomes.
const ALIKE: f64 = 0.7;

/// How many tasks that is worth.
const WEIGHT: f64 = 10.0;

/// How many independent trials a clustered sample is worth (the effective sample size of Korn and
/// Graubard, Survey Methodology 24, 1998), with a design effect that is steadied.
///
/// `clusters` holds, for each task, trials passed and trials counted. Samples of one task resemble
/// each other, so they count for less than as many different tasks. How much less, the design effect, is itself
/// unsure where tasks are few: so it is averaged with that of samples with a correlation of 0.7, which weighs as
/// much as ten tasks. The result is at least the number of tasks and at most the number of trials. Where no
/// variance can be seen (all passed, none passed, one task) it is the number of tasks.
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
    let effect = variance / (binomial / trials);
    // Kish, Survey Sampling (1965), section 5.4: 1 + (samples − 1) x correlation.
    let before = 1.0 + (trials / tasks - 1.0) * ALIKE;
    let steadied = (tasks * effect + WEIGHT * before) / (tasks + WEIGHT);
    (trials / steadied).clamp(tasks, trials)
}

/// Tasks at which the difference is not the commonest one, from which on the interval of the difference is that of
/// the test.
const VARYING: usize = 8;

/// The 95 % interval of the difference of two candidates' rates on the tasks that both did, first minus second.
/// `None` without a task. The difference in the middle is that of the rates, averaged over tasks.
///
/// Where at eight tasks or more the difference is not the commonest one (which mostly is 0), it holds the
/// differences that the paired test of
/// [`SignFlipTest`](super::SignFlipTest) would not reject, in its normal approximation: the shifts δ with
/// |Σ(d − δ)| ≤ 1.96 √Σ(d − δ)², which are mean ± 1.96 s / √(n − 1.96²) with s² = Σ(d − mean)² / n. So it agrees
/// with the test. Where fewer vary, that would be too narrow, and it is a hybrid of both score intervals (Newcombe
/// 1998, method 10).
#[must_use]
pub fn paired_interval(pairs: &[Pair]) -> Option<(f64, f64)> {
    let n = pairs.len() as f64;
    let differences = || pairs.iter().map(|it| it.rates().0 - it.rates().1);
    let room = n - Z * Z;
    if pairs.len() - commonest(differences()) < VARYING || room <= 0.0 {
        return hybrid_interval(pairs);
    }
    let mean = differences().sum::<f64>() / n;
    let squares = differences().map(|it| (it - mean).powi(2)).sum::<f64>();
    let half = Z * (squares / n / room).sqrt();
    Some(((mean - half).max(-1.0), (mean + half).min(1.0)))
}

/// How often the commonest of some differences occurs.
fn commonest(differences: impl Iterator<Item = f64>) -> usize {
    // In whole millionths, so that equal ones are equal.
    let mut steps: Vec<i64> = differences.map(|it| (it * 1e6).round() as i64).collect();
    steps.sort_unstable();
    steps.chunk_by(|a, b| a == b).map(<[i64]>::len).max().unwrap_or(0)
}

/// The 95 % interval of a difference as a hybrid of both candidates' score intervals (Newcombe, Statistics in
/// Medicine 17, 1998, pages 2635 to 2650, method 10), joined by the correlation of their rates over the tasks.
/// With one sample a task it is his method for paired proportions; with several, the intervals are those of
/// effective numbers of trials. `None` without a task.
fn hybrid_interval(pairs: &[Pair]) -> Option<(f64, f64)> {
    if pairs.is_empty() {
        return None;
    }
    let of = |side: fn(&Pair) -> (u32, u32)| {
        let clusters: Vec<(u32, u32)> = pairs.iter().map(side).collect();
        let mean = clusters.iter().map(|it| f64::from(it.0) / f64::from(it.1)).sum::<f64>();
        let mean = mean / clusters.len() as f64;
        let (low, high) = wilson(mean, effective_size(&clusters));
        (mean, low, high)
    };
    let ((a, a_low, a_high), (b, b_low, b_high)) = (of(|it| it.a), of(|it| it.b));
    let together = shrunk_correlation(pairs);
    let arm = |x: f64, y: f64| (x * x - 2.0 * together * x * y + y * y).max(0.0).sqrt();
    let low = a - b - arm(a - a_low, b_high - b);
    let high = a - b + arm(a_high - a, b - b_low);
    Some((low.max(-1.0), high.min(1.0)))
}

/// The correlation of two candidates' rates over tasks; a positive one is corrected for continuity, so that few
/// tasks do not make it look closer than it is (Newcombe's method 10). 0 where one does not vary.
fn shrunk_correlation(pairs: &[Pair]) -> f64 {
    let n = pairs.len() as f64;
    let points: Vec<(f64, f64)> = pairs.iter().map(Pair::rates).collect();
    let Some(r) = correlation(&points) else { return 0.0 };
    if r <= 0.0 {
        return r;
    }
    let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / n;
    let (x, y) = (mean(|it| it.0), mean(|it| it.1));
    let spread = |of: fn(&(f64, f64)) -> f64, middle: f64| {
        (points.iter().map(|it| (of(it) - middle).powi(2)).sum::<f64>() / n).sqrt()
    };
    let both = spread(|it| it.0, x) * spread(|it| it.1, y);
    ((r * both - 0.5 / n) / both).max(0.0)
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
    fn the_interval_of_a_difference_is_the_published_one() {
        // Fagerland, Lydersen and Laake, Statistics in Medicine 33 (2014), table 6, of the data of Bentur et al.
        // (2009): 1 child both times, 1 before alone, 7 after alone, 12 never.
        let pair = |a: u32, b: u32, times: usize| vec![Pair { a: (a, 1), b: (b, 1) }; times];
        let pairs = [pair(1, 1, 1), pair(1, 0, 1), pair(0, 1, 7), pair(0, 0, 12)].concat();
        let (low, high) = hybrid_interval(&pairs).unwrap();
        assert!((low + 0.507).abs() < 5e-4 && (high + 0.026).abs() < 5e-4, "{low} {high}");
    }

    #[test]
    fn the_interval_of_a_difference_agrees_with_the_test() {
        // Of 21 tasks one wins two by 2/3 and seven by 1/3: mean 0.1746, s 0.2209, 1.96 s / √(21 − 3.8415).
        let pair = |a: u32, b: u32, times: usize| vec![Pair { a: (a, 3), b: (b, 3) }; times];
        let pairs = [pair(3, 1, 2), pair(3, 2, 7), pair(3, 3, 12)].concat();
        let (low, high) = paired_interval(&pairs).unwrap();
        // One that wins every task by the same is not as sure as that.
        let (lowest, highest) = paired_interval(&pair(3, 0, 8)).unwrap();
        assert!(lowest < 0.8 && highest == 1.0, "{lowest}");
        assert!((low - 0.0701).abs() < 5e-4 && (high - 0.2791).abs() < 5e-4, "{low} {high}");
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
        assert!(effective_size(&varying) > 10.0, "{}", effective_size(&varying));
        // With one sample a task, every trial is its own cluster.
        let single = [(1, 1), (0, 1), (1, 1), (1, 1)];
        assert_eq!(effective_size(&single), 4.0);
    }
}
