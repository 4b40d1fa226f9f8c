//! Rows in columns.

use comfy_table::{ColumnConstraint, ContentArrangement, Table, presets};

use crate::terminal::on_one_line;

/// Rows in columns, without lines around them; no wider than `width`, or as wide as need be.
pub fn table(rows: impl IntoIterator<Item = Vec<String>>, width: Option<usize>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    if let Some(width) = width {
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
    }
    for row in rows {
        // A row is one row, even if a cell has line breaks.
        table.add_row(row.iter().map(|cell| on_one_line(cell)));
    }
    // Only the last column is words that may be broken.
    let columns = table.column_count();
    for column in table.column_iter_mut().take(columns.saturating_sub(1)) {
        column.set_constraint(ColumnConstraint::ContentWidth);
    }
    let lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    lines.join("\n")
}
