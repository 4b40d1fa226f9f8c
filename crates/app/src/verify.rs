//! `verify`: compares every file of the shelf with what was installed.

use std::collections::BTreeSet;
use std::time::Instant;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_store::verify::{Damaged, FileCheck, Finding, Verified};

use crate::change::Applied;
use crate::context::Context;
use crate::failure::Failure;
use crate::lock_check::LockCheck;
use crate::search_options::SearchOptions;
use crate::shelf::{ShelfOptions, ShelfPart, ShelfWork};
use crate::workspace::edits::Edits;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// What is verified, and how.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Whether every byte is read, also of files that nobody seems to have touched.
    pub is_full: bool,
    /// Only what these projects need; none for all.
    pub projects: ProjectWords,
    /// Only what these targets need; none for all.
    pub targets: Vec<String>,
    /// Whether the store's copies of the lock's packages are looked at, too.
    pub with_store: bool,
    /// Whether it is going to be repaired, so that what the store lacks is fetched first.
    pub repairs: bool,
}

/// What was found.
pub struct Report {
    /// What differs on the shelf.
    pub verified: Verified,
    /// The copies in the store that are damaged.
    pub damaged: Vec<Damaged>,
    workspace: WorkspaceFolder,
    options: ShelfOptions,
}

impl Report {
    /// Whether everything is as it was installed.
    pub fn is_well(&self) -> bool {
        self.verified.findings.is_empty() && self.damaged.is_empty()
    }

    /// The archives whose copies in the store are damaged.
    pub fn damaged_archives(&self) -> BTreeSet<Digest> {
        self.damaged.iter().map(|damaged| damaged.archive).collect()
    }

    /// Takes damaged copies out of the store, and builds the packages that differ again: those whose copy is damaged, too, from
    /// their archives.
    pub fn repair(&self, context: &Context<'_>) -> Result<Applied, Failure> {
        let begun = Instant::now();
        let findings = self.verified.findings.iter();
        let names: BTreeSet<PackageName> = findings.filter_map(|finding| finding.package.clone()).collect();
        let store = context.environment.open_store()?;
        self.damaged_archives().iter().try_for_each(|archive| store.discard(archive))?;
        let lock = self.workspace.needed_lock()?;
        let work = ShelfWork::new(&self.workspace, lock, &self.options, context);
        work.fetch()?;
        let installed = work.install(&Edits::default(), &names)?;
        Ok(Applied { installed, took: begun.elapsed(), open_steps: Vec::new(), build_files: Vec::new() })
    }
}

/// Compares the shelf with what was installed.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let workspace = WorkspaceFolder::hold(context.folder, context.listener)?;
    let targets = workspace.targets_named(&request.targets)?;
    let part = ShelfPart { projects: request.projects.names(&workspace)?, targets, ..ShelfPart::default() };
    let options = ShelfOptions { part, ..ShelfOptions::default() };
    let lock = workspace.needed_lock()?;
    if workspace.is_locked() {
        LockCheck::new(&workspace, context.environment, &SearchOptions::default()).check(lock)?;
    }
    let work = ShelfWork::new(&workspace, lock, &options, context);
    if request.repairs {
        work.fetch()?;
    }
    let depth = if request.is_full { FileCheck::Bytes } else { FileCheck::SizeAndTime };
    let verified = work.verify(depth)?;
    let (differing, alike) = by_findings(lock, &verified.findings);
    // What differs there may be the store's own file under another name, so that all of it is read.
    let mut damaged = work.damaged_in_store(&differing, FileCheck::Bytes)?;
    if request.with_store {
        damaged.extend(work.damaged_in_store(&alike, depth)?);
    }
    Ok(Report { verified, damaged, workspace, options })
}

/// The packages of a lock that differ on the shelf, and the others.
fn by_findings<'l>(lock: &'l Lock, findings: &[Finding]) -> (Vec<&'l LockedPackage>, Vec<&'l LockedPackage>) {
    let names: BTreeSet<&PackageName> =
        findings.iter().filter_map(|finding| finding.package.as_ref()).collect();
    lock.packages.iter().partition(|package| names.contains(&package.name))
}
