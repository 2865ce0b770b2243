//! How true the standings are: coverage of the intervals, false separation of equals, power. Simulated, with a
//! fixed seed: `cargo bench -p fairtrial-benches --bench coverage`.
//!
//! A candidate solves each task with a chance of its own, drawn from a beta distribution around its mean, so that
//! samples of a task are alike as real ones are. Two candidates find the same tasks hard: each takes the chance
//! of a task either from a draw that both share, or from one of its own. What an interval should cover is the
//! mean over all tasks there could be.

#![expect(clippy::print_stdout, reason = "a benchmark's figures are its output")]

use fairtrial_core::standings::{
    Pair, Results, Scope, SignFlipTest, Standings, TaskFacts, effective_size, holm,
    paired_interval, wilson,
};
use fairtrial_core::verdict::{FailReason, Verdict};

/// Rounds of each cell.
const ROUNDS: usize = 4000;
/// How much the chances of tasks differ: a beta distribution with parameters that add up to this.
const ALIKE: f64 = 1.0;
/// How often two candidates find the same task equally hard.
const SHARED: f64 = 0.6;

/// An own source of chance, so that figures can be repeated (xorshift64*, Vigna 2016).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> f64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        let bits = self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 11;
        (bits as f64 + 0.5) / (1_u64 << 53) as f64
    }

    /// A draw from a gamma distribution of shape `a` below or above 1 (Ahrens and Dieter 1974; Marsaglia and
    /// Tsang 2000).
    fn gamma(&mut self, a: f64) -> f64 {
        if a < 1.0 {
            let more = self.gamma(a + 1.0);
            return more * self.next().powf(1.0 / a);
        }
        let (d, c) = (a - 1.0 / 3.0, 1.0 / (9.0 * (a - 1.0 / 3.0)).sqrt());
        loop {
            let x = self.normal();
            let v = (1.0 + c * x).powi(3);
            if v > 0.0 && self.next().ln() < 0.5 * x * x + d - d * v + d * v.ln() {
                return d * v;
            }
        }
    }

    fn normal(&mut self) -> f64 {
        (-2.0 * self.next().ln()).sqrt() * (std::f64::consts::TAU * self.next()).cos()
    }

    /// A chance around `mean`.
    fn beta(&mut self, mean: f64) -> f64 {
        let (a, b) = (self.gamma(mean * ALIKE), self.gamma((1.0 - mean) * ALIKE));
        if a + b > 0.0 { a / (a + b) } else { mean }
    }

    fn passed(&mut self, chance: f64, samples: u32) -> u32 {
        (0..samples).filter(|_| self.next() < chance).count() as u32
    }
}

/// Passed and counted trials of each candidate at each task.
fn draw(chance: &mut Chance, means: &[f64], tasks: usize, samples: u32) -> Vec<Vec<(u32, u32)>> {
    let mut all = vec![Vec::with_capacity(tasks); means.len()];
    for _ in 0..tasks {
        // One seed a task, so that those who share it have quantiles of the same draw.
        let seed = chance.0 ^ 0x9E37_79B9_7F4A_7C15;
        chance.next();
        for (own, &mean) in all.iter_mut().zip(means) {
            let shares = chance.next() < SHARED;
            let hard = if shares { Chance(seed).beta(mean) } else { chance.beta(mean) };
            own.push((chance.passed(hard, samples), samples));
        }
    }
    all
}

fn main() {
    let quick = std::env::args().any(|it| it == "--test");
    let rounds = if quick { 20 } else { ROUNDS };
    coverage(rounds);
    differences(rounds);
    separation(rounds);
    power(rounds / 4);
}

fn coverage(rounds: usize) {
    println!("coverage of the 95 % interval of a share, in %\n");
    println!("{:>6} {:>8} {:>7} {:>7} {:>7}", "tasks", "samples", "0.1", "0.5", "0.9");
    let mut chance = Chance(0x5EED);
    for tasks in [10, 20, 50, 100] {
        for samples in [1, 3, 5] {
            let cell = |mean: f64, chance: &mut Chance| {
                let hits = (0..rounds).filter(|_| {
                    let counts = &draw(chance, &[mean], tasks, samples)[0];
                    let passed: u32 = counts.iter().map(|it| it.0).sum();
                    let share = f64::from(passed) / (tasks as f64 * f64::from(samples));
                    let (low, high) = wilson(share, effective_size(counts));
                    (low..=high).contains(&mean)
                });
                hits.count() as f64 / rounds as f64 * 100.0
            };
            let cells = [0.1, 0.5, 0.9].map(|mean| cell(mean, &mut chance));
            let [a, b, c] = cells;
            println!("{tasks:>6} {samples:>8} {a:>7.1} {b:>7.1} {c:>7.1}");
        }
    }
}

fn pairs(all: &[Vec<(u32, u32)>], a: usize, b: usize) -> Vec<Pair> {
    all[a].iter().zip(&all[b]).map(|(&a, &b)| Pair { a, b }).collect()
}

