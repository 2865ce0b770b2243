//! The tasks of two candidates as a grid.

use super::{ColumnKind, Grid, GridCell, GridColumn, Overflow};
use crate::figures::{duration, money};
use crate::view::{ComparedTask, ComparisonView};

/// The tasks where two candidates differ, and how many there are where they do not.
#[must_use]
pub fn compared_tasks_grid(view: &ComparisonView) -> Grid {
    let (first, second) = (&view.names.0, &view.names.1);
    let head = |name: &str, what: &str| format!("{name} {what}").trim_end().to_owned();
    let columns = vec![
        GridColumn::new("task", "task", ColumnKind::Words, 0),
        GridColumn::new("category", "category", ColumnKind::Words, 5),
        GridColumn::figure("first", &head(first, ""), 0),
        GridColumn::figure("second", &head(second, ""), 0),
        GridColumn::figure("difference", "points", 0),
        GridColumn::figure("first_seconds", "s", 3),
        GridColumn::figure("second_seconds", "s", 3),
        GridColumn::figure("first_cost", "cost", 2),
        GridColumn::figure("second_cost", "cost", 2),
    ];
    let row = |task: &ComparedTask| {
        let ((a, of_a), (b, of_b)) = (task.counts.a, task.counts.b);
        let each = |sum: f64, trials: u32| Some(sum / f64::from(trials));
        vec![
            GridCell::text(&task.name),
            GridCell::text(&task.category),
            GridCell { shown: format!("{a}/{of_a}"), raw: format!("{a}/{of_a}") },
            GridCell { shown: format!("{b}/{of_b}"), raw: format!("{b}/{of_b}") },
            GridCell::figure(Some(task.difference()), |it| match it {
                0.0 => "=".to_owned(),
                it => format!("{:+.0}", it * 100.0),
            }),
            GridCell::figure(each(task.sums.0.seconds, of_a), duration),
            GridCell::figure(each(task.sums.1.seconds, of_b), duration),
            GridCell::figure(each(task.sums.0.cost, of_a), money),
            GridCell::figure(each(task.sums.1.cost, of_b), money),
        ]
    };
    Grid {
        title: "tasks, those where they differ most first; seconds and cost for each trial"
            .to_owned(),
        columns,
        rows: view.tasks.iter().map(row).collect(),
        overflow: Overflow::Drop,
    }
}
