//! What `store` shows.

use bibliotax_app::store::{Check, Report, TrimPlan};
use bibliotax_present::words::{count, size};
use bibliotax_store::inventory::{Inventory, Project, Tree};

use crate::json::store::{CheckedStore, StoreContents, Trimmed};
use crate::ui::{Ui, clean, style, styled};

/// Most archives that are listed one by one where they go.
const MAX_LISTED: usize = 20;

/// Shows what is kept; every archive, if asked to.
pub fn show(ui: &Ui, report: &Report, all: bool) {
    let Report { root, inventory } = report;
    let unused: u64 = inventory.unused().map(|tree| tree.bytes).sum();
    ui.answer(root.display().to_string());
    ui.answer(ui.table(totals(inventory, unused)));
    show_projects(ui, inventory);
    if all {
        ui.answer(format!("\n{}", styled(style::STRONG, "archives")));
        let mut trees: Vec<&Tree> = inventory.trees.iter().collect();
        trees.sort_by_key(|tree| name_of(tree));
        ui.answer(ui.table(trees.into_iter().map(row_of)));
    }
    match (unused > 0, !inventory.remains.is_empty()) {
        (false, false) => {}
        (true, false) => ui.say("\n`bibliotax store trim` deletes what is unused"),
        (_, true) => ui.say("\n`bibliotax store trim` deletes what is unused and what was left behind"),
    }
    ui.report(|| StoreContents::from(report));
}

fn totals(inventory: &Inventory, unused: u64) -> Vec<Vec<String>> {
    let mut rows = vec![
        ("packages", count(inventory.trees.len(), "archive"), size(inventory.bytes())),
        ("unused", count(inventory.unused().count(), "archive"), size(unused)),
        ("answers", "of registries and repositories".to_owned(), size(inventory.answers)),
    ];
    if !inventory.remains.is_empty() {
        let what = format!("{} of runs that were killed", count(inventory.remains.len(), "remain"));
        rows.push(("left behind", what, size(inventory.bytes_left_behind())));
    }
    rows.into_iter().map(|(head, what, size)| vec![format!(" {head}"), what, size]).collect()
}

fn show_projects(ui: &Ui, inventory: &Inventory) {
    if inventory.projects.is_empty() {
        return;
    }
    ui.answer(format!("\n{}", styled(style::STRONG, "projects that use it")));
    let row = |project: &Project| {
        vec![
            format!(" {}", clean(&project.path.display().to_string())),
            count(project.archives.len(), "archive"),
            size(inventory.bytes_used_by(project)),
        ]
    };
    ui.answer(ui.table(inventory.projects.iter().map(row)));
}

/// What people know an archive by: the release it came for, or the beginning of its digest.
fn name_of(tree: &Tree) -> String {
    tree.of.as_deref().map_or_else(|| tree.archive.short(), clean)
}

fn row_of(tree: &Tree) -> Vec<String> {
    let users = match tree.projects {
        0 => styled(style::WARNING, "unused"),
        some => count(some, "project"),
    };
    vec![format!(" {}", name_of(tree)), size(tree.bytes), count(tree.files, "file"), users]
}

/// Shows what was taken out, or would be.
pub fn show_trimmed(ui: &Ui, plan: &TrimPlan, is_dry_run: bool) {
    let (inventory, mut goes) = (&plan.inventory, plan.goes());
    let bytes: u64 = goes.iter().map(|tree| tree.bytes).sum();
    if !goes.is_empty() {
        goes.sort_by_key(name_of);
        ui.say(ui.table(goes.iter().take(MAX_LISTED).map(row_of)));
    }
    if let Some(more) = goes.len().checked_sub(MAX_LISTED).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more; `--format json` lists all"));
    }
    let answers = if plan.with_cache { inventory.answers } else { 0 };
    let left = inventory.bytes() - bytes;
    let taken = taken_out(plan, &goes, bytes, answers);
    let taken = if taken.is_empty() {
        "nothing to delete".to_owned()
    } else {
        format!("{} {}", if is_dry_run { "would delete" } else { "deleted" }, taken.join(" and "))
    };
    ui.say(format!("{taken}; {} of archives remain", size(left)));
    ui.report(|| Trimmed::of(plan, is_dry_run));
}

fn taken_out(plan: &TrimPlan, goes: &[Tree], bytes: u64, answers: u64) -> Vec<String> {
    let archives = (!goes.is_empty()).then(|| format!("{} ({})", count(goes.len(), "archive"), size(bytes)));
    let answered =
        (answers > 0).then(|| format!("cached answers of registries and repositories ({})", size(answers)));
    let remains = (!plan.inventory.remains.is_empty())
        .then(|| format!("remains of runs that were killed ({})", size(plan.inventory.bytes_left_behind())));
    archives.into_iter().chain(answered).chain(remains).collect()
}

/// Lists the archives that are damaged.
pub fn show_damaged(ui: &Ui, check: &Check) {
    for archive in &check.damaged {
        ui.answer(format!("  {} {archive}", styled(style::BAD, "damaged")));
    }
}

/// Shows what came of a look at every byte; how many archives came back, where it was repaired.
pub fn show_checked(ui: &Ui, check: &Check, repaired: Option<usize>, is_dry_run: bool) {
    let kept = count(check.kept.trees.len(), "archive");
    ui.answer(match (check.damaged.len(), repaired) {
        (0, _) => format!("all {kept} are intact"),
        (some, Some(repaired)) => format!("{some} of {kept} were damaged, {repaired} downloaded again"),
        (some, None) => format!("{some} of {kept} damaged; `--repair` downloads them again"),
    });
    ui.report(|| CheckedStore::of(check, repaired.unwrap_or(0), is_dry_run));
}
