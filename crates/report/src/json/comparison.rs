//! Comparisons and gates, for programs.

use std::io::{self, Write};

use fairtrial_core::standings::{CellSums, Finding, Rule};
use serde::Serialize;

use super::standings::{CandidateOutput, PairOutput, pair, row};
use super::write_json;
use crate::view::{ComparedTask, ComparisonView};

/// The version of these outputs.
const FORMAT_VERSION: u32 = 1;

#[derive(Serialize)]
struct CompareOutput<'a> {
    format_version: u32,
    comparisons: Vec<ComparedOutput<'a>>,
}

#[derive(Serialize)]
struct ComparedOutput<'a> {
    #[serde(flatten)]
    pair: PairOutput<'a>,
    currency: &'a str,
    candidates: [CandidateOutput<'a>; 2],
    compared_tasks: Vec<TaskPairOutput<'a>>,
    only_first: &'a [String],
    only_second: &'a [String],
    changed: Vec<&'a str>,
}

#[derive(Serialize)]
struct TaskPairOutput<'a> {
    task: &'a str,
    category: &'a str,
    difference: f64,
    first: SideOutput,
    second: SideOutput,
}

#[derive(Serialize)]
struct SideOutput {
    solved: u32,
    trials: u32,
    seconds: f64,
    cost: f64,
}

/// Writes comparisons as JSON.
///
/// # Errors
/// When the writer fails.
pub fn comparisons_json(out: &mut dyn Write, views: &[ComparisonView]) -> io::Result<()> {
    let comparisons = views.iter().map(compared).collect();
    write_json(out, &CompareOutput { format_version: FORMAT_VERSION, comparisons })
}

fn compared(view: &ComparisonView) -> ComparedOutput<'_> {
    ComparedOutput {
        pair: pair(&view.comparison),
        currency: &view.currency,
        candidates: [row(&view.rows.0), row(&view.rows.1)],
        compared_tasks: view.tasks.iter().map(task).collect(),
        only_first: &view.only_first,
        only_second: &view.only_second,
        changed: view.changed.iter().map(|it| it.name.as_str()).collect(),
    }
}

fn task(task: &ComparedTask) -> TaskPairOutput<'_> {
    let side = |(solved, trials): (u32, u32), sums: &CellSums| SideOutput {
        solved,
        trials,
        seconds: sums.seconds,
        cost: sums.cost,
    };
    TaskPairOutput {
        task: &task.name,
        category: &task.category,
        difference: task.difference(),
        first: side(task.counts.a, &task.sums.0),
        second: side(task.counts.b, &task.sums.1),
    }
}

#[derive(Serialize)]
struct GateOutput {
    format_version: u32,
    holds: bool,
    rules: Vec<RuleOutput>,
}

#[derive(Serialize)]
struct RuleOutput {
    rule: String,
    holds: bool,
    value: Option<f64>,
    interval: Option<[f64; 2]>,
    p_adjusted: Option<f64>,
}

/// Writes what rules came to as JSON. `None` is a rule about something that was not measured: it does not hold.
///
/// # Errors
/// When the writer fails.
pub fn gate_json(out: &mut dyn Write, findings: &[(Rule, Option<Finding>)]) -> io::Result<()> {
    let rule = |(rule, finding): &(Rule, Option<Finding>)| RuleOutput {
        rule: rule.to_string(),
        holds: finding.is_some_and(|it| it.holds),
        value: finding.map(|it| it.value),
        interval: finding.and_then(|it| it.interval).map(|(low, high)| [low, high]),
        p_adjusted: finding.and_then(|it| it.p),
    };
    let rules: Vec<RuleOutput> = findings.iter().map(rule).collect();
    let holds = rules.iter().all(|it| it.holds);
    write_json(out, &GateOutput { format_version: FORMAT_VERSION, holds, rules })
}
