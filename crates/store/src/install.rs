//! From a lock to the shelf: fetches what is missing and builds.
//!
//! What the store lacks is fetched and unpacked first; only when all of it is there is the shelf touched. A
//! kill, a full disk or a power cut at any moment leaves a shelf that the next run completes.

mod fetch;

use std::collections::BTreeSet;
use std::error::Error;
use std::io::Read;
use std::ops::AddAssign;
use std::path::Path;

use bibliotax_core::card::Archive;
use bibliotax_core::links::{Links, Root};
use bibliotax_core::lock::{LockedPackage, Scope, Slot};
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_core::version::Version;
use bibliotax_disk::DiskError;

use self::fetch::fetch;
use crate::error::StoreError;
use crate::shelf::{DesiredState, ExposedFiles, Linker, NAME, Plan, Shelf, link_files};
use crate::store::Store;

/// Gives the archives that the store lacks.
pub trait Supplier: Sync {
    /// Why an archive could not be had.
    type Error: Error + Send;

    /// How many places may have an archive of a package.
    fn places(&self, package: &LockedPackage, archive: &Archive) -> usize;

    /// Whether an archive of a package comes over a network, where it may break off, and can be read from any byte on.
    fn is_resumable(&self, package: &LockedPackage, archive: &Archive) -> bool;

    /// Opens an archive of a package from a byte on, at one of the places that may have it, numbered from 0 with the best first.
    fn open(
        &self,
        package: &LockedPackage,
        archive: &Archive,
        place: usize,
        from: u64,
    ) -> Result<OpenedArchive, Self::Error>;

    /// How many archives may be on their way at once; as many as usual without it.
    fn concurrency(&self) -> Option<usize> {
        None
    }

    /// Whether asking for others is in vain once this went wrong.
    fn is_hopeless_after(&self, error: &Self::Error) -> bool;
}

/// An archive whose bytes are yet to be checked.
pub struct OpenedArchive {
    /// The bytes.
    pub bytes: Box<dyn Read + Send>,
    /// Who sends them, where there are several who could.
    pub from: Option<String>,
}

/// An archive that the store lacks and that could not be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MissingArchive {
    /// Its package.
    pub package: PackageName,
    /// The version.
    pub version: Version,
    /// Its length in bytes.
    pub size: u64,
}

/// Why a lock could not be installed.
#[derive(Debug)]
pub enum InstallError<E> {
    /// Store, shelf or an archive.
    Store(StoreError),
    /// Archives could not be had: why, and which.
    Supply(E, Vec<MissingArchive>),
}

impl<E> From<StoreError> for InstallError<E> {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl<E> From<DiskError> for InstallError<E> {
    fn from(error: DiskError) -> Self {
        Self::Store(error.into())
    }
}

/// What was fetched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Fetched {
    /// How many archives.
    pub archives: usize,
    /// Their bytes.
    pub bytes: u64,
}

impl AddAssign for Fetched {
    fn add_assign(&mut self, more: Self) {
        self.archives += more.archives;
        self.bytes += more.bytes;
    }
}

/// What an install did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Installed {
    /// Packages put on the shelf, again or in another release.
    pub built: usize,
    /// Things taken off it.
    pub removed: usize,
    /// Packages among those built that somebody had changed on the shelf, or taken away.
    pub touched: usize,
    /// Packages that were there.
    pub kept: usize,
    /// What the store lacked.
    pub fetched: Fetched,
}

