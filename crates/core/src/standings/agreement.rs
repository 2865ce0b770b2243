//! Whether two candidates fail alike: more than chance, and in the same wrong values.

/// Cohen's kappa of two candidates over tasks: how far they pass and fail the same tasks beyond what their
/// rates alone would give (Cohen, Educational and Psychological Measurement 20, 1960). `pairs` are the shares
/// of samples that each solved at a task, 0 to 1; with several samples, the agreement at a task is that of two
/// samples drawn by chance. `None` where there is no task, or both always or never pass.
///
/// Tasks differ in difficulty, so that even strangers agree somewhat: what tells is a pair that stands out among
/// the others.
#[must_use]
pub fn kappa(pairs: &[(f64, f64)]) -> Option<f64> {
    let n = pairs.len() as f64;
    let both = |a: f64, b: f64| a * b + (1.0 - a) * (1.0 - b);
    let observed = pairs.iter().map(|&(a, b)| both(a, b)).sum::<f64>() / n;
    let mean = |of: fn(&(f64, f64)) -> f64| pairs.iter().map(of).sum::<f64>() / n;
    let expected = both(mean(|it| it.0), mean(|it| it.1));
    (!pairs.is_empty() && expected < 1.0).then(|| (observed - expected) / (1.0 - expected))
}

/// Wrong values of two candidates at the same tests.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct WrongValues {
    /// Tests at which both gave a wrong value.
    pub both: usize,
    /// Of these, those at which it was the same.
    pub same: usize,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kappa_is_the_one_worked_out_by_hand() {
        // By hand, after Cohen (1960), formula 1: 20 both, 5 the first alone, 10 the second alone, 15 neither:
        // observed 0.7; by chance 0.5 x 0.6 + 0.5 x 0.4 = 0.5; kappa 0.2 / 0.5.
        let mut pairs = vec![(1.0, 1.0); 20];
        pairs.extend(vec![(1.0, 0.0); 5]);
        pairs.extend(vec![(0.0, 1.0); 10]);
        pairs.extend(vec![(0.0, 0.0); 15]);
        assert!((kappa(&pairs).unwrap() - 0.4).abs() < 1e-12);
        assert_eq!(kappa(&[(1.0, 1.0); 4]), None);
        assert_eq!(kappa(&[]), None);
    }
}
