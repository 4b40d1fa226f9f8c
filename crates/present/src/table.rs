//! Rows in columns and, where there is no room for columns, in blocks. No word is ever broken.

use comfy_table::{ColumnConstraint, ContentArrangement, Table as Columns, presets};
use unicode_width::UnicodeWidthStr;

use crate::terminal::{on_one_line, wrapped};

/// What lies between two columns.
const GAP: &str = "  ";

/// How far the lines of a block are indented below its first one.
const INDENT: &str = "    ";

/// The columns that the last column of a table needs for its text to be readable.
const MIN_TEXT: usize = 24;

/// Rows of cells, not yet laid out.
#[derive(Debug, Clone, Default)]
pub struct Table {
    head: Vec<String>,
    rows: Vec<Vec<String>>,
    /// How many cells are the first line of a block.
    title: usize,
}

impl Table {
    /// Rows whose first cell names them.
    pub fn of(rows: impl IntoIterator<Item = Vec<String>>) -> Self {
        let on_one_line = |cell: &String| on_one_line(cell).into_owned();
        let rows = rows.into_iter().map(|row| row.iter().map(on_one_line).collect()).collect();
        Self { head: Vec::new(), rows, title: 1 }
    }

    /// With a name above each column.
    #[must_use]
    pub fn headed(self, head: &[&str]) -> Self {
        Self { head: head.iter().map(|name| (*name).to_owned()).collect(), ..self }
    }

    /// With so many cells naming a row.
    #[must_use]
    pub fn titled(self, title: usize) -> Self {
        Self { title, ..self }
    }

    /// The rows as lines, without columns that are empty: no wider than `width`, as long as no word is.
    pub fn lines(&self, width: Option<usize>) -> String {
        let table = self.without_empty();
        match width {
            Some(width) if table.needed_width() > width => table.blocks(width),
            _ => table.columns(width),
        }
    }

    fn without_empty(&self) -> Self {
        let columns = self.rows.iter().map(Vec::len).max().unwrap_or_default();
        let is_used = |column: usize| {
            self.rows.iter().any(|row| row.get(column).is_some_and(|cell| !cell.trim().is_empty()))
        };
        let used: Vec<usize> = (0..columns).filter(|column| is_used(*column)).collect();
        let cells = |row: &Vec<String>| {
            used.iter().map(|column| row.get(*column).cloned().unwrap_or_default()).collect()
        };
        let head = if self.head.is_empty() { Vec::new() } else { cells(&self.head) };
        let title = used.iter().filter(|column| **column < self.title).count();
        Self { head, rows: self.rows.iter().map(cells).collect(), title }
    }

    /// All rows, the head first.
    fn all_rows(&self) -> impl Iterator<Item = &Vec<String>> + Clone {
        Some(&self.head).filter(|head| !head.is_empty()).into_iter().chain(&self.rows)
    }

    /// The width at which columns can be read: the last one may be broken between words, the others not.
    fn needed_width(&self) -> usize {
        let columns = self.rows.first().map_or(0, Vec::len);
        let widest = |column: usize, width: fn(&str) -> usize| {
            self.all_rows().map(|row| width(&row[column])).max().unwrap_or_default()
        };
        let whole = |column| widest(column, UnicodeWidthStr::width);
        let Some(last) = columns.checked_sub(1) else { return 0 };
        let text = whole(last).min(widest(last, longest_word).max(MIN_TEXT));
        1 + (0..last).map(whole).sum::<usize>() + GAP.len() * last + text
    }

