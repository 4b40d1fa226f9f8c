//! `kit`: a lock with all its packages in one file, for machines without a network.

use std::path::Path;

use bibliotax_disk::error::At;
use bibliotax_registry::client::http::Cards;
use bibliotax_store::kit::{self, KitHeader, KitScope, LockedCard, OpenedKit};
use bibliotax_store::store::Store;

use crate::archives::Archives;
use crate::context::Context;
use crate::failure::Failure;
use crate::lock_check::{LockCheck, remember_kit};
use crate::search_options::SearchOptions;
use crate::shelf::ShelfPart;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// What a kit is to hold.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Only what these projects need.
    pub projects: ProjectWords,
    /// Only what these targets take.
    pub targets: Vec<String>,
}

/// A kit, not yet made.
pub struct Plan {
    /// Whether the lock is made from the manifests as they are.
    pub is_locked: bool,
    workspace: WorkspaceFolder,
    part: ShelfPart,
}

impl Plan {
    /// What it would hold.
    pub fn head(&self) -> Result<KitHeader, Failure> {
        Ok(kit::head(self.workspace.needed_lock()?, &self.load()))
    }

    /// Makes it; what it holds.
    pub fn apply(&self, file: &Path, context: &Context<'_>) -> Result<KitHeader, Failure> {
        let lock = self.workspace.needed_lock()?;
        let archives = Archives::new(&self.workspace, &self.workspace.declared, context.environment, None);
        let cards = Cards::of(&context.environment.registries_folder()?);
        let card = |card: &LockedCard| match cards.read(&card.digest) {
            Some(text) => Ok(text),
            None => archives.registries()?.card_text(&card.name, &card.source, &card.digest),
        };
        let path = context.folder.join(file);
        let store = context.environment.open_store()?;
        Ok(kit::make(&path, lock, &self.load(), &store, &archives, card, context.listener)?)
    }

    fn load(&self) -> KitScope<'_> {
        KitScope { projects: &self.part.projects, targets: &self.part.targets }
    }
}

/// Works out what a kit would hold.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let workspace = WorkspaceFolder::find(context.folder)?;
    let targets = workspace.targets_named(&request.targets)?;
    let part = ShelfPart { projects: request.projects.names(&workspace)?, targets, ..ShelfPart::default() };
    let lock = workspace.needed_lock()?;
    let is_locked = workspace.is_locked();
    if is_locked {
        LockCheck::new(&workspace, context.environment, &SearchOptions::default()).check(lock)?;
    }
    Ok(Plan { is_locked, workspace, part })
}

/// Takes the packages of a kit into the store, each checked; in a dry run into one that is gone afterwards.
pub fn open(file: &Path, is_dry_run: bool, context: &Context<'_>) -> Result<OpenedKit, Failure> {
    let store = context.environment.open_store()?;
    if is_dry_run {
        return try_out(file, &store, context);
    }
    let opened = kit::open(&context.folder.join(file), &store, context.listener)?;
    let cards = Cards::of(&context.environment.registries_folder()?);
    opened.cards.iter().for_each(|(digest, text)| cards.keep(digest, text));
    remember_kit(&opened.lock, context.environment);
    Ok(opened)
}

/// Checks a kit whole, and counts the archives that the store lacks.
fn try_out(file: &Path, store: &Store, context: &Context<'_>) -> Result<OpenedKit, Failure> {
    let folder = std::env::temp_dir();
    let scratch = tempfile::tempdir_in(&folder).at("write in", &folder)?;
    let opened = kit::open(&context.folder.join(file), &Store::open(scratch.path())?, context.listener)?;
    let scope = KitScope { projects: &opened.head.projects, targets: &opened.head.targets };
    let new = kit::trees(&opened.lock, &scope).iter().filter(|tree| !store.has(tree)).count();
    Ok(OpenedKit { new, ..opened })
}

/// Whether the lock of the workspace around the context's folder is the one that a kit was made from; `None` where there is no
/// workspace.
pub fn is_for_workspace_here(head: &KitHeader, context: &Context<'_>) -> Option<bool> {
    let workspace = WorkspaceFolder::find(context.folder).ok()?;
    Some(workspace.sound_lock().is_ok_and(|lock| lock.is_some_and(|lock| lock.digest() == head.lock)))
}
