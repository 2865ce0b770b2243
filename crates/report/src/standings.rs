//! The ranking, for people.

use std::collections::BTreeMap;
use std::io::{self, Write};

use fairtrial_core::plan::{Candidate, Feedback, ReadingMode};
use fairtrial_core::standings::{Standing, Standings, TrialResult};
use fairtrial_core::verdict::Verdict;
use fairtrial_record::{Manifest, Record, RecordError, Selection, TrialSummary};

use crate::figures::{count, percent, thousands};
use crate::safe::safe;
use crate::style::Style;
use crate::table::layout;

/// A record, read as far as the standings need it.
#[derive(Debug)]
pub struct Loaded {
    /// What it says of the run.
    pub manifest: Manifest,
    /// Its trials, in figures.
    pub trials: Vec<TrialSummary>,
    /// Who stands where.
    pub standings: Standings,
}

/// Reads a record and computes the standings.
///
/// # Errors
/// When it cannot be read.
pub fn load(record: &Record) -> Result<Loaded, RecordError> {
    let trials = record.summaries(&Selection::default())?;
    let manifest = record.manifest().clone();
    let results: Vec<TrialResult> = trials.iter().filter_map(TrialSummary::result).collect();
    let names: Vec<&str> = manifest.plan.candidates.iter().map(Candidate::name).collect();
    let standings = Standings::compute(&names, &results);
    Ok(Loaded { manifest, trials, standings })
}

/// Writes the standings as a table with notes.
///
/// # Errors
/// When the writer fails.
pub fn standings(out: &mut dyn Write, loaded: &Loaded, style: Style) -> io::Result<()> {
    let plan = &loaded.manifest.plan;
    let rows = &loaded.standings.candidates;
    let title = if plan.title.is_empty() { "Standings" } else { &plan.title };
    writeln!(out, "{}", style.heading(&safe(title)))?;
    let tasks = loaded.manifest.tasks.len();
    writeln!(
        out,
        "{}, {} each, up to {}; costs in {}\n",
        count(tasks, "task"),
        count(plan.samples as usize, "sample"),
        count(plan.attempts as usize, "attempt"),
        safe(&plan.currency)
    )?;
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
    writeln!(out)?;
    notes(out, loaded, style)
}

