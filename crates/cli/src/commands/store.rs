//! `store`: what is kept on this machine, by whom it is used, and room made.

use std::path::Path;
use std::time::{Duration, SystemTime};

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::LockedPackage;
use bibliotax_store::inventory::{Inventory, Project as Noted, Pruning, Tree};
use bibliotax_store::store::Store as Trees;
use serde_json::json;

use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Project, open_store};
use crate::show::{count, size, table};
use crate::ui::{Ui, clean, style, styled};

/// Most archives that are listed one by one where they go.
const MOST_LISTED: usize = 20;

/// Look after what is kept on this machine
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax store show\n  bibliotax store prune --older-than 30\n  bibliotax store check --repair"
)]
pub struct Store {
    #[command(subcommand)]
    command: StoreCommand,
}

#[derive(Debug, clap::Subcommand)]
enum StoreCommand {
    /// Tell what is kept, how large it is, and which projects use it
    #[command(after_help = "Examples:\n  bibliotax store show\n  bibliotax store show --all")]
    Show {
        /// List every archive that is kept
        #[arg(long)]
        all: bool,
    },
    /// Take out what no project uses
    ///
    /// What is on the shelf of a project that is still there stays, however old.
    #[command(
        after_help = "Examples:\n  bibliotax store prune --dry-run\n  bibliotax store prune --older-than 30 --to 2G"
    )]
    Prune {
        /// Only what came more than so many days ago
        #[arg(long, value_name = "DAYS")]
        older_than: Option<u64>,
        /// Only as much as it takes to keep no more than this, the oldest first: 800M, 2G
        #[arg(long, value_name = "SIZE", value_parser = read_size)]
        to: Option<u64>,
        /// Also what registries answered, repositories, and archives from elsewhere: fetched again when they are wanted
        #[arg(long)]
        answers: bool,
        /// Show what would go and take nothing out
        #[arg(long)]
        dry_run: bool,
    },
    /// Read every byte and tell what is damaged; ends with status 1 if something is
    #[command(after_help = "Example:\n  bibliotax store check --repair")]
    Check {
        /// Fetch what is damaged again, for the projects that use it
        #[arg(long)]
        repair: bool,
    },
}

impl Store {
    pub fn run(&self, _: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let store = open_store()?;
        match &self.command {
            StoreCommand::Show { all } => show(ui, &store, *all),
            StoreCommand::Prune { older_than, to, answers, dry_run } => {
                let older_than =
                    older_than.map(|days| Duration::from_secs(days.saturating_mul(24 * 60 * 60)));
                prune(ui, &store, Pruning { older_than, down_to: *to }, *answers, *dry_run)
            }
            StoreCommand::Check { repair } => check(ui, &store, *repair),
        }
    }
}

/// A size as people write it: a number of bytes, or one with `k`, `M`, `G` or `T` behind it, each 1024 of the one before.
pub(super) fn read_size(text: &str) -> Result<u64, String> {
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len()));
    let shift = match unit.to_ascii_uppercase().as_str() {
        "" | "B" => 0,
        "K" | "KB" | "KIB" => 10,
        "M" | "MB" | "MIB" => 20,
        "G" | "GB" | "GIB" => 30,
        "T" | "TB" | "TIB" => 40,
        _ => return Err("a size is like 800M or 2G".to_owned()),
    };
    let number = number.parse::<u64>().ok().and_then(|number| number.checked_mul(1 << shift));
    number.ok_or_else(|| "a size is like 800M or 2G".to_owned())
}

fn show(ui: &Ui, store: &Trees, all: bool) -> Result<Exit, Failure> {
    let inventory = store.inventory()?;
    let unused: u64 = inventory.unused().map(|tree| tree.bytes).sum();
    ui.answer(store.root().display().to_string());
    let mut rows = vec![
        ("packages", count(inventory.trees.len(), "archive"), size(inventory.bytes())),
        ("unused", count(inventory.unused().count(), "archive"), size(unused)),
        ("answers", "of registries and repositories".to_owned(), size(inventory.answers)),
    ];
    if !inventory.remains.is_empty() {
        let what = format!("{} of runs that were killed", count(inventory.remains.len(), "remain"));
        rows.push(("left behind", what, size(left_behind(&inventory))));
    }
    let row = |(head, what, size): (&str, String, String)| vec![format!(" {head}"), what, size];
    ui.answer(table(ui, rows.into_iter().map(row)));
    if !inventory.projects.is_empty() {
        ui.answer(format!("\n{}", styled(style::STRONG, "projects that use it")));
        let row = |project: &Noted| {
            vec![
                format!(" {}", clean(&project.path.display().to_string())),
                count(project.archives.len(), "archive"),
                size(bytes_of(&inventory, project)),
            ]
        };
        ui.answer(table(ui, inventory.projects.iter().map(row)));
    }
    if all {
        ui.answer(format!("\n{}", styled(style::STRONG, "archives")));
        let mut trees: Vec<&Tree> = inventory.trees.iter().collect();
        trees.sort_by_key(|tree| name_of(tree));
        ui.answer(table(ui, trees.into_iter().map(row_of)));
    }
    match (unused > 0, !inventory.remains.is_empty()) {
        (false, false) => {}
        (true, false) => ui.say("\n`bibliotax store prune` takes out what is unused"),
        (_, true) => ui.say("\n`bibliotax store prune` takes out what is unused and what was left behind"),
    }
    let project = |project: &Noted| json!({ "path": project.path, "archives": project.archives, "bytes": bytes_of(&inventory, project) });
    ui.report(
        "store show",
        || json!({ "path": store.root(), "bytes": inventory.bytes(), "unused": unused, "answers": inventory.answers,
            "left-behind": left_behind(&inventory),
            "trees": inventory.trees.iter().map(tree_json).collect::<Vec<_>>(),
            "projects": inventory.projects.iter().map(project).collect::<Vec<_>>() }),
    );
    Ok(Exit::Done)
}

