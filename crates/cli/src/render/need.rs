//! What `need` shows.

use bibliotax_app::need::card_scaffold::Scaffold;
use bibliotax_app::need::sources::{ArchiveContents, TagsFound};
use bibliotax_app::need::{DeclaredLine, DeclaredPackage, Inherited, Plan};
use bibliotax_archive::inspect::ArchivedFile;
use bibliotax_core::tags::NoRelease;
use bibliotax_core::version::Version;
use bibliotax_present::words::{count, size};

use super::changes;
use crate::ui::{Ui, clean, style, styled};

/// Most tags that are listed of each kind.
const MAX_TAGS: usize = 5;

/// Most files of an archive that are listed.
const MAX_FILES: usize = 12;

/// Shows what is going to be declared, and what that changes.
pub fn show(ui: &Ui, plan: &Plan) {
    plan.archive.iter().for_each(|archive| show_archive(ui, archive));
    plan.tags.iter().for_each(|tags| show_tags(ui, tags));
    plan.card.iter().for_each(|card| show_card(ui, card));
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

/// Shows what tags were read as, and each that was left out, as far as they are few.
fn show_tags(ui: &Ui, tags: &TagsFound) {
    let TagsFound { pattern, releases, left_out } = tags;
    let head = styled(style::STRONG, "tags");
    let newest: Vec<String> =
        releases.iter().take(MAX_TAGS).map(|(version, tag)| release_in_words(version, tag)).collect();
    let more = if releases.len() > MAX_TAGS { ", …" } else { "" };
    let read = count(releases.len(), "release");
    ui.say(format!("{head}: {read} by `{}`: {}{more}", clean(pattern.as_str()), newest.join(", ")));
    if left_out.is_empty() {
        return;
    }
    ui.say(format!("  {} left out; `--tags PATTERN` reads them otherwise", count(left_out.len(), "tag")));
    let row = |(tag, why): &(String, NoRelease)| vec![format!("   {}", clean(tag)), clean(&why.to_string())];
    ui.say(ui.table(left_out.iter().take(MAX_TAGS).map(row)));
    if let Some(more) = left_out.len().checked_sub(MAX_TAGS).filter(|more| *more > 0) {
        ui.say(format!("    and {more} more"));
    }
}

/// A release with its tag, where that says something else.
fn release_in_words(version: &Version, tag: &str) -> String {
    let version = version.to_string();
    if tag.trim_start_matches('v') == version { version } else { format!("{version} ({})", clean(tag)) }
}

fn show_card(ui: &Ui, card: &Scaffold) {
    let found = card.in_words().into_iter().map(|words| clean(&words)).collect::<Vec<_>>();
    ui.say(format!("{}: {}", styled(style::STRONG, "found"), found.join(", ")));
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
        Inherited::OfCharter(range) => format!("; the charter has \"{range}\""),
        Inherited::OfWorkspace(range) => format!("; the workspace has \"{range}\""),
        Inherited::OfFamily(family, range) => format!("; {family} is kept at \"{range}\""),
    }
}
