//! From a lock to the shelf.
//!
//! What the store lacks is fetched and unpacked first; only when all of it is there is the shelf touched. A
//! kill, a full disk or a power cut at any moment leaves a shelf that the next run completes.

use std::collections::BTreeSet;
use std::error::Error;
use std::io::Read;
use std::sync::atomic::{AtomicBool, Ordering};

use bibliotax_core::card::Archive;
use bibliotax_core::links::Links;
use bibliotax_core::lock::{Lock, LockedPackage, Slot};
use bibliotax_core::name::PackageName;
use bibliotax_core::notice::{Listener, Notice};
use bibliotax_core::version::Version;
use rayon::prelude::*;

use crate::error::StoreError;
use crate::shelf::{Linker, NAME, Plan, Scope, Shelf};
use crate::store::{Incoming, Store};

/// Gives the archives that the store lacks.
pub trait Supplier: Sync {
    /// Why an archive could not be had.
    type Error: Error + Send;

    /// Opens an archive of a package.
    fn open(&self, package: &LockedPackage, archive: &Archive) -> Result<Box<dyn Read + Send>, Self::Error>;

    /// Whether asking for others is in vain once this went wrong.
    fn is_in_vain_after(&self, error: &Self::Error) -> bool;
}

/// An archive that the store lacks and that could not be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lacking {
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
    Supply(E, Vec<Lacking>),
}

impl<E> From<StoreError> for InstallError<E> {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
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

/// What an install did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Installed {
    /// Packages put on the shelf, anew or in another release.
    pub built: usize,
    /// Things taken off it.
    pub removed: usize,
    /// Packages that were there.
    pub kept: usize,
    /// What the store lacked.
    pub fetched: Fetched,
}

/// Brings what is in scope of a shelf to exactly what a lock says; packages in `anew` are built whatever is there.
///
/// The caller holds the shelf.
pub fn install<S: Supplier>(
    lock: &Lock,
    scope: &Scope<'_>,
    shelf: &Shelf,
    store: &Store,
    supplier: &S,
    anew: &BTreeSet<PackageName>,
    listener: &dyn Listener,
) -> Result<Installed, InstallError<S::Error>> {
    let state = shelf.state();
    let plan =
        Plan::new(lock, scope, &state, &shelf.contents(lock)?, anew).map_err(StoreError::NotForMachine)?;
    let kept = plan.staying;
    if plan.is_nothing(&state) {
        return Ok(Installed { kept, ..Installed::default() });
    }
    let _held = store.in_use(|| listener.hear(&Notice::Waiting))?;
    let fetched = fetch_missing(&plan.build, store, supplier, listener)?;
    shelf.carry_out(&plan, &Linker::new(store), &links(lock, scope, &plan)?, listener)?;
    shelf.project().map_or(Ok(()), |project| store.note_project(project))?;
    let (built, removed) = (plan.build.len(), plan.remove.len());
    Ok(Installed { built, removed, kept, fetched })
}

/// The links of all that will be on the shelf, in scope or not.
fn links(lock: &Lock, scope: &Scope<'_>, plan: &Plan<'_>) -> Result<Vec<Links>, StoreError> {
    let mut slots = lock.slots(&[], scope.machine).map_err(StoreError::NotForMachine)?;
    slots.retain(|slot| plan.reached.packages.contains_key(&slot.path()));
    Ok(Links::of(lock, &slots, NAME))
}