/// The bytes that runs that were killed left behind.
fn left_behind(inventory: &Inventory) -> u64 {
    inventory.remains.iter().map(|remains| remains.bytes).sum()
}

fn bytes_of(inventory: &Inventory, project: &Noted) -> u64 {
    let used = inventory.trees.iter().filter(|tree| project.archives.contains(&tree.archive));
    used.map(|tree| tree.bytes).sum()
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

fn tree_json(tree: &Tree) -> serde_json::Value {
    let since = jiff::Timestamp::try_from(tree.since).ok();
    json!({ "archive": tree.archive, "of": tree.of, "files": tree.files, "bytes": tree.bytes, "since": since, "projects": tree.projects })
}

fn prune(
    ui: &Ui,
    store: &Trees,
    pruning: Pruning,
    with_answers: bool,
    dry_run: bool,
) -> Result<Exit, Failure> {
    let _held = store.alone(|| ui.warn("another process uses the store; waiting for it"))?;
    let inventory = store.inventory()?;
    let mut goes = inventory.prunable(pruning, SystemTime::now());
    let bytes: u64 = goes.iter().map(|tree| tree.bytes).sum();
    if !dry_run {
        store.prune(&goes)?;
        if with_answers {
            store.discard_answers()?;
        }
    }
    let verb = if dry_run { "would take out" } else { "took out" };
    let left = inventory.bytes() - bytes;
    if !goes.is_empty() {
        goes.sort_by_key(name_of);
        ui.say(table(ui, goes.iter().take(MOST_LISTED).map(row_of)));
    }
    if let Some(more) = goes.len().checked_sub(MOST_LISTED).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more; `--format json` lists all"));
    }
    let answers = if with_answers { inventory.answers } else { 0 };
    let archives = (!goes.is_empty()).then(|| format!("{} ({})", count(goes.len(), "archive"), size(bytes)));
    let answered =
        (answers > 0).then(|| format!("what registries and repositories answered ({})", size(answers)));
    let remains = (!inventory.remains.is_empty())
        .then(|| format!("what runs that were killed left behind ({})", size(left_behind(&inventory))));
    let taken: Vec<String> = archives.into_iter().chain(answered).chain(remains).collect();
    let taken = if taken.is_empty() {
        "nothing to take out".into()
    } else {
        format!("{verb} {}", taken.join(" and "))
    };
    ui.say(format!("{taken}; archives of {} are kept", size(left)));
    ui.report(
        "store prune",
        || json!({ "answers": answers, "left-behind": left_behind(&inventory), "taken-out": goes.iter().map(tree_json).collect::<Vec<_>>(), "bytes": bytes, "kept": left, "dry-run": dry_run }),
    );
    Ok(Exit::Done)
}

fn check(ui: &Ui, store: &Trees, repair: bool) -> Result<Exit, Failure> {
    let damaged = store.damaged()?;
    let kept = store.inventory()?;
    for archive in &damaged {
        ui.answer(format!("  {} {archive}", styled(style::BAD, "damaged")));
    }
    let repaired = if repair { repair_all(ui, store, &kept, &damaged)? } else { 0 };
    ui.answer(match damaged.len() {
        0 => format!("all {} are whole", count(kept.trees.len(), "archive")),
        some if repair => {
            format!("{} of {} taken out, {repaired} fetched again", some, count(kept.trees.len(), "archive"))
        }
        some => {
            format!("{some} of {} damaged; `--repair` fetches them again", count(kept.trees.len(), "archive"))
        }
    });
    ui.report(
        "store check",
        || json!({ "archives": kept.trees.len(), "damaged": damaged, "repaired": repaired }),
    );
    let is_well = damaged.is_empty() || repaired == damaged.len();
    Ok(if is_well { Exit::Done } else { Exit::Differs })
}

/// Takes damaged trees out and lets the projects that use them fetch them again; how many came back.
fn repair_all(ui: &Ui, store: &Trees, kept: &Inventory, damaged: &[Digest]) -> Result<usize, Failure> {
    damaged.iter().try_for_each(|archive| store.discard(archive))?;
    for noted in &kept.projects {
        if !damaged.iter().any(|archive| noted.archives.contains(archive) && !store.has(archive)) {
            continue;
        }
        if let Err(failure) = fetch_for(ui, &noted.path, damaged) {
            ui.warn(format!("{}: {}", noted.path.display(), failure.message));
        }
    }
    Ok(damaged.iter().filter(|archive| store.has(archive)).count())
}

fn fetch_for(ui: &Ui, folder: &Path, damaged: &[Digest]) -> Result<(), Failure> {
    let project = Project::find(folder)?;
    let Some(lock) = project.sound_lock()? else { return Ok(()) };
    let progress = Progress::new(ui);
    let is_damaged =
        |package: &LockedPackage| package.files.iter().any(|file| damaged.contains(&file.tree()));
    if lock.packages.iter().any(is_damaged) {
        project.fetch(lock, &project.workspace, &progress)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_as_people_write_them() {
        for (text, bytes) in
            [("800", 800), ("2k", 2048), ("3M", 3 << 20), ("2GiB", 2 << 30), ("1t", 1 << 40), ("0", 0)]
        {
            assert_eq!(read_size(text), Ok(bytes), "{text}");
        }
        for text in ["", "G", "two", "-1", "2 G", "99999999999T", "1.5G"] {
            assert!(read_size(text).is_err(), "{text}");
        }
    }
}
