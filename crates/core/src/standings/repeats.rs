//! What repeats of the same task say.

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

#[cfg(test)]
mod tests {
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
    fn a_task_is_solved_with_certainty_when_every_sample_does() {
        assert_eq!(consistency(&[(3, 3), (2, 3), (0, 3), (1, 1)]), Some(0.5));
        assert_eq!(consistency(&[]), None);
    }
}
