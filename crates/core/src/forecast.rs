//! What a run will take, and how small a difference it can show.

use serde::Serialize;

use crate::plan::{Price, Tokens};

/// The quantile of the normal distribution that leaves 2.5 % above.
const Z_LEVEL: f64 = 1.959_964;

/// The one that leaves 20 % above: for a power of 80 %.
const Z_POWER: f64 = 0.841_621;

/// How alike samples of one candidate at one task are, as an intraclass correlation, where nothing is known.
const WITHIN: f64 = 0.5;

/// How alike two candidates find tasks hard, as a correlation, where nothing is known.
const BETWEEN: f64 = 0.8;

/// Tokens of the texts of one task.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct TaskTexts {
    /// What is sent first: system text and prompt.
    pub prompt: u64,
    /// A right answer.
    pub answer: u64,
    /// What goes back after a failure.
    pub repair: u64,
}

/// What trials of a candidate took before, each on average.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct MeasuredTrial {
    /// Requests.
    pub requests: f64,
    /// Tokens read, those from the cache included.
    pub input: f64,
    /// Tokens read from the cache.
    pub cached: f64,
    /// Tokens written.
    pub output: f64,
    /// Seconds that its requests took.
    pub seconds: f64,
}

/// What trials take, together.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub struct Load {
    /// Requests.
    pub requests: f64,
    /// Tokens read.
    pub tokens_input: f64,
    /// Tokens written.
    pub tokens_output: f64,
    /// Money, in the plan's currency.
    pub cost: f64,
    /// Seconds that the requests take, one after the other; `None`: not known.
    pub seconds: Option<f64>,
}

/// What one candidate will take.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct CandidateForecast {
    /// Its name.
    pub candidate: String,
    /// Trials that are still to be run.
    pub trials: usize,
    /// Where every first answer is right, or as it was measured.
    pub few: Load,
    /// Where no answer is right, or as it was measured.
    pub many: Load,
    /// Whether it was measured in an earlier record.
    pub measured: bool,
    /// Whether it works on files: then it makes any number of requests.
    pub acts: bool,
}

/// What a run will take.
#[derive(Debug, Clone, PartialEq)]
pub struct Forecast {
    /// Every candidate, in the order of the plan.
    pub candidates: Vec<CandidateForecast>,
    /// The currency.
    pub currency: String,
    /// Tasks.
    pub tasks: usize,
    /// Samples of each.
    pub samples: u32,
    /// Attempts of a trial, at most.
    pub attempts: u32,
    /// Trials that are asked for at the same time.
    pub parallel: u32,
    /// The smallest difference in solved rate that is shown with 80 % power; `None`: none is.
    pub shows: Option<f64>,
}

impl Load {
    /// Trials of which each takes `requests` requests. Each request after the first sends all that was said before.
    #[must_use]
    pub fn estimate(trials: &[TaskTexts], requests: u32, price: Price) -> Self {
        let mut load = Self::default();
        for texts in trials {
            for earlier in 0..u64::from(requests) {
                load.tokens_input +=
                    (texts.prompt + earlier * (texts.answer + texts.repair)) as f64;
                load.tokens_output += texts.answer as f64;
            }
        }
        load.requests = trials.len() as f64 * f64::from(requests);
        load.cost = cost(load.tokens_input, 0.0, load.tokens_output, price);
        load
    }

    /// Trials that take what others took before.
    #[must_use]
    pub fn measured(trials: &[MeasuredTrial], price: Price) -> Self {
        let sum = |of: fn(&MeasuredTrial) -> f64| trials.iter().map(of).sum::<f64>();
        let (input, output) = (sum(|it| it.input), sum(|it| it.output));
        Self {
            requests: sum(|it| it.requests),
            tokens_input: input,
            tokens_output: output,
            cost: cost(input, sum(|it| it.cached), output, price),
            seconds: Some(sum(|it| it.seconds)),
        }
    }
}

fn cost(input: f64, cached: f64, output: f64, price: Price) -> f64 {
    let whole = |it: f64| it.round().max(0.0) as u64;
    let tokens = Tokens {
        input: whole(input),
        cached: whole(cached),
        output: whole(output),
        ..Tokens::default()
    };
    price.of(tokens)
}

