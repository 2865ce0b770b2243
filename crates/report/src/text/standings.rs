//! The ranking, for people.

use std::io::{self, Write};

use fairtrial_core::plan::ReadingMode;

use super::grid::write_grid;
use super::{first_few, wrap};
use crate::figures::{count, percent};
use crate::grid::{
    Grid, RankingColumn, frontier_grid, ranking_grid, reasons_grid, slices_grid, trouble_grid,
};
use crate::safe::safe;
use crate::style::Style;
use crate::view::{JoinNote, Note, PublishedRow, StandingsView};

/// Which columns of a ranking are shown, and by which it is sorted.
#[derive(Debug, Clone)]
pub struct RankingLayout {
    /// The columns.
    pub columns: Vec<RankingColumn>,
    /// What rows are sorted by; `None`: as they are ranked.
    pub sort: Option<RankingColumn>,
}

impl Default for RankingLayout {
    fn default() -> Self {
        Self { columns: RankingColumn::USUAL.to_vec(), sort: None }
    }
}

/// The grids that standings consist of, in their order: first the ranking, or what it was sliced by.
#[must_use]
pub fn standings_grids(view: &StandingsView, layout: &RankingLayout) -> Vec<Grid> {
    let ranking = |rows: &_| ranking_grid(rows, &layout.columns, layout.sort);
    let mut grids = Vec::new();
    if let Some(reasons) = &view.reasons {
        return vec![reasons_grid(reasons)];
    }
    if !view.slices.is_empty() {
        let mut names: Vec<String> = view.rows.iter().map(|it| it.name.clone()).collect();
        for row in view.slices.iter().flat_map(|it| &it.rows) {
            if !names.contains(&row.name) {
                names.push(row.name.clone());
            }
        }
        return vec![slices_grid(&view.slices, &names)];
    }
    if !view.rows.is_empty() {
        grids.push(ranking(&view.rows));
    }
    for narrow in &view.narrower {
        let title = format!("over {} alone", first_few(narrow.tasks.clone()));
        grids.push(Grid { title, ..ranking(&narrow.rows) });
    }
    if !view.trouble.is_empty() {
        grids.push(trouble_grid(&view.trouble));
    }
    grids
}

/// Writes the standings as a table with notes.
///
/// # Errors
/// When the writer fails.
pub fn standings(
    out: &mut dyn Write,
    view: &StandingsView,
    layout: &RankingLayout,
    style: Style,
) -> io::Result<()> {
    standings_head(out, view, style)?;
    grids_with_notes(out, &standings_grids(view, layout), view, style)
}

/// Writes grids, and then what a reader must know.
///
/// # Errors
/// When the writer fails.
pub fn grids_with_notes(
    out: &mut dyn Write,
    grids: &[Grid],
    view: &StandingsView,
    style: Style,
) -> io::Result<()> {
    for grid in grids {
        write_grid(out, grid, style)?;
        writeln!(out)?;
    }
    for line in standings_notes(view) {
        for line in wrap(&line, style.width) {
            writeln!(out, "{line}")?;
        }
    }
    Ok(())
}

/// Writes what the standings are of.
///
/// # Errors
/// When the writer fails.
pub fn standings_head(out: &mut dyn Write, view: &StandingsView, style: Style) -> io::Result<()> {
    let title = if view.title.is_empty() { "Standings" } else { &view.title };
    writeln!(out, "{}", style.heading(&safe(title)))?;
    writeln!(
        out,
        "{}, {} each, up to {}; costs in {}\n",
        count(view.tasks, "task"),
        count(view.samples as usize, "sample"),
        count(view.attempts as usize, "attempt"),
        safe(&view.currency)
    )
}

/// Everything that a reader must know, a sentence or two each.
#[must_use]
pub fn standings_notes(view: &StandingsView) -> Vec<String> {
    let best = view.best.as_ref().map(|it| match &it.best {
        Some(best) => format!(
            "Best for at most {} {} a trial: {}, which solves {} at {:.6}.",
            it.budget,
            safe(&view.currency),
            safe(&best.name),
            percent(best.rate),
            best.price
        ),
        None => {
            format!("Nobody costs at most {} {} a trial.", it.budget, safe(&view.currency))
        }
    });
    let published = view.published.iter().map(published);
    best.into_iter().chain(published).chain(view.notes.iter().map(sentence)).collect()
}

