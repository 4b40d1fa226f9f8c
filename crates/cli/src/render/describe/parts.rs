//! What a release consists of: its components with what each adds, and its files.

use bibliotax_core::card::{Card, Component, Entry, FileRecord, Step, StepPer, StepWhen};
use bibliotax_core::facet::{Facets, Target};
use bibliotax_core::name::{ComponentName, PartName};
use bibliotax_present::words::{self, size};

use crate::ui::{Ui, clean, style, styled};

/// Lists the components, each with what it adds; nothing where there are none.
pub fn show_components(ui: &Ui, card: &Card) {
    if card.components.is_empty() {
        return;
    }
    ui.answer(format!("\n{}", styled(style::STRONG, "components")));
    let row = |(name, component): (&ComponentName, &Component)| {
        let summary = component.summary.as_deref().map(clean).unwrap_or_default();
        let by_default = if component.default { "by default" } else { "" };
        vec![format!(" {name}"), by_default.to_owned(), summary, adds(card, component)]
    };
    ui.answer(ui.table(card.components.iter().map(row)));
}

fn adds(card: &Card, component: &Component) -> String {
    let needs = component.needs.iter().map(|need| format!("needs {}", words::need(need)));
    let part = |part: &PartName| {
        let of_part = card.files.iter().filter(|file| file.part == *part);
        let largest = of_part.map(|file| file.size).max().unwrap_or_default();
        format!("brings {part}, {}", size(largest))
    };
    needs.chain(component.parts.iter().map(part)).collect::<Vec<_>>().join("; ")
}

/// Lists the steps that a person must still do; nothing where there are none.
pub fn show_steps(ui: &Ui, card: &Card) {
    if card.steps.is_empty() {
        return;
    }
    ui.answer(format!("\n{}", styled(style::STRONG, "steps, by hand")));
    let row = |step: &Step| {
        let per = match step.per {
            StepPer::Project => "once",
            StepPer::Target => "for each target",
            StepPer::Device => "for each device",
        };
        let only_for = if step.only_for.is_empty() {
            String::new()
        } else {
            format!(" on {}", words::fits(&step.only_for))
        };
        let again = if step.when == StepWhen::Update { ", after each update" } else { "" };
        vec![format!(" {}", step.id), format!("{per}{only_for}{again}"), clean(&step.text)]
    };
    ui.answer(ui.table(card.steps.iter().map(row)));
}

/// Lists the files with the targets that each is for. A release of one plain archive shows its size among the other facts.
pub fn show_files(ui: &Ui, card: &Card, entry: &Entry, places: &[Target], facets: &Facets) {
    if is_plain(card) {
        return;
    }
    ui.answer(format!("\n{}", styled(style::STRONG, "files")));
    let row = |file: &FileRecord| {
        let only_for = if file.only_for.is_empty() {
            String::new()
        } else {
            format!("for {}", words::fits(&file.only_for))
        };
        let takers = takers(file, entry, places, facets);
        let comes = [comes(file, entry), takers].into_iter().filter(|text| !text.is_empty());
        let comes = comes.collect::<Vec<_>>().join(", ");
        vec![format!(" {}", file.part), only_for, size(file.size), file.format.to_string(), comes]
    };
    ui.answer(ui.table(card.files.iter().map(row)));
}

/// Whether a release has nothing but one archive for everybody.
pub fn is_plain(card: &Card) -> bool {
    match card.files.as_slice() {
        [] => true,
        [file] => file.only_for.is_empty() && card.components.is_empty(),
        _ => false,
    }
}

/// When a file comes along, unless it always does.
fn comes(file: &FileRecord, entry: &Entry) -> String {
    let naming = entry.components.iter().filter(|(_, component)| component.parts.contains(&file.part));
    let naming: Vec<&str> = naming.map(|(name, _)| name.as_str()).collect();
    if !naming.is_empty() {
        return format!("with {}", naming.join(" or "));
    }
    if entry.goes_along(&file.part, &entry.default_components()) {
        String::new()
    } else {
        "on request".to_owned()
    }
}

/// The project's targets that take a file which is not for everybody.
fn takers(file: &FileRecord, entry: &Entry, places: &[Target], facets: &Facets) -> String {
    if file.only_for.is_empty() {
        return String::new();
    }
    let takes =
        |place: &&Target| !place.is_promise && facets.variant(&entry.files, &file.part, place) == Some(file);
    let names: Vec<&str> = places.iter().filter(takes).map(|place| place.name.as_str()).collect();
    if names.is_empty() { String::new() } else { format!("taken by {}", names.join(", ")) }
}
