//! The files of packages that differ, and how their texts do.

use bibliotax_app::compare::{FileChange, PackageFiles};
use bibliotax_present::table::Table;
use bibliotax_present::words::{count, size};

use crate::ui::{Ui, clean, style, styled};

/// Most files that are listed of a package.
const MAX_FILES: usize = 200;

/// Shows the files of each package that differ, then the differences of texts.
pub fn show(ui: &Ui, packages: &[PackageFiles]) {
    for package in packages {
        let files = count(package.files.len(), "file");
        ui.answer(format!("\n{}: {files} differ", styled(style::STRONG, &package.name)));
        let rows = package.files.iter().take(MAX_FILES).map(row);
        ui.answer(ui.lines_of(&Table::of(rows)));
        if package.files.len() > MAX_FILES {
            ui.answer(format!("  and {} more", package.files.len() - MAX_FILES));
        }
        for text in package.texts.iter().filter_map(|change| change.text.as_ref()) {
            text.lines().for_each(|line| ui.answer(painted(line)));
        }
        if package.is_cut {
            ui.warn(format!("the difference of {} is longer than what is shown", package.name));
        }
    }
}

fn row(change: &FileChange) -> Vec<String> {
    let FileChange { path, old, new } = change;
    let (word, sizes) = match (old, new) {
        (None, Some(new)) => (styled(style::GOOD, "added"), size(*new)),
        (Some(old), None) => (styled(style::WARNING, "gone"), size(*old)),
        (Some(old), Some(new)) if old != new => {
            (styled(style::STRONG, "changed"), format!("{} -> {}", size(*old), size(*new)))
        }
        (old, _) => (styled(style::STRONG, "changed"), old.map(size).unwrap_or_default()),
    };
    vec![format!(" {word}"), clean(path), sizes]
}

/// A line of a difference; what a package has in it can't act on the terminal.
fn painted(line: &str) -> String {
    let look = match line.chars().next() {
        Some('+') => style::GOOD,
        Some('-') => style::BAD,
        Some('@') => style::FAINT,
        _ => return clean(line),
    };
    styled(look, clean(line))
}

/// The same for a review: lists, and differences as blocks of code.
pub fn in_markdown(packages: &[PackageFiles], escaped: impl Fn(&str) -> String) -> Vec<String> {
    let mut lines = Vec::new();
    for package in packages {
        lines.push(format!("\n**Files of {}**\n", escaped(package.name.as_str())));
        lines.extend(package.files.iter().take(MAX_FILES).map(|change| {
            let row = row(change).iter().map(|cell| cell.trim().to_owned()).collect::<Vec<_>>().join(" ");
            format!("- {}", escaped(&anstream::adapter::strip_str(&row).to_string().replace(" -> ", " → ")))
        }));
        for text in package.texts.iter().filter_map(|change| change.text.as_ref()) {
            // A fence that is longer than any in the text.
            let fence = "`".repeat(longest_run(text, '`').max(2) + 1);
            lines.push(format!("\n{fence}diff\n{}\n{fence}", clean_lines(text)));
        }
    }
    lines
}

fn clean_lines(text: &str) -> String {
    text.lines().map(clean).collect::<Vec<_>>().join("\n")
}

fn longest_run(text: &str, of: char) -> usize {
    text.split(|c| c != of).map(str::len).max().unwrap_or(0)
}
