//! Tasks by candidates as a grid: a glyph and a number in each cell.

use super::{ColumnKind, Grid, GridCell, GridColumn, Overflow};
use crate::view::{MatrixCell, MatrixView};

/// The matrix. A full circle is a task that every sample solved, a half one some, an empty one none.
#[must_use]
pub fn matrix_grid(view: &MatrixView) -> Grid {
    let mut columns = vec![
        GridColumn::new("task", "task", ColumnKind::Words, 0),
        GridColumn::figure("solved_rate", "share", 0),
    ];
    columns.extend(view.candidates.iter().map(|it| GridColumn::figure(it, it, 1)));
    let rows = view.rows.iter().map(|row| {
        let share = GridCell::figure(row.found.solved_rate, |it| format!("{:.0} %", it * 100.0));
        let head = [GridCell::text(&row.task), share];
        head.into_iter().chain(row.cells.iter().map(cell)).collect()
    });
    Grid {
        title: "samples solved, the hardest task last (● all, ◐ some, ○ none, ✕ void)".to_owned(),
        columns,
        rows: rows.collect(),
        overflow: Overflow::Blocks(2),
    }
}

fn cell(cell: &MatrixCell) -> GridCell {
    let MatrixCell { solved, trials, void } = *cell;
    let glyph = match (solved, trials, void) {
        (_, 0, 0) => return GridCell::none(),
        (_, 0, _) => return GridCell { shown: "✕".to_owned(), raw: String::new() },
        (solved, trials, _) if solved == trials => '●',
        (0, ..) => '○',
        _ => '◐',
    };
    GridCell { shown: format!("{glyph} {solved}"), raw: format!("{solved}/{trials}") }
}
