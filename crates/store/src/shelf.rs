//! A project's shelf: its folder of installed packages, made only of regular files and folders.
//!
//! ```text
//! shelf/<target>/<package>/  a package's files, as the target takes them; `fernhollow/glass-house` lies in
//!                      `fernhollow.glass-house`; directly in `shelf/` where the project declares no targets
//! shelf/links/         where everything is, for whoever builds with it
//! shelf/.state.json    what was installed, written last
//! shelf/.lock          held by the one process that changes the shelf
//! shelf/.work/         packages being built or taken away
//! shelf/.gitignore     keeps the shelf out of version control
//! ```
//!
//! The shelf can always be made again from the lock and the store, so nothing in it is anybody's work.

mod link;
mod links;
mod plan;
mod state;

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use bibliotax_core::facet::Target;
use bibliotax_core::links::Links;
use bibliotax_core::lock::Lock;
use bibliotax_core::notice::{Listener, Notice};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::{Held, lock};
use bibliotax_disk::tree::remove;
use bibliotax_disk::write::{make_folder, write_whole};

pub use self::link::Linker;
pub use self::plan::Plan;
pub use self::state::{ShelvedPackage, State};
use crate::error::StoreError;

/// The folder's name inside a project.
pub const NAME: &str = "shelf";

/// What of a shelf is looked at.
#[derive(Debug, Clone, Copy)]
pub struct Scope<'a> {
    /// The targets; empty for all there are.
    pub targets: &'a [String],
    /// What takes its own files where the project declares no targets.
    pub machine: &'a Target,
}

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

    /// The folder of the project.
    pub fn project(&self) -> Option<&Path> {
        self.root.parent()
    }

    /// The folder of a package, by its place.
    pub fn package(&self, path: &str) -> PathBuf {
        self.root.join(path)
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

    /// The places of everything on the shelf beside what the shelf itself is kept with: for a lock that has targets
    /// what is in the folders of these, and whatever else there is.
    pub fn contents(&self, lock: &Lock) -> Result<BTreeSet<String>, StoreError> {
        let targets = lock.targets();
        let mut places = BTreeSet::new();
        for name in names_in(&self.root)? {
            if targets.contains(&name.as_str()) && self.root.join(&name).is_dir() {
                places.extend(
                    names_in(&self.root.join(&name))?.into_iter().map(|inner| format!("{name}/{inner}")),
                );
            } else if !matches!(
                name.as_str(),
                ".gitignore" | ".lock" | ".state.json" | ".work" | links::LINKS
            ) {
                places.insert(name);
            }
        }
        Ok(places)
    }

    /// An empty folder for packages being built or taken away.
    fn work(&self) -> Result<PathBuf, StoreError> {
        let work = self.root.join(".work");
        remove(&work)?;
        make_folder(&work)?;
        Ok(work)
    }

    /// Puts a package that was built in `work` in its place; what was there goes to `work`.
    fn place(&self, work: &Path, path: &str) -> Result<(), DiskError> {
        self.take_away(work, path)?;
        let place = self.package(path);
        fs::rename(work.join(flat(path)), &place).at("move into place", &place)
    }

    fn take_away(&self, work: &Path, path: &str) -> Result<(), DiskError> {
        let place = self.package(path);
        match fs::rename(&place, work.join(format!("{}.old", flat(path)))) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("take away", &place),
            _ => Ok(()),
        }
    }

    /// Carries out the part of a plan that changes the shelf: builds, replaces, takes away, says where everything is.
    ///
    /// The state says first that nothing is known of what is going to change, and last what is there now.
    pub fn carry_out(
        &self,
        plan: &Plan<'_>,
        linker: &Linker<'_>,
        links: &[Links],
        listener: &dyn Listener,
    ) -> Result<(), StoreError> {
        use rayon::prelude::*;
        self.write_state(&plan.kept)?;
        let work = self.work()?;
        listener.hear(&Notice::Shelving { packages: plan.build.len() });
        let targets: BTreeSet<&str> = plan.build.iter().filter_map(|slot| slot.target).collect();
        for target in targets {
            self.make_target(target, &work)?;
        }
        plan.build.par_iter().try_for_each(|slot| {
            let path = slot.path();
            linker.build(slot, &work.join(flat(&path)))?;
            self.place(&work, &path)?;
            listener.hear(&Notice::Shelved { package: slot.package.name.clone() });
            Ok::<(), StoreError>(())
        })?;
        plan.remove.iter().try_for_each(|path| self.take_away(&work, path))?;
        self.write_links(links)?;
        self.write_state(&plan.reached)?;
        Ok(remove(&work)?)
    }

    /// Makes the folder of a target; a file that has its name goes to `work`.
    fn make_target(&self, target: &str, work: &Path) -> Result<(), DiskError> {
        let folder = self.root.join(target);
        if folder.exists() && !folder.is_dir() {
            self.take_away(work, target)?;
        }
        make_folder(&folder)
    }
}

/// A place on the shelf as one name: no target and no package has a `+` in its own.
fn flat(path: &str) -> String {
    path.replace('/', "+")
}

/// The names of everything in a folder; none where there is no folder.
fn names_in(folder: &Path) -> Result<Vec<String>, StoreError> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.at("read", folder)?,
    };
    let name = |entry: std::io::Result<fs::DirEntry>| {
        Ok(entry.at("read", folder)?.file_name().to_string_lossy().into_owned())
    };
    entries.map(name).collect()
}
