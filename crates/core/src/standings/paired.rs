//! Is the difference of two candidates more than chance?

use std::f64::consts::PI;

/// One task that both candidates did: trials passed and counted of each.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pair {
    /// The first candidate: passed, counted.
    pub a: (u32, u32),
    /// The second candidate: passed, counted.
    pub b: (u32, u32),
}

impl Pair {
    /// The pass rates of both.
    #[must_use]
    pub fn rates(&self) -> (f64, f64) {
        let rate = |(passed, trials): (u32, u32)| f64::from(passed) / f64::from(trials);
        (rate(self.a), rate(self.b))
    }
}

/// Whole steps that differences may add up to.
const REACH_MAX: u64 = (1 << 15) - 1;

/// Logarithms below which a product is nothing beside rounding.
const NOTHING: f64 = -45.0;

/// The paired randomisation test over tasks, with tables that are used again from pair to pair.
#[derive(Debug)]
pub struct SignFlipTest {
    /// Whole steps that differences may add up to: where their common denominator asks for more, they are rounded.
    reach: u64,
    /// For each power of two M: ln |cos(πx/M)| for x from 0 to M − 1.
    tables: Vec<Vec<f64>>,
}

/// What the test says of a pair.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SignFlipOutcome {
    /// The two-sided mid-p value.
    pub p: f64,
    /// Whether it is exact, or differences were rounded to a common step.
    pub exact: bool,
}

impl Default for SignFlipTest {
    fn default() -> Self {
        Self { reach: REACH_MAX, tables: Vec::new() }
    }
}

impl SignFlipTest {
    /// The two-sided mid-p value of Fisher's test (The Design of Experiments, 1935, section 21; mid-p by
    /// Lancaster, JASA 56, 1961).
    ///
    /// Under the assumption that the two candidates are alike, the difference of their pass rates on a task is
    /// as likely to favour the one as the other; the tasks are independent. With one sample a task this is
    /// McNemar's mid-p test (Fagerland, Lydersen and Laake, BMC Medical Research Methodology 13:91, 2013). With
    /// no task that tells the two apart the value is 1.
    ///
    /// The distribution over all 2^n ways is summed up from its characteristic function, ∏ cos(w·d)^n over the
    /// absolute differences d: to 1e-9 at least; the least value that is told from 0 is 1e-15. Differences
    /// are whole multiples of 1 over the common denominator of all rates; where they would add up to more than
    /// 32,767 of these, they are rounded to the finest step with which they do not.
    pub fn p(&mut self, pairs: &[Pair]) -> SignFlipOutcome {
        let (scale, exact) = scale(pairs, self.reach);
        let steps = |pair: &Pair| {
            let (a, b) = pair.rates();
            ((a - b) * scale as f64).round() as i64
        };
        let observed = pairs.iter().map(steps).sum::<i64>().unsigned_abs();
        let mut sizes: Vec<u64> =
            pairs.iter().map(|it| steps(it).unsigned_abs()).filter(|&it| it > 0).collect();
        sizes.sort_unstable();
        let groups = common_part(histogram(&sizes));
        let part = groups.1;
        if groups.0.is_empty() || observed == 0 {
            return SignFlipOutcome { p: 1.0, exact };
        }
        SignFlipOutcome { p: self.two_sided(&groups.0, observed / part), exact }
    }

    /// `groups` are absolute differences and how many there are of each; `observed` is their signed sum.
    fn two_sided(&mut self, groups: &[(u64, u32)], observed: u64) -> f64 {
        let reach: u64 = groups.iter().map(|it| it.0 * u64::from(it.1)).sum();
        let bits = (reach + 1).next_power_of_two().trailing_zeros().max(2);
        let (table, size) = (self.table(bits), 1_u64 << bits);
        // Sums of the same parity as `reach` occur; from `observed` on there are so many of them.
        let terms = ((reach - observed) / 2 + 1) as f64;
        let centre = (observed + reach) as f64 / 2.0;
        let mut sum = 0.0;
        for at in 0..=size / 2 {
            let Some(chance) = product(groups, table, at, size) else { continue };
            let angle = PI * at as f64 / size as f64;
            let tail = match at {
                0 => terms,
                _ => (angle * centre).cos() * (angle * terms).sin() / angle.sin(),
            };
            // Twice the tail, of which what is as far as the one observed counts half: the mid-p value.
            let both = 2.0 * tail - (angle * observed as f64).cos();
            let is_alone = at == 0 || at == size / 2;
            sum += if is_alone { chance * both } else { 2.0 * chance * both };
        }
        (sum / size as f64).clamp(1e-15, 1.0)
    }

    fn table(&mut self, bits: u32) -> &[f64] {
        let bits = bits as usize;
        if self.tables.len() <= bits {
            self.tables.resize(bits + 1, Vec::new());
        }
        if self.tables[bits].is_empty() {
            let size = 1_u64 << bits;
            let log = |it: u64| (PI * it as f64 / size as f64).cos().abs().ln();
            self.tables[bits] = (0..size).map(log).collect();
            // What is 0 but for rounding.
            self.tables[bits][1 << (bits - 1)] = f64::NEG_INFINITY;
        }
        &self.tables[bits]
    }
}

/// ∏ cos(π·at·d/size)^n; `None` where that is nothing.
fn product(groups: &[(u64, u32)], table: &[f64], at: u64, size: u64) -> Option<f64> {
    let (mut log, mut is_negative) = (0.0, false);
    for &(difference, count) in groups {
        let turn = at * difference;
        log += f64::from(count) * table[(turn & (size - 1)) as usize];
        if log < NOTHING {
            return None;
        }
        is_negative ^= count % 2 == 1 && ((turn + size / 2) / size) % 2 == 1;
    }
    Some(if is_negative { -log.exp() } else { log.exp() })
}

