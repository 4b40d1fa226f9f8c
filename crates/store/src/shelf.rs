//! A project's shelf: its folder of installed packages, made of regular files and folders only.
//!
//! ```text
//! shelf/<target>/<package>/  a package's files, as the target takes them; `fernhollow/glass-house` is in
//!                      `fernhollow.glass-house`; directly in `shelf/` where the project declares no targets
//! shelf/links/         where everything is, for build tools
//! shelf/.state.json    what was installed, written last
//! shelf/.told          when news of what is installed was last told, in seconds since 1970
//! shelf/.lock          held by the one process that changes the shelf
//! shelf/.work/         packages being built or taken away
//! shelf/.gitignore     keeps the shelf out of version control
//! ```
//!
//! The shelf can always be made again from the lock and the store. Only what its state says was made by us is replaced or
//! removed; a link, or something that somebody put there, is an error and stays as it is.

mod exposed_files;
mod link;
mod links;
mod package_check;
mod plan;
mod state;
mod template;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use bibliotax_core::links::LinkSettings;
use bibliotax_core::lock::{Lock, Scope, Slot};
use bibliotax_core::manifest::ShelfSettings;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_disk::error::At;
use bibliotax_disk::error::Foreign;
use bibliotax_disk::folder::{Folder, Kind};
use bibliotax_disk::lock::Held;
use bibliotax_disk::stamp::Stamp;
use bibliotax_disk::temporary::TEMPORARY;
use rayon::prelude::*;

pub use self::exposed_files::{ExposedFiles, PartFolders};
pub use self::link::Linker;
pub use self::links::{LinkFiles, SEPARATOR, link_files};
pub use self::package_check::PackageCheck;
use self::package_check::{PackageContents, has_files, has_folders, is_as_stamped};
pub use self::plan::{Contents, Found, Plan, PlanProblem};
pub use self::state::{InputsDigest, ShelvedPackage, State};
use self::state::{StateHeader, files_of};
pub use self::template::{RenderInProcess, RenderTemplate, TEMPLATES, Template, TemplateFault, Templates};
use crate::error::StoreError;
use crate::file_check::FileCheck;

/// The file that says what is installed.
const STATE: &str = ".state.json";

/// The folder of packages that are being built or taken away.
const WORK: &str = ".work";

/// The file that keeps the shelf out of version control.
const IGNORE: &str = ".gitignore";

/// The file that says when news of what is installed was last told.
const TOLD: &str = ".told";

/// The file that is locked to change the project.
const LOCK: &str = ".lock";

/// The folder's name inside a project.
pub const NAME: &str = "shelf";

/// What a shelf is to become.
#[derive(Debug, Clone, Copy)]
pub struct DesiredState<'l, 'a> {
    /// The lock that it is to hold.
    pub lock: &'l Lock,
    /// The part of it that is worked on.
    pub scope: Scope<'a>,
    /// How it is made.
    pub settings: ShelfSettings,
    /// The project's own templates for links.
    pub templates: Templates<'a>,
    /// Packages that are built even if they are there.
    pub rebuilt: &'a BTreeSet<PackageName>,
    /// The targets whose systems can have every name of a file.
    pub tolerant: &'a BTreeSet<String>,
    /// What manifests say of links.
    pub links: &'a LinkSettings,
    /// Where the parts of packages are that are used in their folders.
    pub parts: &'a PartFolders,
    /// Whether rules hold for what is locked.
    pub has_rules: bool,
    /// How closely the store's files are looked at; with all their bytes, everything is built again.
    pub depth: FileCheck,
    /// How closely what is there is looked at before it stays.
    pub look: PackageCheck,
    /// All that it is made from.
    pub made: InputsDigest,
}

/// A project's shelf.
#[derive(Debug, Clone)]
pub struct Shelf {
    root: PathBuf,
}

/// A shelf that needs nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UpToDate {
    /// How many packages are on it.
    pub packages: usize,
    /// Whether something stands in for some of them.
    pub has_stand_ins: bool,
    /// Whether rules hold for what is locked.
    pub has_rules: bool,
}

impl Shelf {
    /// The shelf of the project in `project`, whether it is there yet or not.
    pub fn of(project: &Path) -> Self {
        Self { root: project.join(NAME) }
    }

    /// Whether there is one that was made here.
    pub fn is_there(&self) -> bool {
        self.root.join(STATE).is_file()
    }

