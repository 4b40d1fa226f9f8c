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
mod template;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use bibliotax_core::lock::{Lock, Scope, Slot};
use bibliotax_core::manifest::ShelfSettings;
use bibliotax_core::name::PackageName;
use bibliotax_core::notice::{Listener, Notice};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::{Held, lock};
use bibliotax_disk::read::read_text;
use bibliotax_disk::stamp::{self, Opened, Stamp};
use bibliotax_disk::tree::{remove, sync_file_system};
use bibliotax_disk::write::{make_folder, write_whole};

pub use self::link::Linker;
pub use self::links::{LinkFiles, SEPARATOR, link_files};
pub use self::plan::{Contents, Plan};
use self::state::Glimpse;
pub use self::state::{Made, ShelvedPackage, State};
pub use self::template::{TEMPLATES, Template};
use crate::error::StoreError;

/// The file that says what is installed.
const STATE: &str = ".state.json";

/// The folder's name inside a project.
pub const NAME: &str = "shelf";

/// What a shelf is to become.
#[derive(Debug, Clone, Copy)]
pub struct Aim<'l, 'a> {
    /// The lock that it is to hold.
    pub lock: &'l Lock,
    /// The part of it that is worked on.
    pub scope: Scope<'a>,
    /// How it is made.
    pub settings: ShelfSettings,
    /// The project's own templates for links.
    pub templates: &'a [Template],
    /// Packages that are built whatever is there.
    pub anew: &'a BTreeSet<PackageName>,
    /// All that it is made from.
    pub made: Made,
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

    /// The project's folder from the root of the disk, as text.
    pub fn absolute_project(&self) -> Result<String, StoreError> {
        let path = std::path::absolute(&self.root).at("find", &self.root)?;
        let project = path.parent().unwrap_or(&path);
        Ok(project.to_string_lossy().into_owned())
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
        State::read(&self.root.join(STATE))
    }

    /// Notes what is installed, for good.
    pub fn write_state(&self, state: &State) -> Result<(), StoreError> {
        Ok(write_whole(&self.root.join(STATE), state.to_string().as_bytes())?)
    }

    /// How many packages are on a shelf that needs nothing, made from just this and touched by nobody since; `None` where that
    /// isn't so. Looks at each package's folder and no deeper: what was edited inside, verifying finds.
    pub fn stands(&self, made: Made) -> Result<Option<usize>, StoreError> {
        let Some(text) = read_text(&self.root.join(STATE), state::LARGEST)? else { return Ok(None) };
        let Some(glimpse) = Glimpse::read(&text).filter(|glimpse| glimpse.made == Some(made)) else {
            return Ok(None);
        };
        let stamps: Vec<(&str, Stamp)> = glimpse.stamps.into_iter().collect();
        if !self.are_as_noted(&stamps)? {
            return Ok(None);
        }
        let mut folders: BTreeMap<&str, usize> = BTreeMap::new();
        for (place, _) in &stamps {
            *folders.entry(place.split_once('/').map_or("", |(folder, _)| folder)).or_default() += 1;
        }
        let packages = stamps.len() - folders.get(links::LINKS).copied().unwrap_or(0);
        Ok(self.holds_nothing_else(&folders)?.then_some(packages))
    }

    /// Whether these folders of packages and files of links have the stamps that were noted.
    fn are_as_noted(&self, stamps: &[(&str, Stamp)]) -> Result<bool, StoreError> {
        let opened = Opened::open(&self.root)?;
        for (place, stamp) in stamps {
            let is_file = place.split_once('/').is_some_and(|(folder, _)| folder == links::LINKS);
            if opened.stamp(place, is_file)? != Some(*stamp) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether folders of the shelf hold so many things, and it nothing else; those that count are known to be there.
    fn holds_nothing_else(&self, folders: &BTreeMap<&str, usize>) -> Result<bool, StoreError> {
        let on_top = names_in(&self.root)?.into_iter().filter(|name| !is_own(name)).count();
        let below = folders.keys().filter(|folder| !matches!(**folder, "" | links::LINKS)).count();
        if on_top != folders.get("").copied().unwrap_or(0) + below {
            return Ok(false);
        }
        for (folder, number) in folders.iter().filter(|(folder, _)| !folder.is_empty()) {
            let path = self.root.join(folder);
            if stamp::of_folder(&path)?.is_none() || names_in(&path)?.len() != *number {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Everything on the shelf beside what the shelf itself is kept with: for a lock that has targets what is in the folders
    /// of these, and whatever else there is.
    pub fn contents(&self, lock: &Lock) -> Result<Contents, StoreError> {
        let targets = lock.targets();
        let mut contents = Contents::new();
        let mut note = |place: String| {
            let stamp = stamp::of_folder(&self.root.join(&place))?;
            contents.insert(place, stamp);
            Ok::<(), StoreError>(())
        };
        for name in names_in(&self.root)? {
            let is_target = targets.contains(&name.as_str());
            if is_target && stamp::of_folder(&self.root.join(&name))?.is_some() {
                let inner = names_in(&self.root.join(&name))?;
                inner.into_iter().try_for_each(|inner| note(format!("{name}/{inner}")))?;
            } else if !is_own(&name) {
                note(name)?;
            }
        }
        Ok(contents)
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
        files: &LinkFiles,
        made: Made,
        listener: &dyn Listener,
    ) -> Result<(), StoreError> {
        let mut stamps = BTreeMap::new();
        if !plan.is_nothing() {
            self.write_state(&plan.kept)?;
            let work = self.work()?;
            stamps = self.build(plan, linker, &work, listener)?;
            plan.remove.iter().try_for_each(|path| self.take_away(&work, path))?;
            if linker.has_copied() {
                // Second names of the store's files are as durable as the state that is synced after them; new files aren't.
                sync_file_system(&self.root)?;
            }
            remove(&work)?;
        }
        stamps.extend(self.write_links(files)?);
        self.write_state(&plan.reached(made, stamps))
    }

    /// Builds all that a plan says in `work` and puts it in its place; the stamps of what came there.
    fn build(
        &self,
        plan: &Plan<'_>,
        linker: &Linker<'_>,
        work: &Path,
        listener: &dyn Listener,
    ) -> Result<BTreeMap<String, Stamp>, StoreError> {
        use rayon::prelude::*;
        listener.hear(&Notice::Shelving { packages: plan.build.len() });
        let targets: BTreeSet<&str> = plan.build.iter().filter_map(|slot| slot.target).collect();
        for target in targets {
            self.make_target(target, work)?;
        }
        let build = |slot: &Slot<'_>| {
            let path = slot.path();
            linker.build(slot, &work.join(flat(&path)))?;
            self.place(work, &path)?;
            listener.hear(&Notice::Shelved { package: slot.package.name.clone() });
            let stamp = stamp::of_folder(&self.package(&path))?.unwrap_or_default();
            Ok((path, stamp))
        };
        plan.build.par_iter().map(build).collect()
    }

    /// Makes the folder of a target; a file that has its name goes to `work`.
    fn make_target(&self, target: &str, work: &Path) -> Result<(), DiskError> {
        let folder = self.root.join(target);
        if stamp::of_folder(&folder)?.is_none() {
            self.take_away(work, target)?;
        }
        make_folder(&folder)
    }
}

/// Whether a name on top of a shelf is of what the shelf itself is kept with.
fn is_own(name: &str) -> bool {
    matches!(name, ".gitignore" | ".lock" | STATE | ".work" | links::LINKS)
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