/// Where and in which view each of the frontiers is.
#[must_use]
pub fn frontier_grids(view: &StandingsView) -> Vec<Grid> {
    let cost = format!(
        "cost against solved, in {}: nobody else gives as much for as little",
        view.currency
    );
    let time = "time against solved: nobody else gives as much as fast";
    [(cost.as_str(), "cost", &view.by_cost), (time, "seconds", &view.by_time)]
        .into_iter()
        .filter(|it| !it.2.is_empty())
        .map(|(title, unit, steps)| frontier_grid(title, unit, steps))
        .collect()
}

/// A published figure, marked as such.
fn published(row: &PublishedRow) -> String {
    let figure = &row.figure;
    let is_share = ["solved", "first try"].contains(&figure.measure.as_str());
    let show = |it: f64| if is_share { percent(it) } else { it.to_string() };
    let own = row.own.map_or(String::new(), |it| format!(" (here {})", show(it)));
    let (name, measure, source) =
        (safe(&figure.candidate), safe(&figure.measure), safe(&figure.source));
    format!(
        "Published, not measured here: {name}, {measure} {}{own}; {source}.",
        show(figure.value)
    )
}

/// A note in words.
fn sentence(note: &Note) -> String {
    match note {
        Note::ToldApart { established: 0, .. } => {
            "No candidate is told apart from another; the order says nothing.".to_owned()
        }
        Note::ToldApart { pairs, established } if established == pairs => {
            format!("All {} of candidates are told apart.", count(*pairs, "pair"))
        }
        Note::ToldApart { pairs, established } => format!(
            "Of {} of candidates {established} {} told apart; the order of the others says nothing.",
            count(*pairs, "pair"),
            if *established == 1 { "is" } else { "are" }
        ),
        Note::Unequal(pairs) => format!(
            "In {} the two have different numbers of samples at some tasks: there the test is less sure.",
            count(*pairs, "pair")
        ),
        Note::Rounded(pairs) => format!(
            "In {} p is not exact: differences were rounded to a common step.",
            count(*pairs, "pair")
        ),
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
            let reasons =
                reasons.iter().map(|(reason, count)| format!("{count} {}", reason.word()));
            let reasons = reasons.collect::<Vec<_>>().join(", ");
            format!("Void trials count for nobody: {reasons}.")
        }
        Note::Helped(candidates) => {
            let some = candidates.iter().map(|it| {
                let trials = count(it.trials, "trial");
                format!("{} in {trials} ({} passed)", safe(&it.name), it.passed)
            });
            let some = first_few(some.collect());
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
        Note::OtherPrompts(names) => {
            let names = first_few(names.iter().map(|it| safe(it).into_owned()).collect());
            format!(
                "Not the same prompt: {names} had another system text or wording than the first candidate."
            )
        }
        Note::Within(attempts) => {
            format!("Solved is what passed within {}.", count(*attempts as usize, "attempt"))
        }
        Note::Regraded { begun, not_regraded } => {
            let rest = match not_regraded {
                0 => String::new(),
                some => format!("; {} keep their first verdict", count(*some, "trial")),
            };
            format!("Verdicts are those of the grading of {}{rest}.", safe(begun))
        }
        Note::Join(note) => join_sentence(note),
        Note::HeldAgain(notes) => {
            let some = notes.iter().map(|it| {
                format!("{} {} ({})", safe(&it.name), count(it.trials, "trial"), safe(&it.why))
            });
            let some = first_few(some.collect());
            format!(
                "Held again although not void, the first results kept and not counted: {some}. Who gets a second chance \
                 looks better than who gets none."
            )
        }
        Note::Reused(answers) => format!(
            "{} taken over from another record, for requests that were the same; they cost nothing here.",
            count(*answers, "answer")
        ),
        Note::Changed { on, what } => format!("Changed on {}: {}.", safe(on), safe(what)),
    }
}

/// What does not fit where records were put together, in words.
fn join_sentence(note: &JoinNote) -> String {
    match note {
        JoinNote::OtherTasks(names) => {
            let names = first_few(names.iter().map(|it| safe(it).into_owned()).collect());
            format!("Left out, since the records have other tasks under these names: {names}.")
        }
        JoinNote::OtherCandidate { name } => format!(
            "`{}` is configured otherwise than the candidate of that name in a record before.",
            safe(name)
        ),
        JoinNote::OtherSetting(what) => {
            format!("The records were made under different conditions; {}.", safe(what))
        }
    }
}