    /// Removes it with all that is on it. The caller holds it.
    pub fn remove(&self) -> Result<(), StoreError> {
        Ok(bibliotax_disk::tree::remove(&self.root)?)
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

    /// The shelf, held open; `None` if there is none. A link in its place is an error.
    fn open(&self) -> Result<Option<Folder>, StoreError> {
        Ok(Folder::open(&self.root)?)
    }

    /// The folder of a package, by its place; `None` if nothing is there.
    pub fn package(&self, place: &str) -> Result<Option<Folder>, StoreError> {
        let Some(shelf) = self.open()? else { return Ok(None) };
        let (folder, name) = parts(place);
        let Some(folder) = shelf.folders(folder)? else { return Ok(None) };
        match folder.entry(name)?.map(|entry| entry.kind) {
            Some(Kind::Folder) => Ok(folder.folder(name)?),
            _ => Ok(None),
        }
    }

    /// Makes the shelf if need be and keeps other processes from changing it, or anything else of the project.
    pub fn hold(&self, listener: &dyn ProgressListener) -> Result<Held, StoreError> {
        let shelf = Folder::make(&self.root)?;
        refuse_foreign(&shelf)?;
        let held = shelf.lock(LOCK, || listener.on_event(&ProgressEvent::Waiting))?;
        // Only now: the holder of the lock clears the shelf of half-written files.
        if shelf.entry(IGNORE)?.is_none() {
            let text = b"# Created by bibliotax from the lock; it can be deleted at any time.\n*\n";
            shelf.write_whole(IGNORE, text)?;
        }
        Ok(held)
    }

    /// When news of what is installed was last told, in seconds since 1970.
    pub fn last_warned(&self) -> Option<i64> {
        let shelf = self.open().ok()??;
        shelf.read_text(TOLD, 64).ok()??.trim().parse().ok()
    }

    /// Notes that news of what is installed is shown now. Where that can't be noted, it is shown again the next time.
    pub fn note_warned(&self, now: i64) {
        if let Ok(Some(shelf)) = self.open() {
            let _ = shelf.write_whole(TOLD, format!("{now}\n").as_bytes());
        }
    }

    /// What is installed; nothing where that is unknown.
    pub fn state(&self) -> Result<State, StoreError> {
        Ok(self.open()?.map(|shelf| State::read(&shelf)).unwrap_or_default())
    }

    /// What is on a shelf that needs nothing, made from just this and touched by nobody since, as far as it is
    /// looked at; `None` where that isn't so.
    pub fn up_to_date(&self, made: InputsDigest, look: PackageCheck) -> Result<Option<UpToDate>, StoreError> {
        let Some(shelf) = self.open()? else { return Ok(None) };
        let Ok(Some(text)) = shelf.read_text(STATE, state::MAX_SIZE) else { return Ok(None) };
        let Some(header) = StateHeader::read(&text).filter(|header| header.made == Some(made)) else {
            return Ok(None);
        };
        let noted = noted_names(header.folders.keys().chain(header.stamps.keys()));
        if !has_names(&shelf, &noted)? || !has_links(&shelf, &header.stamps)? {
            return Ok(None);
        }
        let files = (look == PackageCheck::Files).then(|| files_of(&text));
        let is_untouched = |(place, folders): (&String, &BTreeMap<String, Stamp>)| {
            // Where none are noted, nothing is known of them.
            let files = files.as_ref().map(|files| files.get(place.as_str()).copied().unwrap_or_default());
            is_untouched(&shelf, place, folders, files)
        };
        let all =
            header.folders.par_iter().map(is_untouched).try_reduce(|| true, |one, other| Ok(one && other))?;
        let up_to_date = UpToDate {
            packages: header.folders.len(),
            has_stand_ins: header.has_stand_ins,
            has_rules: header.has_rules,
        };
        Ok(all.then_some(up_to_date))
    }

    /// Everything on the shelf beside what the shelf itself is kept with: in the folders of targets, of the lock or of what is
    /// installed, what is in them, and what else there is.
    pub fn contents(&self, lock: &Lock, state: &State, look: PackageCheck) -> Result<Contents, StoreError> {
        let Some(shelf) = self.open()? else { return Ok(Contents::new()) };
        let found = |place: String| {
            let found = found(&shelf, state, &place, look)?;
            Ok((place, found))
        };
        self.places(&shelf, lock, state)?.into_par_iter().map(found).collect()
    }

    /// The places of all that is on a shelf beside what it is kept with itself.
    fn places(&self, shelf: &Folder, lock: &Lock, state: &State) -> Result<Vec<String>, StoreError> {
        let mut places = Vec::new();
        let mut targets: BTreeSet<&str> = lock.targets().into_iter().chain(state.folders()).collect();
        targets.retain(|name| !state.has_made(name));
        for name in shelf.names()?.into_iter().filter(|name| !is_own(name)) {
            if !targets.contains(name.as_str()) {
                places.push(name);
                continue;
            }
            let Some(folder) = shelf.folder(&name)? else { continue };
            places.extend(folder.names()?.into_iter().map(|inner| format!("{name}/{inner}")));
        }
        Ok(places)
    }

    /// Carries out the part of a plan that changes the shelf: takes away, builds, replaces, says where everything is.
    ///
    /// The state says first that nothing is known of what is going to change, and last what is there now.
    pub fn carry_out(
        &self,
        plan: &Plan<'_>,
        linker: &Linker<'_>,
        files: &LinkFiles,
        made: InputsDigest,
        listener: &dyn ProgressListener,
    ) -> Result<(), StoreError> {
        let shelf = Folder::make(&self.root)?;
        let links = links::foreign(&shelf, files, &plan.kept)?;
        let mut inside = BTreeMap::new();
        if !plan.is_nothing() || !links.new.is_empty() {
            write_state(&shelf, &plan.begun(links.new))?;
        }
        if !plan.is_nothing() {
            let work = empty_work(&shelf)?;
            take_away_all(&shelf, &work, &plan.remove)?;
            inside = build(&shelf, plan, linker, &work, listener)?;
            if linker.has_copied() {
                // Second names of the store's files are as durable as the state that is synced after them; new files aren't.
                shelf.sync_disk()?;
            }
            shelf.remove(WORK)?;
        }
        let stamps = links::write(&shelf, files)?;
        write_state(&shelf, &plan.reached(made, stamps, inside))
    }
}

/// The folder of the shelf that a place is in, empty for the shelf itself, and its name there.
fn parts(place: &str) -> (&str, &str) {
    place.split_once('/').unwrap_or(("", place))
}

/// The names in a shelf and in its folders, by folder; the shelf itself has none.
fn noted_names<'p>(places: impl Iterator<Item = &'p String>) -> BTreeMap<&'p str, BTreeSet<&'p str>> {
    let mut names: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for place in places {
        let mut path = place.as_str();
        while let Some((folder, name)) = path.rsplit_once('/') {
            if !names.entry(folder).or_default().insert(name) {
                break;
            }
            path = folder;
        }
        names.entry("").or_default().insert(path.split('/').next().unwrap_or(path));
    }
    names
}