/// Fetches the archives of these places that the store lacks, without touching any shelf.
pub fn fetch_all<S: Supplier>(
    slots: &[Slot<'_>],
    store: &Store,
    supplier: &S,
    listener: &dyn Listener,
) -> Result<Fetched, InstallError<S::Error>> {
    let _held = store.in_use(|| listener.hear(&Notice::Waiting))?;
    fetch_missing(slots, store, supplier, listener)
}

fn fetch_missing<S: Supplier>(
    slots: &[Slot<'_>],
    store: &Store,
    supplier: &S,
    listener: &dyn Listener,
) -> Result<Fetched, InstallError<S::Error>> {
    let wanted = slots.iter().flat_map(|slot| slot.files.iter().map(|file| (slot.package, file.archive())));
    let missing = only_missing(wanted.collect(), store)?;
    fetch(&missing, store, supplier, listener)?;
    Ok(Fetched { archives: missing.len(), bytes: missing.iter().map(|(_, file)| file.size).sum() })
}

type Wanted<'l> = (&'l LockedPackage, Archive);

/// Those that the store lacks, the largest first so that none is waited for alone at the end.
fn only_missing<'l>(wanted: Vec<Wanted<'l>>, store: &Store) -> Result<Vec<Wanted<'l>>, StoreError> {
    let mut missing = Vec::new();
    for (package, file) in wanted {
        if store.has(&file.sha256) {
            if store.listing(&file.sha256)?.is_some() {
                continue;
            }
            // It came with its listing in one step, so it is damaged. What isn't there must not be discarded:
            // another process may be putting it there right now.
            store.discard(&file.sha256)?;
        }
        missing.push((package, file));
    }
    missing.sort_by_key(|(package, file)| (std::cmp::Reverse(file.size), package.name.clone()));
    missing.dedup_by_key(|(_, file)| file.sha256);
    Ok(missing)
}

fn fetch<S: Supplier>(
    missing: &[Wanted<'_>],
    store: &Store,
    supplier: &S,
    listener: &dyn Listener,
) -> Result<(), InstallError<S::Error>> {
    let bytes = missing.iter().map(|(_, file)| file.size).sum();
    listener.hear(&Notice::Unpacking { archives: missing.len(), bytes });
    let in_vain = AtomicBool::new(false);
    let receive = |(package, file): &Wanted<'_>| {
        if in_vain.load(Ordering::Relaxed) {
            return Err(Missed::NotAsked);
        }
        let archive = supplier.open(package, file).map_err(|error| {
            in_vain.fetch_or(supplier.is_in_vain_after(&error), Ordering::Relaxed);
            Missed::Supply(error)
        })?;
        let received = store.receive(archive, file);
        let received = received
            .map_err(|source| Missed::Store(StoreError::Archive { package: package.name.clone(), source }))?;
        listener.hear(&Notice::Unpacked { package: package.name.clone(), bytes: file.size });
        Ok::<Incoming, Missed<S::Error>>(received)
    };
    let received: Vec<Result<Incoming, _>> = missing.par_iter().map(receive).collect();
    keep_received(missing, received, store)
}

/// Why an archive is not here.
enum Missed<E> {
    /// It could not be had.
    Supply(E),
    /// Another one could not be had, so this one was not asked for.
    NotAsked,
    /// It came, and can't be used.
    Store(StoreError),
}

/// Keeps what did come, even where something else failed: the next run needs it no more.
fn keep_received<E>(
    missing: &[Wanted<'_>],
    received: Vec<Result<Incoming, Missed<E>>>,
    store: &Store,
) -> Result<(), InstallError<E>> {
    let (mut incoming, mut lacking) = (Vec::new(), Vec::new());
    let (mut unusable, mut not_had) = (None, None);
    for ((package, file), result) in missing.iter().zip(received) {
        let missed = match result {
            Ok(tree) => {
                incoming.push(tree);
                continue;
            }
            Err(missed) => missed,
        };
        let (package, version) = (package.name.clone(), package.version.clone());
        lacking.push(Lacking { package, version, size: file.size });
        match missed {
            Missed::Supply(error) => not_had = not_had.or(Some(error)),
            Missed::Store(error) => unusable = unusable.or(Some(error)),
            Missed::NotAsked => {}
        }
    }
    store.keep(incoming)?;
    match (unusable, not_had) {
        (Some(error), _) => Err(error.into()),
        (None, Some(error)) => Err(InstallError::Supply(error, lacking)),
        (None, None) => Ok(()),
    }
}
