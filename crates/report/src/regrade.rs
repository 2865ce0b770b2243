//! A grading beside the first verdicts.

use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::verdict::Verdict;
use fairtrial_record::{GradingRow, RegradeRow};
use serde::Serialize;

use crate::figures::count;
use crate::json::write_json;
use crate::safe::safe;
use crate::standings::wrap;
use crate::style::Style;
use crate::table::layout;

/// The version of the JSON output.
const FORMAT_VERSION: u32 = 1;

/// Writes how many verdicts are the same, each that differs, and why.
///
/// # Errors
/// When the writer fails.
pub fn regrade_table(out: &mut dyn Write, grading: &GradingRow, style: Style) -> io::Result<()> {
    let all = grading.answers.len();
    let differing: Vec<&RegradeRow> =
        grading.answers.iter().filter(|it| it.cause.is_some()).collect();
    let heading = format!("grading {}: {} judged again", grading.id, count(all, "answer"));
    writeln!(out, "{}", style.heading(&heading))?;
    writeln!(out, "{} the same, {} not\n", all - differing.len(), differing.len())?;
    if !differing.is_empty() {
        let header = ["trial", "task", "candidate", "attempt", "at first", "now", "tests", "why"];
        let rows: Vec<_> = differing.iter().map(|row| cells(row)).collect();
        for (index, line) in layout(&header, &rows, &[1, 2, 4, 5, 7]).iter().enumerate() {
            writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
        }
        writeln!(out)?;
        let mut causes = BTreeMap::<&str, usize>::new();
        for row in &differing {
            *causes.entry(row.cause.as_deref().unwrap_or_default()).or_default() += 1;
        }
        let causes: Vec<_> =
            causes.iter().map(|(cause, count)| format!("{count} {}", safe(cause))).collect();
        for line in wrap(&format!("Why they differ: {}.", causes.join("; ")), style.width) {
            writeln!(out, "{line}")?;
        }
    }
    if grading.left_out > 0 {
        let left_out = count(grading.left_out as usize, "answer");
        writeln!(out, "Not judged again, since the task is gone: {left_out}.")?;
    }
    writeln!(out, "The first verdicts stand; this grading is kept beside them.")
}

/// Longest reason in the table, in characters.
const WHY_MAX: usize = 24;

fn cells(row: &RegradeRow) -> Vec<String> {
    let cause = row.cause.as_deref().unwrap_or_default();
    let mut why: String = safe(cause).chars().take(WHY_MAX).collect();
    if cause.chars().count() > WHY_MAX {
        why = why.chars().take(WHY_MAX - 1).chain(['…']).collect();
    }
    vec![
        row.trial.to_string(),
        safe(&row.key.task).into_owned(),
        safe(&row.key.candidate).into_owned(),
        row.attempt.to_string(),
        brief(row.first),
        brief(row.again),
        format!("{} → {} of {}", row.first_passed, row.passed, row.total),
        why,
    ]
}

/// A verdict in one or two words: the reason says that it is no pass.
fn brief(verdict: Verdict) -> String {
    verdict.reason().map_or_else(|| verdict.word().to_owned(), str::to_owned)
}

#[derive(Serialize)]
struct RegradeOutput<'a> {
    format_version: u32,
    grading: i64,
    begun: &'a str,
    fairtrial: &'a str,
    answers: usize,
    same: usize,
    differing: usize,
    left_out: u32,
    rows: Vec<AnswerOutput<'a>>,
}

#[derive(Serialize)]
struct AnswerOutput<'a> {
    trial: i64,
    task: &'a str,
    candidate: &'a str,
    sample: u32,
    attempt: u32,
    verdict: &'static str,
    reason: Option<&'static str>,
    tests_passed: u32,
    verdict_again: &'static str,
    reason_again: Option<&'static str>,
    tests_passed_again: u32,
    tests_total: u32,
    same: bool,
    cause: Option<&'a str>,
    notes: &'a [String],
}

/// Writes every answer of a grading as JSON.
///
/// # Errors
/// When the writer fails.
pub fn regrade_json(out: &mut dyn Write, grading: &GradingRow) -> io::Result<()> {
    let differing = grading.answers.iter().filter(|it| it.cause.is_some()).count();
    let output = RegradeOutput {
        format_version: FORMAT_VERSION,
        grading: grading.id,
        begun: &grading.begun,
        fairtrial: &grading.machine.fairtrial,
        answers: grading.answers.len(),
        same: grading.answers.len() - differing,
        differing,
        left_out: grading.left_out,
        rows: grading.answers.iter().map(row).collect(),
    };
    write_json(out, &output)
}

fn row(it: &RegradeRow) -> AnswerOutput<'_> {
    AnswerOutput {
        trial: it.trial,
        task: &it.key.task,
        candidate: &it.key.candidate,
        sample: it.key.sample,
        attempt: it.attempt,
        verdict: it.first.word(),
        reason: it.first.reason(),
        tests_passed: it.first_passed,
        verdict_again: it.again.word(),
        reason_again: it.again.reason(),
        tests_passed_again: it.passed,
        tests_total: it.total,
        same: it.cause.is_none(),
        cause: it.cause.as_deref(),
        notes: &it.notes,
    }
}
