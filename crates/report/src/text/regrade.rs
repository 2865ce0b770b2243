//! A grading beside the first verdicts.

use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::verdict::Verdict;
use fairtrial_record::{GradingRow, RegradeRow};

use super::table::layout;
use super::wrap;
use crate::figures::count;
use crate::safe::safe;
use crate::style::Style;

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
