//! Paired measurements: two things timed in turn, so that their ratio holds when the machine's
//! speed drifts.

use std::time::{Duration, Instant};

/// The figures of a paired measurement.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TimedPair {
    /// Median time of the thing measured.
    pub ours: Duration,
    /// Median time of the reference.
    pub reference: Duration,
    /// Median of the ratios, pair by pair.
    pub ratio: f64,
}

/// Times `ours` and `reference` in turn, `rounds` times after one round that is not counted.
pub fn pair(rounds: usize, mut ours: impl FnMut(), mut reference: impl FnMut()) -> TimedPair {
    let time = |work: &mut dyn FnMut()| {
        let began = Instant::now();
        work();
        began.elapsed()
    };
    let mut rows = Vec::with_capacity(rounds);
    for round in 0..=rounds {
        let row = (time(&mut ours), time(&mut reference));
        if round > 0 {
            rows.push(row);
        }
    }
    let ratios = rows.iter().map(|row| row.0.as_secs_f64() / row.1.as_secs_f64());
    TimedPair {
        ours: median(rows.iter().map(|row| row.0).collect()),
        reference: median(rows.iter().map(|row| row.1).collect()),
        ratio: median(ratios.map(|it| (it * 1e6) as u64).collect()) as f64 / 1e6,
    }
}

/// The middle of some values; there must be one.
pub fn median<T: Ord + Copy>(mut values: Vec<T>) -> T {
    values.sort_unstable();
    values[values.len() / 2]
}

/// Prints one row of figures.
#[expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]
pub fn print(what: &str, pair: TimedPair) {
    let ms = |time: Duration| time.as_secs_f64() * 1e3;
    println!(
        "{what:<58} {:>8.2} ms {:>8.2} ms  ratio {:.2}",
        ms(pair.ours),
        ms(pair.reference),
        pair.ratio
    );
}