    fn columns(&self, width: Option<usize>) -> String {
        let mut columns = Columns::new();
        columns.load_style(presets::NOTHING);
        if let Some(width) = width {
            columns.set_content_arrangement(ContentArrangement::Dynamic);
            // Behind the last column nothing is shown.
            columns.set_width(u16::try_from(width + 1).unwrap_or(u16::MAX));
        }
        for row in self.all_rows() {
            columns.add_row(row);
        }
        // Only the last column is words that may be on several lines.
        let last = columns.column_count().saturating_sub(1);
        for column in columns.column_iter_mut().take(last) {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
        let lines: Vec<String> = columns.lines().map(|line| line.trim_end().to_owned()).collect();
        lines.join("\n")
    }

    /// A block for each row: its title, and below that its cells, each with the name of its column.
    fn blocks(&self, width: usize) -> String {
        let mut lines = Vec::new();
        for row in &self.rows {
            let (title, cells) = row.split_at(self.title.min(row.len()));
            let title: Vec<&str> =
                title.iter().map(|cell| cell.trim()).filter(|cell| !cell.is_empty()).collect();
            // A row without a title goes on with the one before.
            if !title.is_empty() {
                lines.push(wrapped(&format!("{GAP}{}", title.join(GAP)), width, 2));
            }
            lines.extend(self.packed(cells, width));
        }
        lines.join("\n")
    }

    /// Cells side by side as far as there is room.
    fn packed(&self, cells: &[String], width: usize) -> Vec<String> {
        let names = self.head.iter().skip(self.title).map(String::as_str).chain(std::iter::repeat(""));
        let named = |(cell, name): (&String, &str)| {
            if name.width() == 0 { cell.clone() } else { format!("{name} {cell}") }
        };
        let mut lines: Vec<String> = Vec::new();
        for cell in cells.iter().zip(names).filter(|(cell, _)| !cell.trim().is_empty()).map(named) {
            match lines.last_mut().filter(|line| line.width() + GAP.len() + cell.width() <= width) {
                Some(line) => {
                    line.push_str(GAP);
                    line.push_str(&cell);
                }
                None => lines.push(format!("{INDENT}{cell}")),
            }
        }
        lines.iter().map(|line| wrapped(line, width, 0)).collect()
    }
}

fn longest_word(text: &str) -> usize {
    text.split(' ').map(UnicodeWidthStr::width).max().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use proptest::collection::vec;
    use proptest::prelude::*;

    use super::*;

    fn table() -> Table {
        let row = |cells: [&str; 4]| cells.map(str::to_owned).to_vec();
        Table::of([
            row([
                " rain-ledger",
                "2.4.0",
                "",
                "held back by gate-kiosk (needs 2.4.0), moss-map 1.0.0 (needs 2)",
            ]),
            row([" dew-point", "1.4.0", "", "needed here"]),
            row(["", "", "", "2.0.0: counts frost"]),
        ])
    }

    #[test]
    fn empty_columns_are_left_out_and_narrow_terminals_get_blocks() {
        let headed = table().headed(&["", "locked", "update", ""]);
        assert_eq!(
            headed.lines(Some(60)),
            "               locked
  rain-ledger  2.4.0   held back by gate-kiosk (needs
                       2.4.0), moss-map 1.0.0 (needs 2)
  dew-point    1.4.0   needed here
                       2.0.0: counts frost"
        );
        assert_eq!(
            headed.lines(Some(40)),
            "  rain-ledger
    locked 2.4.0
    held back by gate-kiosk (needs
    2.4.0), moss-map 1.0.0 (needs 2)
  dew-point
    locked 1.4.0  needed here
    2.0.0: counts frost"
        );
        assert!(table().titled(2).lines(Some(40)).starts_with("  rain-ledger  2.4.0\n    held back"));
        assert_eq!(Table::default().lines(Some(40)), "");
    }

    proptest! {
        #[test]
        fn no_word_is_broken_and_no_line_is_wider_than_its_words_need(
            rows in vec(vec("[a-z]{1,12}( [a-z]{1,12}){0,6}", 3), 1..6),
            width in 40usize..120,
        ) {
            let lines = Table::of(rows.clone()).lines(Some(width));
            let mut shown: Vec<&str> = lines.split_whitespace().collect();
            let mut words: Vec<&str> = rows.iter().flatten().flat_map(|cell| cell.split(' ')).collect();
            shown.sort_unstable();
            words.sort_unstable();
            prop_assert_eq!(shown, words);
            for line in lines.lines() {
                prop_assert!(line.width() <= width, "{:?}", line);
            }
        }
    }
}
