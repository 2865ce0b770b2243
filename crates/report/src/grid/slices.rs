//! Slices as a grid: a slice a row, a candidate a column.

use super::{ColumnKind, Grid, GridCell, GridColumn, Overflow};
use crate::view::{ReasonsView, Slice};

/// The solved rates of all candidates, slice by slice. `candidates` are the columns.
#[must_use]
pub fn slices_grid(slices: &[Slice], candidates: &[String]) -> Grid {
    let by = slices.first().map_or("slice", |it| it.by.as_str());
    let mut columns = vec![
        GridColumn::new("slice", by, ColumnKind::Words, 0),
        GridColumn::figure("tasks", "tasks", 0),
    ];
    columns.extend(candidates.iter().map(|name| GridColumn::figure(name, name, 1)));
    let row = |slice: &Slice| {
        let mut cells = vec![GridCell::text(&slice.name), GridCell::count(slice.tasks)];
        cells.extend(candidates.iter().map(|name| {
            let found = slice.rows.iter().find(|it| it.name == *name);
            let share = found.and_then(|it| it.solved_rate);
            GridCell::figure(share, |it| format!("{:.0} %", it * 100.0))
        }));
        cells
    };
    Grid {
        title: format!("share solved, by {by}"),
        columns,
        rows: slices.iter().map(row).collect(),
        overflow: Overflow::Blocks(2),
    }
}

/// Why trials failed: a reason a row.
#[must_use]
pub fn reasons_grid(view: &ReasonsView) -> Grid {
    let mut columns = vec![GridColumn::new("reason", "reason", ColumnKind::Words, 0)];
    columns.extend(view.candidates.iter().map(|it| GridColumn::figure(&it.0, &it.0, 1)));
    let cell = |count: &usize| match count {
        0 => GridCell { shown: "–".to_owned(), raw: "0".to_owned() },
        count => GridCell::count(*count),
    };
    let mut rows: Vec<Vec<GridCell>> = view
        .rows
        .iter()
        .map(|(reason, counts)| {
            std::iter::once(GridCell::text(reason.word())).chain(counts.iter().map(cell)).collect()
        })
        .collect();
    let trials = view.candidates.iter().map(|it| GridCell::count(it.1));
    rows.push(std::iter::once(GridCell::text("trials")).chain(trials).collect());
    Grid { title: "why trials failed".to_owned(), columns, rows, overflow: Overflow::Blocks(1) }
}
