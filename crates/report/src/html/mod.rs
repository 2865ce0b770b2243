//! The report as one page that holds everything: no network, no other file, and nothing in it that a candidate
//! wrote is markup or a script. What stands behind a cell is compressed, and the page's own script shows it as
//! text.

mod detail;

use std::fmt::Write as _;
use std::io::{self, Write};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fairtrial_record::RecordError;
use minijinja::{AutoEscape, Environment, Value, context};
use sha2::{Digest as _, Sha256};

use crate::figures::percent;
use crate::grid::{Grid, RankingColumn, ranking_grid, trouble_grid};
use crate::plot::plots;
use crate::safe::safe;
use crate::text::{frontier_grids, standings_notes};
use crate::view::{MatrixCell, MatrixRow, ReportView, StandingsSource, trials_at};

/// The page.
const PAGE: &str = include_str!("report.html");
/// Its style.
const STYLE: &str = include_str!("report.css");
/// Its script.
const SCRIPT: &str = include_str!("report.js");

/// Why a report could not be written.
#[derive(Debug, thiserror::Error)]
pub enum PageError {
    /// The record.
    #[error(transparent)]
    Record(#[from] RecordError),
    /// The writer.
    #[error("failed to write the report")]
    Io(#[from] io::Error),
    /// The page's own template.
    #[error("failed to lay out the report")]
    Page(#[from] minijinja::Error),
}

/// Columns of the page's ranking.
const COLUMNS: &[RankingColumn] = &[
    RankingColumn::Rank,
    RankingColumn::Candidate,
    RankingColumn::Solved,
    RankingColumn::Share,
    RankingColumn::Interval,
    RankingColumn::FirstTry,
    RankingColumn::Repairs,
    RankingColumn::Repeats,
    RankingColumn::Consistent,
    RankingColumn::Points,
    RankingColumn::Strict,
    RankingColumn::Time,
    RankingColumn::Tokens,
    RankingColumn::Cost,
    RankingColumn::SolvedCost,
    RankingColumn::Void,
];

/// Writes the page. With `unseal`, sealed inputs and expectations are in it, too.
///
/// # Errors
/// When a record cannot be read, or the writer fails.
pub fn report_html(
    out: &mut dyn Write,
    view: &ReportView,
    source: &StandingsSource<'_>,
    unseal: bool,
) -> Result<(), PageError> {
    let mut environment = Environment::new();
    environment.set_auto_escape_callback(|_| AutoEscape::Html);
    // As on a terminal, characters that turn or hide text are written out, and then all of it is escaped.
    environment.set_formatter(|out, state, value| match value.as_str() {
        Some(text) if !value.is_safe() => {
            minijinja::escape_formatter(out, state, &Value::from(safe(text).into_owned()))
        }
        _ => minijinja::escape_formatter(out, state, value),
    });
    environment.add_template("report", PAGE)?;
    let template = environment.get_template("report")?;
    let standings = &view.standings;
    let mut tables =
        vec![Grid { title: "Ranking".to_owned(), ..ranking_grid(&standings.rows, COLUMNS, None) }];
    for narrow in &standings.narrower {
        let title = format!("Over {} alone", narrow.tasks.join(", "));
        tables.push(Grid { title, ..ranking_grid(&narrow.rows, COLUMNS, None) });
    }
    let mut further = frontier_grids(standings);
    if !standings.trouble.is_empty() {
        further.push(trouble_grid(&standings.trouble));
    }
    let title = match standings.title.is_empty() {
        true => "Standings".to_owned(),
        false => standings.title.clone(),
    };
    let drawings: Vec<Value> = plots(standings)
        .into_iter()
        .map(|it| context! { name => it.name, title => it.title, svg => Value::from_safe_string(it.svg) })
        .collect();
    let meanings: Vec<Value> =
        COLUMNS.iter().map(|it| context! { head => it.head(), meaning => it.meaning() }).collect();
    let page = context! {
        title,
        policy => policy(),
        style => Value::from_safe_string(STYLE.to_owned()),
        script => Value::from_safe_string(SCRIPT.to_owned()),
        tasks => standings.tasks,
        samples => standings.samples,
        attempts => standings.attempts,
        currency => standings.currency.clone(),
        tables => tables.iter().map(table).collect::<Vec<_>>(),
        further => further.iter().map(table).collect::<Vec<_>>(),
        meanings,
        notes => standings_notes(standings),
        plots => drawings,
        candidates => view.matrix.candidates.clone(),
        categories => categories(view),
        rows => view.matrix.rows.iter().enumerate().map(|it| matrix_row(it, view)).collect::<Vec<_>>(),
        setup => view.setup.iter().map(|it| context! { title => it.title.clone(), facts => it.facts.clone() }).collect::<Vec<_>>(),
        digests => view.digests.clone(),
    };
    let text = template.render(page)?;
    // What is behind the cells goes in where the template has its mark, a task at a time.
    let (head, tail) = text.split_once("<!--details-->").unwrap_or((&text, ""));
    out.write_all(head.as_bytes())?;
    for (place, row) in view.matrix.rows.iter().enumerate() {
        let packed = detail::packed(&trials_at(source, &row.task, unseal)?)?;
        writeln!(out, "<script type=\"text/plain\" id=\"task-{place}\">{packed}</script>")?;
    }
    out.write_all(tail.as_bytes())?;
    Ok(())
}

/// What the page may do: run its own script, which is known by its digest, and nothing else.
fn policy() -> String {
    let digest = STANDARD.encode(Sha256::digest(SCRIPT.as_bytes()));
    format!(
        "default-src 'none'; style-src 'unsafe-inline'; script-src 'sha256-{digest}'; base-uri 'none'; \
         form-action 'none'"
    )
}

fn table(grid: &Grid) -> Value {
    let columns: Vec<Value> = grid
        .columns
        .iter()
        .map(|it| context! { head => it.head.clone(), is_figure => it.is_figure() })
        .collect();
    let cells = |row: &Vec<crate::grid::GridCell>| -> Vec<Value> {
        let cell = row.iter().zip(&grid.columns);
        cell.map(|(cell, column)| {
            // A list sorts by its first figure.
            let order = cell.raw.split(' ').next().unwrap_or_default();
            context! { shown => cell.shown.clone(), order => order.to_owned(), is_figure => column.is_figure() }
        })
        .collect()
    };
    context! {
        title => grid.title.clone(),
        columns,
        rows => grid.rows.iter().map(cells).collect::<Vec<_>>(),
    }
}

fn categories(view: &ReportView) -> Vec<String> {
    let mut all: Vec<String> = view.matrix.rows.iter().map(|it| it.category.clone()).collect();
    all.sort();
    all.dedup();
    all
}

/// A row of the matrix. Its cells are put together here: there may be very many.
fn matrix_row((place, row): (usize, &MatrixRow), view: &ReportView) -> Value {
    let mut cells = String::new();
    for (column, (cell, name)) in row.cells.iter().zip(&view.matrix.candidates).enumerate() {
        cells.push_str(&matrix_cell(cell, (place, column), &row.task, name));
    }
    let rates: Vec<bool> =
        row.cells.iter().filter(|it| it.trials > 0).map(|it| it.solved == it.trials).collect();
    let tells = rates.iter().any(|it| *it) && rates.iter().any(|it| !*it);
    context! {
        task => row.task.clone(),
        category => row.category.clone(),
        share => row.found.solved_rate.map_or_else(|| "–".to_owned(), percent),
        failed => row.found.solved < row.found.trials,
        tells,
        cells => Value::from_safe_string(cells),
    }
}

fn matrix_cell(cell: &MatrixCell, at: (usize, usize), task: &str, name: &str) -> String {
    let MatrixCell { solved, trials, void } = *cell;
    let (class, glyph) = match (solved, trials, void) {
        (_, 0, 0) => return "<td class=\"nothing\">–</td>".to_owned(),
        (_, 0, _) => ("void", '✕'),
        (solved, trials, _) if solved == trials => ("all", '●'),
        (0, ..) => ("none", '○'),
        _ => ("some", '◐'),
    };
    let mut out = String::new();
    let label = crate::plot::escaped(&format!("{task}, {name}: {solved} of {trials} solved"));
    let _ = write!(
        out,
        "<td><button class=\"{class}\" data-at=\"{} {}\" aria-label=\"{label}\">{glyph}<b>{solved}</b></button></td>",
        at.0, at.1
    );
    out
}
