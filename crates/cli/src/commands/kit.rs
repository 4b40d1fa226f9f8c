//! `kit`: a lock with all its packages in one file, for machines without a network.

use std::path::{Path, PathBuf};

use bibliotax_registry::client::http::Cards;
use bibliotax_store::kit;
use serde_json::{Value, json};

use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Only, Project, ShelfPart, note_kit, open_store, registries_folder};
use crate::show::{count, size};
use crate::ui::{Ui, style, styled};

/// Carry a lock's packages to a machine without a network
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax kit make garden.kit\n  bibliotax kit open garden.kit\n  bibliotax install --offline"
)]
pub struct Kit {
    #[command(subcommand)]
    command: KitCommand,
}

#[derive(Debug, clap::Subcommand)]
enum KitCommand {
    /// Put the lock, its cards and its archives into one file
    ///
    /// The same lock and targets give the same bytes. Archives are fetched from their registries, which the store keeps only
    /// unpacked.
    #[command(after_help = "Example:\n  bibliotax kit make garden.kit --target hand-unit")]
    Make {
        /// The file to make
        file: PathBuf,
        #[command(flatten)]
        members: Only,
        /// Only what this target takes; may be given several times
        #[arg(long = "target", value_name = "TARGET")]
        targets: Vec<String>,
        /// Show what would go into it and write nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// Take the packages of a kit into the store, each checked
    ///
    /// After that, `bibliotax install --offline` works in a project that has the same lock.
    #[command(after_help = "Example:\n  bibliotax kit open garden.kit")]
    Open {
        /// The kit
        file: PathBuf,
    },
}

impl Kit {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        match &self.command {
            KitCommand::Make { file, members, targets, dry_run } => {
                make(ui, here, file, members, targets, *dry_run)
            }
            KitCommand::Open { file } => open(ui, here, file),
        }
    }
}

fn make(
    ui: &Ui,
    here: &Path,
    file: &Path,
    members: &Only,
    targets: &[String],
    dry_run: bool,
) -> Result<Exit, Failure> {
    let project = Project::find(here)?;
    let targets = project.targets_named(targets)?;
    let part = ShelfPart { members: members.names(&project)?, targets, ..ShelfPart::default() };
    let project = project.only(part);
    let lock = project.needed_lock()?;
    if !project.is_locked() {
        ui.warn("bibliotax.toml was changed since bibliotax.lock was made from it; the kit carries what is locked");
    } else {
        project.hold_lock(lock)?;
    }
    let head = if dry_run {
        kit::head(lock, &project.load())
    } else {
        let progress = Progress::new(ui);
        project.make_kit(&here.join(file), lock, &progress)?
    };
    let verb = if dry_run { "would hold" } else { "holds" };
    let what = format!("{}, {}", count(head.archives, "archive"), size(head.bytes));
    ui.say(format!("{}: {} {verb} {what}", styled(style::STRONG, "kit"), file.display()));
    if !dry_run {
        ui.say(format!(
            "on the other machine: `bibliotax kit open {}`, then `bibliotax install --offline`",
            file.display()
        ));
    }
    ui.report("kit make", || as_json(file, &head, dry_run));
    Ok(Exit::Done)
}

fn as_json(file: &Path, head: &kit::Head, dry_run: bool) -> Value {
    json!({ "file": file, "members": head.members, "lock": head.lock, "targets": head.targets,
        "archives": head.archives, "bytes": head.bytes, "dry-run": dry_run })
}

fn open(ui: &Ui, here: &Path, file: &Path) -> Result<Exit, Failure> {
    let progress = Progress::new(ui);
    let opened = kit::open(&here.join(file), &open_store()?, &progress)?;
    drop(progress);
    let cards = Cards::of(&registries_folder()?);
    opened.cards.iter().for_each(|(digest, text)| cards.keep(digest, text));
    note_kit(&opened.lock);
    let head = &opened.head;
    let (all, known) = (count(head.archives, "archive"), head.archives - opened.new);
    let known = if known > 0 { format!(", {known} of them known before") } else { String::new() };
    ui.say(format!("{}: {all} ({}) in the store{known}", styled(style::STRONG, "kit"), size(head.bytes)));
    say_next(ui, here, head);
    ui.report("kit open", || {
        json!({ "file": file, "members": head.members, "lock": head.lock, "targets": head.targets,
        "archives": head.archives, "new": opened.new, "bytes": head.bytes })
    });
    Ok(Exit::Done)
}

/// Says what can be done with it in the project at hand, if there is one.
fn say_next(ui: &Ui, here: &Path, head: &kit::Head) {
    let Ok(project) = Project::find(here) else { return };
    match project.sound_lock() {
        Ok(Some(lock)) if lock.digest() == head.lock => ui.say("next: `bibliotax install --offline`"),
        _ => ui.warn("this project's lock is not the one that the kit was made of; `bibliotax install --offline` tells what is lacking"),
    }
}
