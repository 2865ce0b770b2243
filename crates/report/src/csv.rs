//! Grids as CSV (RFC 4180), with raw numbers: shares from 0 to 1, lists apart by spaces.

use std::io::{self, Write};

use crate::grid::{ColumnKind, Grid};

/// Writes a grid as CSV, its keys first.
///
/// # Errors
/// When the writer fails.
pub fn grid_csv(out: &mut dyn Write, grid: &Grid) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record(grid.columns.iter().map(|it| harmless(&it.key)))?;
    for row in &grid.rows {
        let cells = row.iter().zip(&grid.columns).map(|(cell, column)| match column.kind {
            ColumnKind::Figure => cell.raw.clone(),
            ColumnKind::Name | ColumnKind::Words => harmless(&cell.raw),
        });
        writer.write_record(cells)?;
    }
    writer.flush()
}

/// A text that no spreadsheet takes for a formula: those begin with one of a few signs.
fn harmless(text: &str) -> String {
    match text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        true => format!("'{text}"),
        false => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grid::{GridCell, GridColumn, Overflow};

    #[test]
    fn names_are_quoted_and_are_no_formulas() {
        let column = |key: &str, kind| GridColumn {
            key: key.to_owned(),
            head: String::new(),
            kind,
            spare: 0,
        };
        let cell = |raw: &str| GridCell { shown: String::new(), raw: raw.to_owned() };
        let grid = Grid {
            title: String::new(),
            columns: vec![column("name", ColumnKind::Name), column("rate", ColumnKind::Figure)],
            rows: vec![
                vec![cell("=HYPERLINK(\"x\")"), cell("-0.5")],
                vec![cell("a, b\n"), cell("")],
            ],
            overflow: Overflow::Drop,
        };
        let mut out = Vec::new();
        grid_csv(&mut out, &grid).unwrap();
        let text = String::from_utf8(out).unwrap();
        assert_eq!(text, "name,rate\n\"'=HYPERLINK(\"\"x\"\")\",-0.5\n\"a, b\n\",\n");
    }
}
