//! The computations that every answer goes through.

use fairtrial_core::standings::{Standings, TaskCounts};
use fairtrial_core::value::{CompareRules, Order, compare, parse_line};

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
    let mut counts = Vec::new();
    for (number, name) in names.iter().enumerate() {
        for task in 0..200 {
            let passes = |sample: &usize| (task * 7 + sample * 3 + number * 11) % 17 > number;
            let passed = (0..5).filter(passes).count() as u32;
            counts.push(TaskCounts {
                candidate: name.clone(),
                task: format!("task-{task}"),
                trials: 5,
                passed,
                first_try: passed,
                answers: 5,
                seconds: 5.0,
                cost: 0.5,
                ..TaskCounts::default()
            });
        }
    }
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    bencher.bench(|| Standings::compute(divan::black_box(&names), divan::black_box(&counts)));
}
