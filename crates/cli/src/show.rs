//! Data as people read it: sizes, tables, the difference of two locks.

pub mod changes;
pub mod fits;
pub mod proof;
pub mod ways;

use comfy_table::{ColumnConstraint, ContentArrangement, Table, presets};

use crate::ui::Ui;

/// A size in bytes with three digits or so: `812 B`, `18.2 KiB`.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    let mut amount = bytes as f64 / 1024.0;
    let mut unit = 0;
    while amount >= 1024.0 && unit + 1 < UNITS.len() {
        amount /= 1024.0;
        unit += 1;
    }
    format!("{amount:.1} {}", UNITS[unit])
}

/// `1 package`, `2 packages`.
pub fn count(number: usize, what: &str) -> String {
    if number == 1 { format!("1 {what}") } else { format!("{number} {what}s") }
}

/// Rows in columns, without lines around them; no wider than the terminal, and as wide as need be in a pipe.
pub fn table(ui: &Ui, rows: impl IntoIterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    if let Some(width) = ui.terminal_width() {
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
    }
    for row in rows {
        table.add_row(row);
    }
    // Only the last column is words that may be broken.
    let columns = table.column_count();
    for column in table.column_iter_mut().take(columns.saturating_sub(1)) {
        column.set_constraint(ColumnConstraint::ContentWidth);
    }
    let lines: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_short_and_counts_agree() {
        let rows =
            [(0, "0 B"), (1023, "1023 B"), (1024, "1.0 KiB"), (18_637, "18.2 KiB"), (5 << 30, "5.0 GiB")];
        for (bytes, text) in rows {
            assert_eq!(size(bytes), text);
        }
        assert_eq!((count(1, "file"), count(0, "file")), ("1 file".into(), "0 files".into()));
    }
}
