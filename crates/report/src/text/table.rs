//! Plain tables: columns set apart by spaces, nothing drawn.

use comfy_table::presets::NOTHING;
use comfy_table::{CellAlignment, ContentArrangement, Table};

/// Lays out a table; the first line is the header. `left` names the columns of words, all others
/// are figures and stand to the right.
pub fn layout(header: &[&str], rows: &[Vec<String>], left: &[usize]) -> Vec<String> {
    let mut table = Table::new();
    table.load_style(NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(header.to_vec());
    table.add_rows(rows.to_vec());
    for (index, column) in table.column_iter_mut().enumerate() {
        column.set_padding((u16::from(index > 0), 1));
        if !left.contains(&index) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table.lines().map(|line| line.trim_end().to_owned()).collect()
}
