//! Grids as tables in Markdown, in the dialect that most have: pipes and a line of dashes.

use std::io::{self, Write};

use crate::grid::{ColumnKind, Grid};
use crate::safe::safe;

/// Writes a grid as a table.
///
/// # Errors
/// When the writer fails.
pub fn grid_markdown(out: &mut dyn Write, grid: &Grid) -> io::Result<()> {
    if !grid.title.is_empty() {
        writeln!(out, "**{}**\n", plain(&grid.title))?;
    }
    let heads: Vec<String> = grid.columns.iter().map(|it| plain(&it.head)).collect();
    writeln!(out, "| {} |", heads.join(" | "))?;
    let rule = |kind| if kind == ColumnKind::Figure { "--:" } else { "---" };
    let rules: Vec<&str> = grid.columns.iter().map(|it| rule(it.kind)).collect();
    writeln!(out, "|{}|", rules.join("|"))?;
    for row in &grid.rows {
        let cells: Vec<String> = row.iter().map(|it| plain(&it.shown)).collect();
        writeln!(out, "| {} |", cells.join(" | "))?;
    }
    writeln!(out)
}

/// Writes notes as a list.
///
/// # Errors
/// When the writer fails.
pub fn notes_markdown(out: &mut dyn Write, notes: &[String]) -> io::Result<()> {
    notes.iter().try_for_each(|it| writeln!(out, "- {}", plain(it)))
}

/// A text that Markdown takes for nothing but text, on one line.
pub fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in safe(text).chars() {
        match c {
            '\n' | '\t' => out.push(' '),
            '|' | '\\' | '`' | '*' | '_' | '<' | '>' | '[' | ']' | '#' | '~' | '&' | '!' => {
                out.push('\\');
                out.push(c);
            }
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_name_is_markup() {
        assert_eq!(plain("a|b\n<b>*x*[y](z)"), "a\\|b \\<b\\>\\*x\\*\\[y\\](z)");
    }
}
