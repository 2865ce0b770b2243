//! Pairs of candidates as grids.

use std::cmp::Ordering;

use fairtrial_core::standings::Comparison;

use super::{ColumnKind, Grid, GridCell, GridColumn, Overflow};

/// Every candidate against every other: the difference in percentage points, row minus column, over the tasks
/// that both did; a star where it is established. `names` are in the order of the ranking.
#[must_use]
pub fn pairs_grid(names: &[String], comparisons: &[Comparison]) -> Grid {
    let mut columns = vec![GridColumn::name("candidate")];
    columns.extend(names.iter().map(|it| GridColumn::figure(it, it, 1)));
    let cell = |row: &str, column: &str| {
        if row == column {
            return GridCell { shown: "·".to_owned(), raw: String::new() };
        }
        let of = |a: &str, b: &str| {
            comparisons.iter().find(|it| it.names.0 == a && it.names.1 == b && it.tasks > 0)
        };
        match (of(row, column), of(column, row)) {
            (Some(pair), _) => points(pair, 1.0),
            (None, Some(pair)) => points(pair, -1.0),
            (None, None) => GridCell::none(),
        }
    };
    let row = |name: &String| {
        let cells = names.iter().map(|column| cell(name, column));
        std::iter::once(GridCell::text(name)).chain(cells).collect()
    };
    Grid {
        title: "difference in points, row minus column (* established)".to_owned(),
        columns,
        rows: names.iter().map(row).collect(),
        overflow: Overflow::Blocks(1),
    }
}

fn points(pair: &Comparison, sign: f64) -> GridCell {
    let difference = pair.difference * sign + 0.0;
    let star = if pair.decision() == Ordering::Equal { ' ' } else { '*' };
    GridCell { shown: format!("{:+.0}{star}", difference * 100.0), raw: difference.to_string() }
}

/// Pairs, one a row.
#[must_use]
pub fn comparison_grid(comparisons: &[Comparison]) -> Grid {
    let columns = vec![
        GridColumn::name("first"),
        GridColumn::name("second"),
        GridColumn::figure("tasks", "tasks", 0),
        GridColumn::figure("wins", "wins", 1),
        GridColumn::figure("ties", "ties", 2),
        GridColumn::figure("losses", "losses", 1),
        GridColumn::figure("difference", "difference", 0),
        GridColumn::figure("interval", "95 % interval", 3),
        GridColumn::figure("p_adjusted", "adjusted p", 0),
        GridColumn::new("established", "established", ColumnKind::Words, 1),
    ];
    let row = |it: &Comparison| {
        let interval = it.interval.map_or_else(GridCell::none, |(low, high)| GridCell {
            shown: format!("{:+.0} to {:+.0}", low * 100.0, high * 100.0),
            raw: format!("{low} {high}"),
        });
        vec![
            GridCell::text(&it.names.0),
            GridCell::text(&it.names.1),
            GridCell::count(it.tasks),
            GridCell::count(it.wins),
            GridCell::count(it.tasks - it.wins - it.losses),
            GridCell::count(it.losses),
            GridCell::figure(Some(it.difference), |it| format!("{:+.1}", it * 100.0)),
            interval,
            GridCell::figure(Some(it.p_adjusted), p_value),
            GridCell::text(match it.decision() {
                Ordering::Greater => "better",
                Ordering::Less => "worse",
                Ordering::Equal => "",
            }),
        ]
    };
    Grid {
        title: "pairs of candidates, differences in percentage points".to_owned(),
        columns,
        rows: comparisons.iter().map(row).collect(),
        overflow: Overflow::Drop,
    }
}

/// A p value as people write it.
pub(crate) fn p_value(p: f64) -> String {
    if p < 0.0001 { "< 0.0001".to_owned() } else { format!("{p:.4}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_p_values_are_not_zero() {
        assert_eq!([0.00001, 0.04567, 1.0].map(p_value), ["< 0.0001", "0.0457", "1.0000"]);
    }
}
