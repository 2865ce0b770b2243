//! The ranking, for people.

use std::io::{self, Write};

use fairtrial_core::plan::ReadingMode;
use fairtrial_core::standings::Standing;
use fairtrial_core::trouble::Trouble;

use super::table::layout;
use super::{first_few, wrap};
use crate::figures::{count, percent, thousands};
use crate::safe::safe;
use crate::style::Style;
use crate::view::{Note, Rival, StandingsView, TroubleRow};

/// Writes the standings as a table with notes.
///
/// # Errors
/// When the writer fails.
pub fn standings(out: &mut dyn Write, view: &StandingsView, style: Style) -> io::Result<()> {
    let rows = &view.rows;
    let title = if view.title.is_empty() { "Standings" } else { &view.title };
    writeln!(out, "{}", style.heading(&safe(title)))?;
    writeln!(
        out,
        "{}, {} each, up to {}; costs in {}\n",
        count(view.tasks, "task"),
        count(view.samples as usize, "sample"),
        count(view.attempts as usize, "attempt"),
        safe(&view.currency)
    )?;
    if !rows.is_empty() {
        table(out, rows, style)?;
    }
    for narrow in &view.narrower {
        let tasks = narrow.tasks.iter().map(|it| safe(it).into_owned()).collect();
        writeln!(out, "{}\n", style.bold(&format!("over {} alone", first_few(tasks))))?;
        table(out, &narrow.rows, style)?;
        for note in &narrow.notes {
            for line in wrap(&sentence(note), style.width) {
                writeln!(out, "{line}")?;
            }
        }
        writeln!(out)?;
    }
    if !view.trouble.is_empty() {
        trouble(out, &view.trouble, style)?;
    }
    for note in &view.notes {
        for line in wrap(&sentence(note), style.width) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

/// Trouble on the way, as shares of trials.
fn trouble(out: &mut dyn Write, rows: &[TroubleRow], style: Style) -> io::Result<()> {
    writeln!(out, "{}\n", style.bold("trouble on the way, in so many trials"))?;
    let sorts = Trouble::default().sorts().map(|it| it.0);
    let header: Vec<&str> = ["candidate"].into_iter().chain(sorts).collect();
    let cells: Vec<_> = rows
        .iter()
        .map(|row| {
            let cell = |(_, count): (&str, u32)| match count {
                0 => "–".to_owned(),
                count => format!("{count}/{}", row.trials),
            };
            [short_name(&row.name)].into_iter().chain(row.seen.sorts().map(cell)).collect()
        })
        .collect();
    for (index, line) in layout(&header, &cells, &[0]).iter().enumerate() {
        writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
    }
    writeln!(out)
}

/// A name that leaves room for figures.
fn short_name(name: &str) -> String {
    let name = safe(name).into_owned();
    match name.chars().count() > NAME_MAX {
        true => name.chars().take(NAME_MAX - 1).chain(['…']).collect(),
        false => name,
    }
}

/// Longest name in a table, in characters.
const NAME_MAX: usize = 20;

fn table(out: &mut dyn Write, rows: &[Standing], style: Style) -> io::Result<()> {
    let header = [
        "rank",
        "candidate",
        "solved",
        "share",
        "95 % interval",
        "first try",
        "repairs",
        "s/trial",
        "tokens",
        "cost",
        "void",
    ];
    // One number of places for the whole column.
    let cost_places = if rows.iter().any(|row| row.cost >= 1.0) { 2 } else { 4 };
    let cells: Vec<_> = rows.iter().map(|row| cells(row, cost_places)).collect();
    for (index, line) in layout(&header, &cells, &[1]).iter().enumerate() {
        writeln!(out, "{}", if index == 0 { style.dim(line) } else { line.clone() })?;
    }
    writeln!(out)
}

fn cells(row: &Standing, cost_places: usize) -> Vec<String> {
    let dash = || "–".to_owned();
    vec![
        row.rank_range.map_or_else(dash, |(best, worst)| match best == worst {
            true => best.to_string(),
            false => format!("{best}–{worst}"),
        }),
        short_name(&row.name),
        format!("{}/{}", row.solved, row.trials),
        row.solved_rate.map_or_else(dash, percent),
        row.interval.map_or_else(dash, |(low, high)| {
            format!("{:.0} to {:.0} %", low * 100.0, high * 100.0)
        }),
        row.first_try_rate.map_or_else(dash, percent),
        row.mean_repairs.map_or_else(dash, |it| format!("{it:.2}")),
        if row.trials == 0 { dash() } else { format!("{:.2}", row.seconds / row.trials as f64) },
        thousands(row.tokens.input + row.tokens.output),
        format!("{:.*}", cost_places, row.cost),
        row.void.to_string(),
    ]
}

/// A note in words.
fn sentence(note: &Note) -> String {
    match note {
        Note::SharedRank { rank, leader, others } => {
            let other = |it: &Rival| {
                let figures = it.compared.map_or(String::new(), |(tasks, p)| {
                    format!(" (paired over {}, adjusted p {p:.2})", count(tasks, "task"))
                });
                let better =
                    if it.is_better { ", which is better on the tasks that both did" } else { "" };
                format!("{}{better}{figures}", safe(&it.name))
            };
            let others = first_few(others.iter().map(other).collect());
            let leader = safe(leader);
            format!("Rank {rank} is shared: the lead of {leader} is not established over {others}.")
        }
        Note::MoreSharedRanks(more) => {
            format!("So are {more} further ranks; `--json` has every pair.")
        }
        Note::Deviating { reading, candidates } => {
            let how = match reading {
                ReadingMode::Lenient => "read leniently",
                ReadingMode::Strict => "which the strict reading does not take",
            };
            let counts = candidates
                .iter()
                .map(|it| format!("{} {} of {}", safe(&it.name), it.deviating, it.answers));
            let counts = first_few(counts.collect());
            format!("Answers not in the form asked for ({how}): {counts}.")
        }
        Note::OpenFeedback => {
            "Feedback was open: candidates were shown the hidden tests that they failed.".to_owned()
        }
        Note::Void(reasons) => {
            let reasons = reasons.iter().map(|(reason, count)| format!("{count} {reason}"));
            let reasons = reasons.collect::<Vec<_>>().join(", ");
            format!("Void trials count for nobody: {reasons}.")
        }
        Note::Helped(candidates) => {
            let some = candidates.iter().map(|it| {
                let trials = count(it.trials, "trial");
                format!("{} in {trials}, {} passed", it.name, it.passed)
            });
            let some = some.collect::<Vec<_>>().join("; ");
            format!("A person helped, and the ranking counts it as if not: {some}.")
        }
        Note::Incomplete { over, wanted } => {
            format!("The run is not complete: {over} of {wanted} trials are over.")
        }
        Note::EstimatedTokens => {
            "Some hosts did not count tokens: those were estimated from lengths.".to_owned()
        }
        Note::PlainTier => "Code was confined in the plain tier: by Landlock and the system-call \
                            filter, without namespaces."
            .to_owned(),
        Note::TrustedTier => {
            "Code was trusted, not confined: what it did to the judging is not known.".to_owned()
        }
        Note::Environments(count) => format!(
            "The run was made in {count} different environments; see `machines` in the manifest."
        ),
    }
}

#[cfg(test)]
mod tests {
    use fairtrial_core::standings::Standings;

    use super::*;

    #[test]
    fn a_candidate_without_a_trial_that_counts_has_dashes() {
        let rows = Standings::compute(&["auk"], &[]).candidates;
        let cells = cells(&rows[0], 4);
        assert_eq!(cells[0], "–");
        assert_eq!(cells[2..8], ["0/0", "–", "–", "–", "–", "–"]);
    }
}
