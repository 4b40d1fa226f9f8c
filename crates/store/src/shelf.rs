//! A project's shelf: its folder of installed packages, made only of regular files and folders.
//!
//! ```text
//! shelf/<package>/     a package's files; `fernhollow/glass-house` lies in `fernhollow.glass-house`
//! shelf/.state.json    what was installed, written last
//! shelf/.lock          held by the one process that changes the shelf
//! shelf/.work/         packages being built or taken away
//! shelf/.gitignore     keeps the shelf out of version control
//! ```
//!
//! The shelf can always be made again from the lock and the store, so nothing in it is anybody's work.

mod link;
mod plan;
mod state;

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use bibliotax_core::notice::{Listener, Notice};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::{Held, lock};
use bibliotax_disk::tree::remove;
use bibliotax_disk::write::{make_folder, write_whole};

pub use self::link::Linker;
pub use self::plan::{Plan, installed_files};
pub use self::state::{ShelvedPackage, State};
use crate::error::StoreError;

/// The folder's name inside a project.
pub const NAME: &str = "shelf";

/// A project's shelf.
#[derive(Debug, Clone)]
pub struct Shelf {
    root: PathBuf,
}

impl Shelf {
    /// The shelf of the project in `project`, whether it is there yet or not.
    pub fn of(project: &Path) -> Self {
        Self { root: project.join(NAME) }
    }

    /// The folder of a package.
    pub fn package(&self, folder: &str) -> PathBuf {
        self.root.join(folder)
    }

    /// Makes the shelf if need be and keeps other processes from changing it, or anything else of the project.
    pub fn hold(&self, listener: &dyn Listener) -> Result<Held, StoreError> {
        let held = lock(&self.root.join(".lock"), || listener.hear(&Notice::Waiting))?;
        // Only now: whoever holds the shelf clears it of what doesn't belong there, half-written files included.
        let ignore = self.root.join(".gitignore");
        if !ignore.exists() {
            write_whole(&ignore, b"# Made by bibliotax from the lock; it can always be made again.\n*\n")?;
        }
        Ok(held)
    }

    /// What is installed; nothing where that can't be told.
    pub fn state(&self) -> State {
        State::read(&self.root.join(".state.json"))
    }

    /// Notes what is installed, for good.
    pub fn write_state(&self, state: &State) -> Result<(), StoreError> {
        Ok(write_whole(&self.root.join(".state.json"), state.to_string().as_bytes())?)
    }

    /// The names of everything on the shelf beside what the shelf itself is kept with.
    pub fn contents(&self) -> Result<BTreeSet<String>, StoreError> {
        let entries = match fs::read_dir(&self.root) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(BTreeSet::new()),
            entries => entries.at("read", &self.root)?,
        };
        let mut names = BTreeSet::new();
        for entry in entries {
            let name = entry.at("read", &self.root)?.file_name().to_string_lossy().into_owned();
            if !matches!(name.as_str(), ".gitignore" | ".lock" | ".state.json" | ".work") {
                names.insert(name);
            }
        }
        Ok(names)
    }

    /// An empty folder for packages being built or taken away.
    fn work(&self) -> Result<PathBuf, StoreError> {
        let work = self.root.join(".work");
        remove(&work)?;
        make_folder(&work)?;
        Ok(work)
    }

    /// Puts a package that was built in `work` in its place; what was there goes to `work`.
    fn place(&self, work: &Path, folder: &str) -> Result<(), DiskError> {
        self.take_away(work, folder)?;
        let place = self.package(folder);
        fs::rename(work.join(folder), &place).at("move into place", &place)
    }

    fn take_away(&self, work: &Path, folder: &str) -> Result<(), DiskError> {
        let place = self.package(folder);
        match fs::rename(&place, work.join(format!("{folder}.old"))) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("take away", &place),
            _ => Ok(()),
        }
    }

    /// Carries out the part of a plan that changes the shelf: builds, replaces, takes away.
    ///
    /// The state says first that nothing is known of what is going to change, and last what is there now.
    pub fn carry_out(
        &self,
        plan: &Plan<'_>,
        linker: &Linker<'_>,
        listener: &dyn Listener,
    ) -> Result<(), StoreError> {
        use rayon::prelude::*;
        self.write_state(&plan.kept)?;
        let work = self.work()?;
        listener.hear(&Notice::Shelving { packages: plan.build.len() });
        plan.build.par_iter().try_for_each(|package| {
            let folder = package.name.folder();
            linker.build(package, &work.join(&folder))?;
            self.place(&work, &folder)?;
            listener.hear(&Notice::Shelved { package: package.name.clone() });
            Ok::<(), StoreError>(())
        })?;
        plan.remove.iter().try_for_each(|folder| self.take_away(&work, folder))?;
        self.write_state(&plan.reached)?;
        Ok(remove(&work)?)
    }
}
