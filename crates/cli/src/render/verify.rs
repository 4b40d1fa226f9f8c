//! What `verify` shows.

use bibliotax_app::verify::Report;
use bibliotax_core::name::PackageName;
use bibliotax_present::table::Table;
use bibliotax_present::words::count;
use bibliotax_store::verify::{Damaged, Difference, Finding, Verified};

use crate::progress::shared_with;
use crate::ui::{Ui, clean, style, styled};

/// Most differences that are listed one by one.
const MAX_FINDINGS: usize = 40;

/// Shows what was found on the shelf, and in the store where that was looked at or something is damaged there.
pub fn show(ui: &Ui, report: &Report, with_store: bool) {
    show_shelf(ui, &report.verified);
    if with_store || !report.damaged.is_empty() {
        show_store(ui, &report.damaged);
    }
}

fn show_store(ui: &Ui, damaged: &[Damaged]) {
    let head = styled(style::STRONG, "store");
    if damaged.is_empty() {
        ui.say(format!("{head}: all copies are intact"));
        return;
    }
    ui.answer(format!("{head}: {}", count(damaged.len(), "damaged copy")));
    let row = |damaged: &Damaged| {
        vec![
            format!(" {}", styled(style::BAD, "damaged")),
            damaged.package.to_string(),
            damaged.archive.short(),
        ]
    };
    ui.answer(ui.lines_of(&Table::of(damaged.iter().map(row)).titled(2)));
    damaged.iter().filter_map(|damaged| shared_with(&damaged.shared_by)).for_each(|shown| ui.answer(shown));
}

fn show_shelf(ui: &Ui, verified: &Verified) {
    let head = styled(style::STRONG, "shelf");
    let looked_at = format!("{}, {}", count(verified.packages, "package"), count(verified.files, "file"));
    if verified.findings.is_empty() {
        ui.say(format!("{head}: no differences ({looked_at})"));
        return;
    }
    let number = count(verified.findings.len(), "difference");
    ui.answer(format!("{head}: {number} from what was installed ({looked_at})"));
    ui.answer(ui.lines_of(&Table::of(verified.findings.iter().take(MAX_FINDINGS).map(row)).titled(2)));
    if let Some(more) = verified.findings.len().checked_sub(MAX_FINDINGS).filter(|more| *more > 0) {
        ui.answer(format!("  and {more} more; `--format json` lists all"));
    }
}

fn row(finding: &Finding) -> Vec<String> {
    let (style, word) = match finding.difference {
        Difference::Missing => (style::BAD, "missing"),
        Difference::Changed => (style::BAD, "changed"),
        Difference::Extra => (style::WARNING, "extra"),
        Difference::Unknown => (style::WARNING, "unknown"),
    };
    let package = finding.package.as_ref().map_or("of no package", PackageName::as_str);
    let target = finding.target.as_ref().map(|target| format!(" ({target})")).unwrap_or_default();
    let path = match finding.difference {
        Difference::Unknown => "the store has no copy to compare it with".to_owned(),
        _ if finding.path.is_empty() => "all of it".to_owned(),
        _ => clean(&finding.path),
    };
    vec![format!(" {}", styled(style, word)), format!("{package}{target}"), path]
}