/// Values and how often each occurs, the commonest first.
fn histogram(sorted: &[u64]) -> Vec<(u64, u32)> {
    let mut groups: Vec<(u64, u32)> = Vec::new();
    for &value in sorted {
        match groups.last_mut() {
            Some(last) if last.0 == value => last.1 += 1,
            _ => groups.push((value, 1)),
        }
    }
    groups.sort_by_key(|it| std::cmp::Reverse(it.1));
    groups
}

/// Groups with the greatest common divisor of their values taken out, and that divisor.
fn common_part(mut groups: Vec<(u64, u32)>) -> (Vec<(u64, u32)>, u64) {
    let part = groups.iter().fold(0, |part, it| gcd(part, it.0)).max(1);
    groups.iter_mut().for_each(|it| it.0 /= part);
    (groups, part)
}

/// Steps in 1 that make every difference a whole number of them, and whether they do: otherwise the most that
/// keep the sum of all differences within `reach`, so that those of the commonest numbers of samples are
/// still whole.
fn scale(pairs: &[Pair], reach: u64) -> (u64, bool) {
    let total: f64 = pairs.iter().map(|it| (it.rates().0 - it.rates().1).abs()).sum();
    let most = (reach as f64 / total.max(1.0)) as u64;
    let of = |it: &Pair| {
        if it.a.1 == it.b.1 { it.a.1.into() } else { lcm(it.a.1.into(), it.b.1.into()) }
    };
    let mut all: Vec<u64> = pairs.iter().map(of).collect();
    // Mostly they are all the same, and then they are in order.
    if !all.is_sorted() {
        all.sort_unstable();
    }
    let mut scale = 1;
    for (denominator, _) in histogram(&all) {
        let finer = lcm(scale, denominator);
        if finer > most {
            return ((most / scale).max(1) * scale, false);
        }
        scale = finer;
    }
    (scale, true)
}

fn gcd(mut a: u64, mut b: u64) -> u64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

fn lcm(a: u64, b: u64) -> u64 {
    if a == 0 || b == 0 { a.max(b).max(1) } else { (a / gcd(a, b)).saturating_mul(b) }
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

    fn paired_p(pairs: &[Pair]) -> f64 {
        SignFlipTest::default().p(pairs).p
    }

    fn single(a: u32, b: u32, times: usize) -> Vec<Pair> {
        vec![Pair { a: (a, 1), b: (b, 1) }; times]
    }

    /// Every way of the signs, one after the other.
    fn enumerated(pairs: &[Pair]) -> f64 {
        let differences: Vec<f64> = pairs.iter().map(|it| it.rates().0 - it.rates().1).collect();
        let observed = differences.iter().sum::<f64>().abs();
        let ways = 1_u32 << differences.len();
        let mut count = 0.0;
        for way in 0..ways {
            let sign = |at: usize| if way >> at & 1 == 1 { 1.0 } else { -1.0 };
            let sum: f64 = differences.iter().enumerate().map(|(at, it)| sign(at) * it).sum();
            count += match sum.abs() - observed {
                off if off.abs() < 1e-9 => 0.5,
                off if off > 0.0 => 1.0,
                _ => 0.0,
            };
        }
        if observed < 1e-9 { 1.0 } else { count / f64::from(ways) }
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
        assert!(paired_p(&single(1, 0, 4000)) < 1e-13);
    }

    #[test]
    fn it_is_what_all_ways_of_the_signs_give() {
        let mut state = 7_u64;
        let mut next = |below: u32| {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            ((state >> 33) % u64::from(below)) as u32
        };
        for round in 0..60 {
            let pairs: Vec<Pair> = (0..2 + round % 12)
                .map(|_| {
                    let (n, m) = (1 + next(10), 1 + next(10));
                    Pair { a: (next(n + 1), n), b: (next(m + 1), m) }
                })
                .collect();
            let found = SignFlipTest::default().p(&pairs);
            assert!(found.exact);
            let expected = enumerated(&pairs);
            assert!((found.p - expected).abs() < 1e-9, "{pairs:?}: {found:?}, {expected}");
        }
    }

    /// 2 % of voids in hundreds of tasks of ten samples: the denominator is 2520. What is rounded is close to
    /// what is computed of it whole, and for so many tasks both are close to the normal approximation.
    #[test]
    fn what_is_rounded_says_so_and_is_close() {
        let mut farthest = 0.0_f64;
        for round in 0..20 {
            let pair = |task: u32| {
                let trials =
                    10 - u32::from(task.is_multiple_of(20)) - u32::from(task.is_multiple_of(50));
                let better = u32::from(task % 100 < round);
                let passed = (task * 7 + round) % (trials + 1);
                Pair {
                    a: (passed.max(better * (passed / 2 + 1)).min(trials), trials),
                    b: ((task * 3 + round) % 11, 10),
                }
            };
            let pairs: Vec<Pair> = (0..600).map(pair).collect();
            let found = SignFlipTest::default().p(&pairs);
            let whole = SignFlipTest { reach: 1 << 22, tables: Vec::new() }.p(&pairs);
            assert!(!found.exact && whole.exact);
            farthest = farthest.max((found.p - whole.p).abs());
            let differences = || pairs.iter().map(|it| it.rates().0 - it.rates().1);
            let squares = differences().map(|it| it * it).sum::<f64>();
            let z = differences().sum::<f64>().abs() / squares.sqrt();
            let normal = statrs::function::erf::erfc(z / 2.0_f64.sqrt());
            assert!((whole.p - normal).abs() < 2e-3, "{} and {normal}", whole.p);
        }
        assert!(farthest > 0.0 && farthest < 1e-3, "{farthest}");
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
