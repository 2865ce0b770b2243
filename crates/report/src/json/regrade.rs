//! A grading beside the first verdicts, for programs.

use std::io::{self, Write};

use fairtrial_record::{GradingRow, RegradeRow};
use serde::Serialize;

use super::write_json;

/// The version of this output.
const FORMAT_VERSION: u32 = 1;

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