fn differences(rounds: usize) {
    println!("\ncoverage of the 95 % interval of a difference, in %\n");
    println!(
        "{:>6} {:>8} {:>9} {:>9} {:>9} {:>9}",
        "tasks", "samples", "0.1, 0.1", "0.5, 0.5", "0.5, 0.6", "0.9, 0.8"
    );
    let mut chance = Chance(0x5EED);
    for tasks in [10, 20, 50, 100] {
        for samples in [1, 3, 5] {
            let cells = [(0.1, 0.1), (0.5, 0.5), (0.5, 0.6), (0.9, 0.8)].map(|(a, b)| {
                let hits = (0..rounds).filter(|_| {
                    let all = draw(&mut chance, &[a, b], tasks, samples);
                    let (low, high) = paired_interval(&pairs(&all, 0, 1)).unwrap_or((-1.0, 1.0));
                    (low..=high).contains(&(a - b))
                });
                hits.count() as f64 / rounds as f64 * 100.0
            });
            let [a, b, c, d] = cells;
            println!("{tasks:>6} {samples:>8} {a:>9.1} {b:>9.1} {c:>9.1} {d:>9.1}");
        }
    }
}

/// Whether any pair of these candidates is told apart.
fn any_established(all: &[Vec<(u32, u32)>]) -> bool {
    let mut test = SignFlipTest::default();
    let mut p = Vec::new();
    for a in 0..all.len() {
        for b in a + 1..all.len() {
            p.push(test.p(&pairs(all, a, b)).p);
        }
    }
    holm(&p).into_iter().any(|it| it < 0.05)
}

fn separation(rounds: usize) {
    println!(
        "\nevaluations of equals in which any pair is told apart, in %; and in which any range of ranks"
    );
    println!(
        "leaves out a rank that the candidate could have, with a leader 20 points above the rest\n"
    );
    println!("{:>6} {:>8} {:>7} {:>7} {:>7} {:>9}", "tasks", "samples", "2", "4", "10", "ranges");
    let mut chance = Chance(0x5EED);
    for tasks in [20, 50, 100] {
        for samples in [1, 3] {
            let cells = [2, 4, 10].map(|many| {
                let means = vec![0.5; many];
                let some = (0..rounds)
                    .filter(|_| any_established(&draw(&mut chance, &means, tasks, samples)));
                some.count() as f64 / rounds as f64 * 100.0
            });
            let wrong = (0..rounds).filter(|_| ranges_are_wrong(&mut chance, tasks, samples));
            let wrong = wrong.count() as f64 / rounds as f64 * 100.0;
            let [a, b, c] = cells;
            println!("{tasks:>6} {samples:>8} {a:>7.1} {b:>7.1} {c:>7.1} {wrong:>9.1}");
        }
    }
}

/// Whether the ranges of ranks of one leader and three equals leave out where one of them truly is.
fn ranges_are_wrong(chance: &mut Chance, tasks: usize, samples: u32) -> bool {
    let all = draw(chance, &[0.7, 0.5, 0.5, 0.5], tasks, samples);
    let names = (0..4).map(|it| it.to_string()).collect();
    let facts = (0..tasks).map(|it| TaskFacts { name: it.to_string(), ..TaskFacts::default() });
    let mut results = Results::new(names, facts.collect(), samples as usize);
    for (who, own) in all.iter().enumerate() {
        for (task, &(passed, trials)) in own.iter().enumerate() {
            for sample in 1..=trials {
                let verdict = match sample <= passed {
                    true => Verdict::Pass,
                    false => Verdict::Fail(FailReason::WrongResult),
                };
                results.add(who, task, sample as usize, &fairtrial_benches::trial(verdict));
            }
        }
    }
    let found = Standings::compute(&results, &Scope::all(&results), 1).candidates;
    found.iter().any(|row| {
        let (best, worst) = row.rank_range.unwrap_or((1, 4));
        if row.name == "0" { best > 1 } else { best > 2 || worst < 4 }
    })
}

fn power(rounds: usize) {
    println!("\nhow often a gap of 10 points between two candidates is established, in %\n");
    println!("{:>6} {:>8} {:>10} {:>10}", "tasks", "samples", "0.5, 0.6", "0.8, 0.9");
    let mut chance = Chance(0x5EED);
    for tasks in [20, 50, 100, 200, 400] {
        for samples in [1, 3, 5] {
            let cells = [[0.5, 0.6], [0.8, 0.9]].map(|means| {
                let some = (0..rounds)
                    .filter(|_| any_established(&draw(&mut chance, &means, tasks, samples)));
                some.count() as f64 / rounds as f64 * 100.0
            });
            println!("{tasks:>6} {samples:>8} {:>10.1} {:>10.1}", cells[0], cells[1]);
        }
    }
}
