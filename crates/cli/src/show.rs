//! Tables for the terminal, and the difference of two locks.

use bibliotax_core::compare::Change;
use bibliotax_core::lock::Lock;
pub use bibliotax_present::words::{count, first_few, size};
use bibliotax_present::{changes, table as rows_in_columns};

use crate::ui::{Ui, style, styled};

/// Rows in columns, no wider than the terminal.
pub fn table(ui: &Ui, rows: impl IntoIterator<Item = Vec<String>>) -> String {
    rows_in_columns::table(rows, ui.terminal_width())
}

/// Shows what changes in the lock.
pub fn show_changes(ui: &Ui, changes: &[Change<'_>], lock: &Lock) {
    if changes.is_empty() {
        return;
    }
    ui.say(format!("{}: {}", styled(style::STRONG, "lock"), changes::tally(changes)));
    let summary = changes::summary(changes, lock);
    ui.say(table(ui, summary.rows));
    if summary.left > 0 {
        let text = format!(" and {} more: `bibliotax graph` shows what is in the lock", summary.left);
        ui.say(styled(style::FAINT, text));
    }
}
