//! The computations that every answer goes through.

use fairtrial_core::standings::{Results, Scope, Standings, TaskFacts};
use fairtrial_core::value::{CompareRules, Order, compare, parse_line};
use fairtrial_core::verdict::{FailReason, Verdict};

fn main() {
    divan::main();
}

/// Two lists of 1000 numbers in opposite order.
#[divan::bench]
fn compare_in_any_order(bencher: divan::Bencher<'_, '_>) {
    let list =
        |numbers: Vec<String>| parse_line(&format!("[{}]", numbers.join(","))).expect("JSON");
    let up = list((0..1000).map(|it| it.to_string()).collect());
    let down = list((0..1000).rev().map(|it| it.to_string()).collect());
    let rules = CompareRules { order: Order::AnyOutside, ..CompareRules::default() };
    bencher.bench(|| compare(divan::black_box(&up), divan::black_box(&down), rules).is_ok());
}

/// Standings of 10 candidates over 200 tasks with 5 samples: 10,000 trials.
#[divan::bench(sample_count = 10)]
fn compute_standings(bencher: divan::Bencher<'_, '_>) {
    let names: Vec<String> = (0..10).map(|it| format!("bird-{it}")).collect();
    let task = |it: usize| TaskFacts { name: format!("task-{it}"), ..TaskFacts::default() };
    let mut results = Results::new(names, (0..200).map(task).collect(), 5);
    for candidate in 0..10 {
        for task in 0..200 {
            for sample in 1..=5 {
                let passes = (task * 7 + sample * 3 + candidate * 11) % 17 > candidate;
                let verdict = match passes {
                    true => Verdict::Pass,
                    false => Verdict::Fail(FailReason::WrongResult),
                };
                results.add(candidate, task, sample, &fairtrial_benches::trial(verdict));
            }
        }
    }
    let scope = Scope::all(&results);
    bencher.bench(|| Standings::compute(divan::black_box(&results), divan::black_box(&scope), 1));
}