fn cells(row: &Standing, cost_places: usize) -> Vec<String> {
    let dash = || "–".to_owned();
    let mut name = safe(&row.name).into_owned();
    if name.chars().count() > 20 {
        name = name.chars().take(19).chain(['…']).collect();
    }
    vec![
        row.rank.map_or_else(dash, |it| it.to_string()),
        name,
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

/// What a reader must know to read the table rightly.
fn notes(out: &mut dyn Write, loaded: &Loaded, style: Style) -> io::Result<()> {
    let rows = &loaded.standings.candidates;
    let mut lines = Vec::new();
    let mut by_rank = BTreeMap::<usize, Vec<&str>>::new();
    for row in rows {
        if let Some(rank) = row.rank {
            by_rank.entry(rank).or_default().push(&row.name);
        }
    }
    for (rank, names) in by_rank.iter().filter(|it| it.1.len() > 1) {
        let (first, others) = (names[0], &names[1..]);
        let other = |name: &&str| {
            let pairs = &loaded.standings.comparisons;
            let pair = pairs.iter().find(|it| it.names.0 == first && it.names.1 == **name);
            let figures = pair.map_or(String::new(), |it| {
                format!(" (paired over {}, adjusted p {:.2})", count(it.tasks, "task"), it.p)
            });
            format!("{}{figures}", safe(name))
        };
        let others = first_few(others.iter().map(other).collect());
        lines.push(format!(
            "Rank {rank} is shared: the lead of {} is not established over {others}.",
            safe(first)
        ));
    }
    if lines.len() > NAMED_MAX {
        let more = lines.len() - NAMED_MAX;
        lines.truncate(NAMED_MAX);
        lines.push(format!("So are {more} further ranks; `--json` has every pair."));
    }
    let deviating: Vec<String> = rows
        .iter()
        .filter(|row| row.deviating > 0)
        .map(|row| format!("{} {} of {}", safe(&row.name), row.deviating, row.answers))
        .collect();
    if !deviating.is_empty() {
        lines.push(format!(
            "Answers not in the form asked for ({}): {}.",
            match loaded.manifest.plan.reading {
                ReadingMode::Lenient => "read leniently",
                ReadingMode::Strict => "which the strict reading does not take",
            },
            first_few(deviating)
        ));
    }
    if loaded.manifest.plan.feedback == Feedback::Open {
        lines.push(
            "Feedback was open: candidates were shown the hidden tests that they failed.".into(),
        );
    }
    let mut void = BTreeMap::<&str, usize>::new();
    for trial in &loaded.trials {
        if let Some(verdict @ Verdict::Void(_)) = trial.verdict {
            *void.entry(verdict.reason().unwrap_or_default()).or_default() += 1;
        }
    }
    if !void.is_empty() {
        let void: Vec<_> = void.iter().map(|(reason, count)| format!("{count} {reason}")).collect();
        lines.push(format!("Void trials count for nobody: {}.", void.join(", ")));
    }
    let wanted = loaded.manifest.tasks.len() * loaded.manifest.plan.samples as usize * rows.len();
    let over = loaded.trials.iter().filter(|it| it.verdict.is_some()).count();
    if over < wanted {
        lines.push(format!("The run is not complete: {over} of {wanted} trials are over."));
    }
    if loaded.trials.iter().any(|it| it.estimated) {
        lines.push("Some hosts did not count tokens: those were estimated from lengths.".into());
    }
    for tier in loaded.manifest.tiers() {
        match tier {
            "full" => {}
            "plain" => lines.push(
                "Code was confined in the plain tier: by Landlock and the system-call filter, \
                 without namespaces."
                    .into(),
            ),
            _ => lines.push(
                "Code was trusted, not confined: what it did to the judging is not known.".into(),
            ),
        }
    }
    if loaded.manifest.machines.len() > 1 {
        lines.push(format!(
            "The run was made in {} different environments; see `machines` in the manifest.",
            loaded.manifest.machines.len()
        ));
    }
    for line in lines {
        for part in wrap(&line, style.width) {
            writeln!(out, "{part}")?;
        }
    }
    Ok(())
}

/// How many of a kind a note names; the rest it counts.
const NAMED_MAX: usize = 4;

/// The first ones of a list, and how many more there are.
pub(crate) fn first_few(mut names: Vec<String>) -> String {
    let more = names.len().saturating_sub(NAMED_MAX);
    names.truncate(NAMED_MAX);
    let named = names.join(", ");
    if more == 0 { named } else { format!("{named} and {more} more") }
}

/// Breaks a line that is wider than `width` at spaces.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    if unicode_width::UnicodeWidthStr::width(text) <= width {
        return vec![text.to_owned()];
    }
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let last = lines.last().map_or(0, |line| unicode_width::UnicodeWidthStr::width(&**line));
        if last > 0 && last + 1 + unicode_width::UnicodeWidthStr::width(word) > width {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_broken_at_spaces_and_short_ones_left_alone() {
        assert_eq!(wrap("a  b", 10), ["a  b"]);
        assert_eq!(wrap("aaa bbb ccc", 7), ["aaa bbb", "ccc"]);
        assert_eq!(wrap("a verylongword b", 5), ["a", "verylongword", "b"]);
        // What is wide on a terminal counts twice.
        assert_eq!(wrap("潮位 潮位 潮位", 9), ["潮位 潮位", "潮位"]);
    }

    #[test]
    fn notes_stay_short_however_many_candidates_there_are() {
        let names: Vec<String> = (0..50).map(|it| format!("seabird-number-{it}")).collect();
        let few = first_few(names.clone());
        assert!(few.len() < 100 && few.ends_with("seabird-number-3 and 46 more"), "{few}");
        assert_eq!(first_few(names[..2].to_vec()), "seabird-number-0, seabird-number-1");
    }

    #[test]
    fn a_candidate_without_a_trial_that_counts_has_dashes() {
        let rows = Standings::compute(&["auk"], &[]).candidates;
        let cells = cells(&rows[0], 4);
        assert_eq!(cells[0], "–");
        assert_eq!(cells[2..8], ["0/0", "–", "–", "–", "–", "–"]);
    }
}
