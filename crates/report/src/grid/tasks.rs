//! Tasks, and candidates that fail alike, as grids.

use super::{ColumnKind, Grid, GridCell, GridColumn, Overflow};
use crate::figures::count;
use crate::view::{AlikeRow, AlikeView, TaskRow, TasksView};

/// How the tasks were found.
#[must_use]
pub fn tasks_grid(view: &TasksView) -> Grid {
    let columns = vec![
        GridColumn::new("task", "task", ColumnKind::Words, 0),
        GridColumn::figure("solved_by", "solved by", 1),
        GridColumn::figure("solved_rate", "share", 0),
        GridColumn::figure("set_difficulty", "set", 3),
        GridColumn::figure("found_difficulty", "found", 3),
        GridColumn::figure("discrimination", "tells", 2),
        GridColumn::figure("unstable", "unstable", 4),
        GridColumn::new("oddity", "to look into", ColumnKind::Words, 0),
    ];
    let row = |row: &TaskRow| {
        let found = &row.found;
        let difficulty = found.found_difficulty.map(f64::from);
        vec![
            GridCell::text(&row.name),
            GridCell {
                shown: format!("{}/{}", found.solved_by, found.candidates),
                raw: found.solved_by.to_string(),
            },
            GridCell::figure(found.solved_rate, |it| format!("{:.0} %", it * 100.0)),
            GridCell::count(usize::from(row.set_difficulty)),
            GridCell::figure(difficulty, |it| format!("{it:.0}")),
            GridCell::figure(found.discrimination, |it| format!("{it:+.2}")),
            GridCell::count(found.unstable),
            GridCell::text(&oddity(row)),
        ]
    };
    Grid {
        title: "tasks, as they were found".to_owned(),
        columns,
        rows: view.rows.iter().map(row).collect(),
        overflow: Overflow::Drop,
    }
}

fn oddity(row: &TaskRow) -> String {
    let odd = row.found.oddity.map(|it| it.word().to_owned());
    let never = match row.never_passed.as_slice() {
        [] => None,
        [one] => Some(format!("nobody passes `{one}`")),
        several => Some(format!("nobody passes {}", count(several.len(), "test"))),
    };
    odd.into_iter().chain(never).collect::<Vec<_>>().join("; ")
}

/// Pairs of candidates, those that fail most alike first.
#[must_use]
pub fn alike_grid(view: &AlikeView) -> Grid {
    let columns = vec![
        GridColumn::name("first"),
        GridColumn::name("second"),
        GridColumn::figure("tasks", "tasks", 1),
        GridColumn::figure("kappa", "kappa", 0),
        GridColumn::figure("both_wrong", "both wrong", 1),
        GridColumn::figure("same_wrong", "same value", 0),
    ];
    let row = |row: &AlikeRow| {
        vec![
            GridCell::text(&row.names.0),
            GridCell::text(&row.names.1),
            GridCell::count(row.tasks),
            GridCell::figure(row.kappa, |it| format!("{it:+.2}")),
            GridCell::count(row.wrong.both),
            GridCell::count(row.wrong.same),
        ]
    };
    Grid {
        title: "which candidates fail alike: the same tasks, the same wrong values".to_owned(),
        columns,
        rows: view.rows.iter().map(row).collect(),
        overflow: Overflow::Drop,
    }
}
