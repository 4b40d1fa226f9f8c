//! `store`: what is stored on this machine, who uses it, and cleaning up.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::LockedPackage;
use bibliotax_store::inventory::{Inventory, Tree, Trimming};
use bibliotax_store::store::Store;

use crate::context::Context;
use crate::failure::Failure;
use crate::shelf::{ShelfOptions, ShelfWork};
use crate::workspace::WorkspaceFolder;

/// What is kept.
pub struct Report {
    /// The store's folder.
    pub root: PathBuf,
    /// What is in it.
    pub inventory: Inventory,
}

/// Looks at what is kept.
pub fn report(context: &Context<'_>) -> Result<Report, Failure> {
    let store = context.environment.open_store()?;
    Ok(Report { inventory: store.inventory()?, root: store.root().to_owned() })
}

/// What would be taken out of the store, which nobody else uses meanwhile.
pub struct TrimPlan {
    /// What is in the store.
    pub inventory: Inventory,
    /// Which of it is taken out.
    trimming: Trimming,
    /// Whether what registries answered goes, too.
    pub with_cache: bool,
    now: SystemTime,
    store: Store,
    #[expect(dead_code, reason = "others wait while it is there")]
    held: File,
}

impl TrimPlan {
    /// What is taken out.
    pub fn goes(&self) -> Vec<Tree> {
        self.inventory.prunable(self.trimming, self.now)
    }

    /// Takes it out.
    pub fn apply(&self) -> Result<(), Failure> {
        self.store.trim(&self.goes())?;
        if self.with_cache {
            self.store.discard_answers()?;
        }
        Ok(())
    }
}

/// Works out what can be taken out; `waiting` is called where another process uses the store.
pub fn plan_trim(
    trimming: Trimming,
    with_cache: bool,
    context: &Context<'_>,
    waiting: impl FnOnce(),
) -> Result<TrimPlan, Failure> {
    let store = context.environment.open_store()?;
    let held = store.alone(waiting)?;
    let inventory = store.inventory()?;
    Ok(TrimPlan { inventory, trimming, with_cache, now: SystemTime::now(), store, held })
}

/// A look at every byte of the store.
pub struct Check {
    /// The archives that are damaged.
    pub damaged: Vec<Digest>,
    /// What is kept.
    pub kept: Inventory,
    store: Store,
}

/// What came of a repair.
pub struct Repaired {
    /// How many damaged archives came back.
    pub archives: usize,
    /// The projects that couldn't fetch what they use, with why.
    pub failed: Vec<(PathBuf, Failure)>,
}

/// Reads every byte of the store.
pub fn check(context: &Context<'_>) -> Result<Check, Failure> {
    let store = context.environment.open_store()?;
    let damaged = store.damaged()?;
    Ok(Check { kept: store.inventory()?, damaged, store })
}

impl Check {
    /// Takes damaged archives out and lets the projects that use them fetch them again.
    pub fn repair(&self, context: &Context<'_>) -> Result<Repaired, Failure> {
        let Self { damaged, kept, store } = self;
        damaged.iter().try_for_each(|archive| store.discard(archive))?;
        let mut failed = Vec::new();
        for noted in &kept.projects {
            let lacks = |archive: &&Digest| noted.archives.contains(archive) && !store.has(archive);
            if damaged.iter().any(|archive| lacks(&archive))
                && let Err(failure) = fetch_for(&noted.path, damaged, context)
            {
                failed.push((noted.path.clone(), failure));
            }
        }
        Ok(Repaired { archives: damaged.iter().filter(|archive| store.has(archive)).count(), failed })
    }
}

fn fetch_for(folder: &Path, damaged: &[Digest], context: &Context<'_>) -> Result<(), Failure> {
    let workspace = WorkspaceFolder::find(folder)?;
    let Some(lock) = workspace.sound_lock()? else { return Ok(()) };
    let is_damaged =
        |package: &LockedPackage| package.files.iter().any(|file| damaged.contains(&file.tree()));
    if lock.packages.iter().any(is_damaged) {
        ShelfWork::new(&workspace, lock, &ShelfOptions::default(), context).fetch()?;
    }
    Ok(())
}
