//! What `need` shows.

use bibliotax_app::need::sources::ArchiveContents;
use bibliotax_app::need::{DeclaredLine, DeclaredPackage, Inherited, Plan};
use bibliotax_archive::inspect::ArchivedFile;
use bibliotax_present::words::{count, size};

use super::changes;
use crate::ui::{Ui, clean, style, styled};

/// Most files of an archive that are listed.
const MAX_FILES: usize = 12;

/// Shows what is going to be declared, and what that changes.
pub fn show(ui: &Ui, plan: &Plan) {
    plan.archive.iter().for_each(|archive| show_archive(ui, archive));
    plan.declared.iter().for_each(|package| show_declared(ui, package));
    changes::show_passed_over(ui, &plan.passed_over);
    let report = plan.change.report();
    super::warnings(ui, report.warnings);
    changes::show(ui, &report);
}

fn show_archive(ui: &Ui, contents: &ArchiveContents) {
    let ArchiveContents { url, archive, files } = contents;
    let head = styled(style::STRONG, "archive");
    let what = format!("{}, {}", size(archive.size), count(files.len(), "file"));
    ui.say(format!("{head}: {} ({what}), SHA-256 {}", clean(url), archive.sha256));
    let row = |file: &ArchivedFile| vec![format!(" {}", clean(&file.path)), size(file.size)];
    ui.say(ui.table(files.iter().take(MAX_FILES).map(row)));
    if let Some(more) = files.len().checked_sub(MAX_FILES).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more"));
    }
}

fn show_declared(ui: &Ui, package: &DeclaredPackage) {
    for DeclaredLine { file, table, line, inherited } in &package.lines {
        let file = file.as_deref().unwrap_or("manifest");
        let inherited = inherited.as_ref().map(inherited_range).unwrap_or_default();
        ui.say(format!("{}: {table} {line}{inherited}", styled(style::STRONG, file)));
    }
    if let Some(manifests) = package.repeated_in {
        ui.say(format!(
            "the range was written to {manifests} manifests; `--shared` writes it once for the workspace"
        ));
    }
}

fn inherited_range(inherited: &Inherited) -> String {
    match inherited {
        Inherited::OfWorkspace(range) => format!("; the workspace has \"{range}\""),
        Inherited::OfFamily(family, range) => format!("; {family} is kept at \"{range}\""),
    }
}
