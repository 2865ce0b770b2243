//! Is the difference of two candidates more than chance?

/// Differences are kept as whole multiples of this part of 1, at the coarsest.
const GRID: u64 = 3600;

/// One task that both candidates did: trials passed and counted of each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pair {
    /// The first candidate: passed, counted.
    pub a: (u32, u32),
    /// The second candidate: passed, counted.
    pub b: (u32, u32),
}

/// The two-sided mid-p value of a paired randomisation test over tasks (Fisher, The Design of
/// Experiments, 1935, section 21; mid-p by Lancaster, JASA 56, 1961).
///
/// Under the assumption that the two candidates are alike, the difference of their pass rates on
/// a task is as likely to favour the one as the other; the tasks are independent. The
/// distribution over all 2^n ways is computed exactly. With one sample a task this is McNemar's
/// mid-p test (Fagerland, Lydersen and Laake, BMC Medical Research Methodology 13:91, 2013). With
/// no task that tells the two apart the value is 1.
#[must_use]
pub fn paired_p(pairs: &[Pair]) -> f64 {
    let steps = pairs.iter().map(|pair| u64::from(pair.a.1) * u64::from(pair.b.1));
    let scale = steps.fold(1, lcm).min(GRID) as f64;
    let differences = pairs.iter().map(|pair| {
        let rate = |(passed, trials): (u32, u32)| f64::from(passed) / f64::from(trials);
        ((rate(pair.a) - rate(pair.b)) * scale).round() as i64
    });
    let differences: Vec<i64> = differences.filter(|&it| it != 0).collect();
    let observed = differences.iter().sum::<i64>().unsigned_abs() as usize;
    let reach: usize = differences.iter().map(|it| it.unsigned_abs() as usize).sum();
    if reach == 0 {
        return 1.0;
    }
    // chances[s + reach]: how likely the signed sum is s.
    let mut chances = vec![0.0; 2 * reach + 1];
    chances[reach] = 1.0;
    for step in differences.iter().map(|it| it.unsigned_abs() as usize) {
        let before = chances.clone();
        for (sum, chance) in chances.iter_mut().enumerate() {
            let below = sum.checked_sub(step).map_or(0.0, |it| before[it]);
            let above = before.get(sum + step).copied().unwrap_or(0.0);
            *chance = 0.5 * (below + above);
        }
    }
    let tail = |from: usize| -> f64 { chances[reach + from..].iter().sum() };
    let at = chances[reach + observed];
    if observed == 0 { 1.0 } else { (2.0 * (tail(observed) - 0.5 * at)).min(1.0) }
}

fn lcm(a: u64, b: u64) -> u64 {
    let gcd = |mut a: u64, mut b: u64| {
        while b != 0 {
            (a, b) = (b, a % b);
        }
        a
    };
    if a >= GRID || b == 0 { a } else { a / gcd(a, b) * b }
}

/// Adjusts `p` values for being many (Holm, Scandinavian Journal of Statistics 6, 1979), in the
/// order given.
#[must_use]
pub fn holm(p: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..p.len()).collect();
    order.sort_by(|&i, &j| p[i].total_cmp(&p[j]));
    let mut adjusted = vec![0.0; p.len()];
    let mut highest = 0.0_f64;
    for (place, &index) in order.iter().enumerate() {
        highest = highest.max(p[index] * (p.len() - place) as f64).min(1.0);
        adjusted[index] = highest;
    }
    adjusted
}

#[cfg(test)]
mod tests {
    use super::*;

    fn single(a: u32, b: u32, times: usize) -> Vec<Pair> {
        vec![Pair { a: (a, 1), b: (b, 1) }; times]
    }

    #[test]
    fn with_one_sample_it_is_mcnemars_mid_p_test() {
        // Fagerland, Lydersen and Laake (2013), table 2 (Bentur et al. 2009): 7 children changed
        // one way and 1 the other; exact conditional p 0.0703, mid-p 0.0391.
        let pairs = [single(1, 0, 7), single(0, 1, 1), single(1, 1, 12), single(0, 0, 1)].concat();
        assert!((paired_p(&pairs) - 0.0391).abs() < 5e-5, "{}", paired_p(&pairs));
    }

    #[test]
    fn no_difference_gives_one_and_a_clear_one_almost_nothing() {
        assert_eq!(paired_p(&single(1, 1, 9)), 1.0);
        assert_eq!(paired_p(&[]), 1.0);
        assert!((paired_p(&single(1, 0, 14)) - 1.0 / 16384.0).abs() < 1e-12);
    }

    #[test]
    fn samples_sharpen_but_do_not_multiply_the_evidence() {
        let three = vec![Pair { a: (3, 3), b: (0, 3) }; 5];
        assert_eq!(paired_p(&three), paired_p(&single(1, 0, 5)));
    }

    #[test]
    fn holm_agrees_with_the_procedure_done_by_hand() {
        // By hand, after Holm (1979), section 3: 4 x 0.01; 3 x 0.02; 2 x 0.022 is less than the
        // one before and takes its value; 1 x 0.09.
        let adjusted = holm(&[0.09, 0.01, 0.022, 0.02]);
        for (found, expected) in adjusted.iter().zip([0.09, 0.04, 0.06, 0.06]) {
            assert!((found - expected).abs() < 1e-12, "{adjusted:?}");
        }
    }
}