/// Brings what is in scope of a shelf to exactly what a lock says. What turns out to be damaged in the store is fetched again.
///
/// The caller holds the shelf.
pub fn install<S: Supplier>(
    aim: &DesiredState<'_, '_>,
    shelf: &Shelf,
    store: &Store,
    supplier: &S,
    listener: &dyn ProgressListener,
) -> Result<Installed, InstallError<S::Error>> {
    let state = shelf.state()?;
    let plan =
        Plan::new(aim, &state, &shelf.contents(aim.lock, &state, aim.look)?).map_err(StoreError::from)?;
    for place in &plan.touched {
        listener.on_event(&ProgressEvent::Touched { place: place.clone() });
    }
    let _held = if plan.build.is_empty() {
        None
    } else {
        store.in_use(|| listener.on_event(&ProgressEvent::Waiting))?
    };
    let mut fetched = fetch_missing(&plan.build, store, supplier, listener)?;
    // Only now the files of all packages are known, for patterns of what they expose.
    let files = link_files(
        aim.lock,
        &links(aim, &plan, shelf, store)?,
        &shelf.absolute_project()?,
        aim.links,
        aim.templates,
    )?;
    let linker = Linker::new(store, aim);
    let mut mended = BTreeSet::new();
    loop {
        match shelf.carry_out(&plan, &linker, &files, aim.made, listener) {
            Err(StoreError::Damaged { package, archive }) if mended.insert(archive) => {
                let shared_by = store.projects_with(&archive, shelf.project())?;
                listener.on_event(&ProgressEvent::Damaged { package, shared_by });
                store.discard(&archive)?;
                fetched += fetch_missing(&plan.build, store, supplier, listener)?;
            }
            done => break done?,
        }
    }
    if !plan.build.is_empty() {
        shelf.project().map_or(Ok(()), |project| store.note_project(project))?;
    }
    let (built, removed) = (plan.build.len(), plan.remove.len());
    Ok(Installed { built, removed, touched: plan.touched.len(), kept: plan.staying, fetched })
}

/// The links of all that will be on the shelf, in scope or not.
fn links(
    aim: &DesiredState<'_, '_>,
    plan: &Plan<'_>,
    shelf: &Shelf,
    store: &Store,
) -> Result<Vec<Links>, StoreError> {
    let mut slots = aim.lock.slots(&Scope::all(aim.scope.machine)).map_err(StoreError::NotForMachine)?;
    let places = plan.places();
    slots.retain(|slot| places.contains(&slot.path()));
    let absolute = if aim.settings.absolute { Some(shelf.absolute_project()?) } else { None };
    let files = ExposedFiles::new(store, shelf.project().unwrap_or(Path::new(".")), aim.parts);
    Ok(Links::of(aim.lock, &slots, &Root { shelf: NAME, absolute, settings: aim.links }, &files))
}

/// Fetches the archives of these places that the store lacks, without touching any shelf.
pub fn fetch_all<S: Supplier>(
    slots: &[Slot<'_>],
    store: &Store,
    supplier: &S,
    listener: &dyn ProgressListener,
) -> Result<Fetched, InstallError<S::Error>> {
    let _held = store.in_use(|| listener.on_event(&ProgressEvent::Waiting))?;
    fetch_missing(slots, store, supplier, listener)
}

fn fetch_missing<S: Supplier>(
    slots: &[Slot<'_>],
    store: &Store,
    supplier: &S,
    listener: &dyn ProgressListener,
) -> Result<Fetched, InstallError<S::Error>> {
    let wanted = slots.iter().flat_map(|slot| slot.files.iter().map(|file| (slot.package, file.archive())));
    let missing = only_missing(wanted.collect(), store);
    fetch(&missing, store, supplier, listener)?;
    Ok(Fetched { archives: missing.len(), bytes: missing.iter().map(|(_, file)| file.size).sum() })
}

type Wanted<'l> = (&'l LockedPackage, Archive);

/// Those that the store lacks, the largest first so that none is waited for alone at the end.
fn only_missing<'l>(wanted: Vec<Wanted<'l>>, store: &Store) -> Vec<Wanted<'l>> {
    let mut missing = wanted;
    missing.retain(|(_, file)| !store.has(&file.tree()));
    // Only neighbours are merged.
    missing.sort_by_key(|(package, file)| (file.tree(), package.name.clone()));
    missing.dedup_by_key(|(_, file)| file.tree());
    missing.sort_by_key(|(package, file)| (std::cmp::Reverse(file.size), package.name.clone()));
    missing
}
