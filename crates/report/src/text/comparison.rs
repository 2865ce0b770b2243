//! Two candidates side by side, for people.

use std::cmp::Ordering;
use std::io::{self, Write};

use super::grid::write_grid;
use super::{first_few, wrap};
use crate::figures::count;
use crate::grid::{RankingColumn, compared_tasks_grid, comparison_grid, p_value, ranking_grid};
use crate::safe::safe;
use crate::style::Style;
use crate::view::ComparisonView;

/// Columns of the two rows above the tasks.
const COLUMNS: &[RankingColumn] = &[
    RankingColumn::Candidate,
    RankingColumn::Solved,
    RankingColumn::Share,
    RankingColumn::Interval,
    RankingColumn::FirstTry,
    RankingColumn::Repairs,
    RankingColumn::Time,
    RankingColumn::TrialCost,
    RankingColumn::Strict,
    RankingColumn::Void,
];

/// Writes two candidates, the tasks where they differ first.
///
/// # Errors
/// When the writer fails.
pub fn comparison_text(out: &mut dyn Write, view: &ComparisonView, style: Style) -> io::Result<()> {
    let (first, second) = &view.names;
    writeln!(out, "{}", style.heading(&safe(&format!("{first} and {second}"))))?;
    let tasks = count(view.tasks.len(), "task");
    writeln!(out, "on the {tasks} that both did; costs in {}\n", safe(&view.currency))?;
    let rows = [view.rows.0.clone(), view.rows.1.clone()];
    write_grid(out, &ranking_grid(&rows, COLUMNS, None), style)?;
    writeln!(out)?;
    for line in wrap(&comparison_sentence(view), style.width) {
        writeln!(out, "{line}")?;
    }
    writeln!(out)?;
    let grid = compared_tasks_grid(view);
    if !grid.rows.is_empty() {
        write_grid(out, &grid, style)?;
        writeln!(out)?;
    }
    for line in comparison_notes(view) {
        for line in wrap(&line, style.width) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

/// Writes several comparisons, one a row.
///
/// # Errors
/// When the writer fails.
pub fn comparisons_text(
    out: &mut dyn Write,
    views: &[ComparisonView],
    style: Style,
) -> io::Result<()> {
    let comparisons: Vec<_> = views.iter().map(|it| it.comparison.clone()).collect();
    write_grid(out, &comparison_grid(&comparisons), style)?;
    writeln!(out)?;
    for view in views.iter().filter(|it| it.comparison.decision() != Ordering::Equal) {
        for line in wrap(&comparison_sentence(view), style.width) {
            writeln!(out, "{line}")?;
        }
    }
    let notes: Vec<String> = views.iter().flat_map(comparison_notes).collect();
    for (place, line) in notes.iter().enumerate() {
        if !notes[..place].contains(line) {
            for line in wrap(line, style.width) {
                writeln!(out, "{line}")?;
            }
        }
    }
    Ok(())
}

/// What the comparison comes to, in words.
#[must_use]
pub fn comparison_sentence(view: &ComparisonView) -> String {
    let pair = &view.comparison;
    let (first, second) = (safe(&view.names.0), safe(&view.names.1));
    if pair.tasks == 0 {
        return format!("{first} and {second} did no task both: nothing can be said.");
    }
    let points = pair.difference * 100.0;
    let which = match points.partial_cmp(&0.0) {
        Some(Ordering::Greater) => format!("{points:.1} points more than"),
        Some(Ordering::Less) => format!("{:.1} points less than", -points),
        _ => "as much as".to_owned(),
    };
    let interval = pair.interval.map_or(String::new(), |(low, high)| {
        format!(" (95 % interval {:+.1} to {:+.1})", low * 100.0, high * 100.0)
    });
    let decision = match pair.decision() {
        Ordering::Equal => "no more than chance can make",
        _ => "more than chance: established",
    };
    format!(
        "{first} solves {which} {second}{interval}: {} won, {} tied, {} lost; p {}, {decision}.",
        pair.wins,
        pair.tasks - pair.wins - pair.losses,
        pair.losses,
        p_value(pair.p_adjusted)
    )
}

/// What was not compared, and what makes the test less sure.
fn comparison_notes(view: &ComparisonView) -> Vec<String> {
    let mut notes = Vec::new();
    let named =
        |names: &[String]| first_few(names.iter().map(|it| safe(it).into_owned()).collect());
    for (name, only) in [(&view.names.0, &view.only_first), (&view.names.1, &view.only_second)] {
        if !only.is_empty() {
            let (tasks, name) = (count(only.len(), "task"), safe(name));
            notes.push(format!(
                "Only {name} did {tasks}, which count for nothing: {}.",
                named(only)
            ));
        }
    }
    if !view.changed.is_empty() {
        let changed = view.changed.iter().map(|it| {
            let (a, b) = (it.counts.a, it.counts.b);
            format!("{} ({}/{} and {}/{})", safe(&it.name), a.0, a.1, b.0, b.1)
        });
        notes.push(format!(
            "Not the same task in both, and not compared: {}.",
            first_few(changed.collect())
        ));
    }
    let pair = &view.comparison;
    if pair.unequal > 0 {
        let tasks = count(pair.unequal, "task");
        notes.push(format!(
            "At {tasks} the two have different numbers of samples: there the test is less sure."
        ));
    }
    if !pair.exact {
        notes.push("p is not exact: differences were rounded to a common step.".to_owned());
    }
    notes
}