/// Whether a shelf and its folders hold as many names as were noted, so that nothing was added.
fn has_names(shelf: &Folder, noted: &BTreeMap<&str, BTreeSet<&str>>) -> Result<bool, StoreError> {
    let on_top = noted.get("").into_iter().flatten().filter(|name| !is_own(name)).count();
    if shelf.names()?.iter().filter(|name| !is_own(name)).count() != on_top {
        return Ok(false);
    }
    for (folder, wanted) in noted.iter().filter(|(folder, _)| !folder.is_empty()) {
        let names = shelf.folders(folder)?.map(|folder| folder.names()).transpose()?;
        if names.is_none_or(|names| names.len() != wanted.len()) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Whether files of links are as they were noted.
fn has_links(shelf: &Folder, stamps: &BTreeMap<String, Stamp>) -> Result<bool, StoreError> {
    for (place, stamp) in stamps {
        if !is_as_stamped(shelf, place, Kind::File, *stamp)? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What is at a place, against what the state says of it.
fn found(shelf: &Folder, state: &State, place: &str, look: PackageCheck) -> Result<Found, StoreError> {
    let is_folder = shelf.entry_inside(place)?.is_some_and(|entry| entry.kind == Kind::Folder);
    let Some(PackageContents { folders, files }) = state.inside.get(place).filter(|_| is_folder) else {
        return Ok(if is_folder { Found::Changed } else { Found::NoFolder });
    };
    let files = (look == PackageCheck::Files).then_some(files.as_str());
    let is_as_noted = is_untouched(shelf, place, folders, files)?;
    Ok(if is_as_noted { Found::AsNoted } else { Found::Changed })
}

/// Whether a package has these folders and, if they are to be looked at, files.
fn is_untouched(
    shelf: &Folder,
    place: &str,
    folders: &BTreeMap<String, Stamp>,
    files: Option<&str>,
) -> Result<bool, StoreError> {
    Ok(has_folders(shelf, place, folders)?
        && files.map_or(Ok(true), |files| has_files(shelf, place, files))?)
}

/// Refuses a folder that holds something and was never made by us.
fn refuse_foreign(shelf: &Folder) -> Result<(), StoreError> {
    if State::is_in(shelf) || shelf.names()?.iter().all(|name| is_own(name)) {
        return Ok(());
    }
    Err(Foreign::NotOurs.at("use", shelf.path()).into())
}

/// Notes what is installed, for good.
fn write_state(shelf: &Folder, state: &State) -> Result<(), StoreError> {
    Ok(shelf.write_whole(STATE, state.to_string().as_bytes())?)
}

/// An empty folder for packages being built or taken away. What a killed process left half-written goes, too.
fn empty_work(shelf: &Folder) -> Result<Folder, StoreError> {
    for name in shelf.names()?.iter().filter(|name| name.starts_with(TEMPORARY)) {
        shelf.remove(name)?;
    }
    // A link in its place is refused by making the folder, and so is looked for before anything is removed.
    shelf.make_folder(WORK)?;
    shelf.remove(WORK)?;
    Ok(shelf.make_folder(WORK)?)
}

/// Moves what is at these places to `work`, and the folders of targets that are empty then.
fn take_away_all(shelf: &Folder, work: &Folder, places: &[String]) -> Result<(), StoreError> {
    for place in places {
        let (folder, name) = parts(place);
        if let Some(from) = shelf.folders(folder)? {
            from.rename(name, work, &format!("{}.old", flat(place)))?;
        }
    }
    let folders: BTreeSet<&str> = places.iter().map(|place| parts(place).0).collect();
    for folder in folders.into_iter().filter(|folder| !folder.is_empty()) {
        shelf.remove_if_empty(folder);
    }
    Ok(())
}

/// Builds all that a plan says in `work` and puts it in its place, what was there before going to `work`; what is inside each.
fn build(
    shelf: &Folder,
    plan: &Plan<'_>,
    linker: &Linker<'_>,
    work: &Folder,
    listener: &dyn ProgressListener,
) -> Result<BTreeMap<String, PackageContents>, StoreError> {
    listener.on_event(&ProgressEvent::Shelving { packages: plan.build.len() });
    let now = now_on(work)?;
    let mut folders: BTreeMap<&str, Folder> = BTreeMap::new();
    for slot in &plan.build {
        let target = slot.target.unwrap_or_default();
        if !folders.contains_key(target) {
            folders.insert(target, shelf.make_folders(target)?);
        }
    }
    let build = |slot: &Slot<'_>| {
        let (place, name) = (slot.path(), slot.package.name.folder());
        let folder = &folders[slot.target.unwrap_or_default()];
        let time = plan.renewed.contains(&place).then_some(now);
        let built = linker.build(slot, work, &flat(&place), time)?;
        built.elsewhere.iter().for_each(|event| listener.on_event(event));
        folder.rename(&name, work, &format!("{}.old", flat(&place)))?;
        work.rename(&flat(&place), folder, &name)?;
        listener.on_event(&ProgressEvent::Shelved { package: slot.package.name.clone() });
        let inside = PackageContents::of_built(folder, &name, &built)?;
        Ok((place, inside))
    };
    plan.build.par_iter().map(build).collect()
}

/// The time that a file gets which is written here now, as its disk has it.
fn now_on(work: &Folder) -> Result<Stamp, StoreError> {
    const CLOCK: &str = "clock";
    let clock = work.create_file(CLOCK).at("write in", work.path())?;
    let now = Stamp::of(&clock.metadata().at("look at", work.path())?);
    work.remove(CLOCK)?;
    Ok(now)
}

/// Whether a name on top of a shelf is of what the shelf itself is kept with.
fn is_own(name: &str) -> bool {
    matches!(name, IGNORE | LOCK | STATE | TOLD | WORK | links::LINKS) || name.starts_with(TEMPORARY)
}

/// A place on the shelf as one name: no target and no package has a `+` in its own.
fn flat(place: &str) -> String {
    place.replace('/', "+")
}