/// The smallest difference in solved rate of two candidates that the paired test shows with 80 % power at the level of
/// 5 %, for one pair; `None` where not even the largest one is.
///
/// The variance of the mean difference over `tasks` tasks with `samples` samples of each candidate is
/// 2 p (1 − p) ((1 − ρ)/n + ρ (1 − κ)) / T: p is the mean solved rate (`rate`), ρ = 0.5 how alike samples at one task
/// are, κ = 0.8 how alike the two find tasks hard (Cohen, Statistical Power Analysis, 1988, chapter 2, for paired means;
/// the split of the variance is that of a two-level model). T is lowered by 1.96², as the paired interval is.
#[must_use]
pub fn smallest_difference(tasks: usize, samples: u32, rate: f64) -> Option<f64> {
    let room = tasks as f64 - Z_LEVEL * Z_LEVEL;
    if room <= 0.0 || samples == 0 {
        return None;
    }
    let spread = 2.0 * rate * (1.0 - rate);
    let each = (1.0 - WITHIN) / f64::from(samples) + WITHIN * (1.0 - BETWEEN);
    let difference = (Z_LEVEL + Z_POWER) * (spread * each / room).sqrt();
    (difference < 1.0).then_some(difference)
}

#[cfg(test)]
mod tests {
    use chacha20::ChaCha8Rng;
    use chacha20::rand_core::{Rng as _, SeedableRng as _};

    use super::*;
    use crate::standings::{Pair, SignFlipTest};

    #[test]
    fn repairs_send_again_what_was_said() {
        let texts = TaskTexts { prompt: 100, answer: 50, repair: 10 };
        let price = Price { input: 1.0, cached_input: None, output: 2.0 };
        let load = Load::estimate(&[texts, texts], 3, price);
        assert_eq!((load.requests, load.tokens_output), (6.0, 300.0));
        assert_eq!(load.tokens_input, 2.0 * (100.0 + 160.0 + 220.0));
        assert!((load.cost - (960.0 + 600.0) / 1e6).abs() < 1e-12);
    }

    /// A pair of candidates that differ by just that much is told apart about four times of five.
    #[test]
    fn the_smallest_difference_is_shown_four_times_of_five() {
        let mut rng = ChaCha8Rng::seed_from_u64(7);
        let mut unit = || (rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64;
        for (tasks, samples) in [(40, 1), (40, 3), (120, 2)] {
            let difference = smallest_difference(tasks, samples, 0.5).unwrap();
            let (mut test, mut shown) = (SignFlipTest::default(), 0);
            for _ in 0..300 {
                let mut pairs = Vec::new();
                for _ in 0..tasks {
                    // Beta(1/2, 1/2) by the arcsine law has an intraclass correlation of 0.5; one task of five is
                    // another matter for each.
                    let beta = |u: f64| (std::f64::consts::FRAC_PI_2 * u).sin().powi(2);
                    let (common, own) = (beta(unit()), [beta(unit()), beta(unit())]);
                    let apart = unit() < 1.0 - BETWEEN;
                    let rates = own.map(|it| if apart { it } else { common });
                    // The difference is made where there is room for it.
                    let shift = difference;
                    let mut passed = [0, 0];
                    for _ in 0..samples {
                        let better = unit() < rates[0] || unit() < shift / (1.0 - 0.5);
                        passed[0] += u32::from(better);
                        passed[1] += u32::from(unit() < rates[1]);
                    }
                    pairs.push(Pair { a: (passed[0], samples), b: (passed[1], samples) });
                }
                shown += usize::from(test.p(&pairs).p < 0.05);
            }
            let power = shown as f64 / 300.0;
            assert!((0.7..=0.93).contains(&power), "{tasks} x {samples}: {power}");
        }
        assert_eq!(smallest_difference(3, 1, 0.5), None);
        assert!(
            smallest_difference(400, 5, 0.5).unwrap() < smallest_difference(100, 5, 0.5).unwrap()
        );
    }
}
