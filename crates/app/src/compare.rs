//! `compare`: the difference of two locks, each from a file or from a revision of git.

mod files;
mod known;
mod locks;

use bibliotax_core::compare::{Change, CharterChange, compare, compare_charters};
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;

pub use self::files::{FileChange, PackageFiles, TextChange};
pub use self::known::{Known, KnownAdvisory};
pub use self::locks::lock_named;
use crate::context::Context;
use crate::failure::Failure;

/// What is compared where nothing is said.
pub const HEAD: &str = "HEAD";

/// What is compared, and what is shown of it.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The lock before: a file, a kit, a revision of git, or `nothing`.
    pub old: String,
    /// The lock after; the one that is there where this isn't said.
    pub new: Option<String>,
    /// Whether registries and feeds are asked for what a reviewer wants to know beside.
    pub asks: bool,
    /// Whether the files are compared, too.
    pub lists_files: bool,
    /// The packages whose texts are compared.
    pub texts_of: Vec<String>,
}

/// Two locks.
pub struct Report {
    /// The lock before.
    pub old: Lock,
    /// The lock after.
    pub new: Lock,
    /// What registries and feeds say of the difference, where they were asked.
    pub known: Option<Known>,
    /// The files that differ, where that was asked.
    pub files: Vec<PackageFiles>,
}

/// The projects that are on one side only.
pub struct ProjectChanges<'r> {
    /// Those that are new.
    pub added: Vec<&'r PackageName>,
    /// Those that are gone.
    pub gone: Vec<&'r PackageName>,
}

impl Report {
    /// The packages that differ.
    pub fn changes(&self) -> Vec<Change<'_>> {
        compare(Some(&self.old), &self.new)
    }

    /// The charters that differ.
    pub fn charters(&self) -> Vec<CharterChange<'_>> {
        compare_charters(Some(&self.old), &self.new)
    }

    /// The projects that are on one side only.
    pub fn projects(&self) -> ProjectChanges<'_> {
        ProjectChanges { added: beyond(&self.new, &self.old), gone: beyond(&self.old, &self.new) }
    }

    /// Whether only targets or purposes of packages differ.
    pub fn differs_in_reasons(&self) -> bool {
        self.old.packages != self.new.packages || self.old.projects != self.new.projects
    }

    /// The bytes of all archives, before and after.
    pub fn sizes(&self) -> (u64, u64) {
        let total = |lock: &Lock| lock.packages.iter().map(LockedPackage::size).sum();
        (total(&self.old), total(&self.new))
    }
}

impl ProjectChanges<'_> {
    /// Whether both sides have the same projects.
    pub fn is_empty(&self) -> bool {
        self.added.is_empty() && self.gone.is_empty()
    }
}

/// The projects that one lock has beyond another.
fn beyond<'r>(one: &'r Lock, other: &Lock) -> Vec<&'r PackageName> {
    let names = one.projects.iter().map(|project| &project.name);
    names.filter(|name| !other.projects.iter().any(|project| project.name == **name)).collect()
}

/// Compares the locks that two words mean; the one that is there, without a second word.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let [old, new] = locks::both(&request.old, request.new.as_deref(), context)?;
    let mut report = Report { old, new, known: None, files: Vec::new() };
    if request.asks {
        report.known = Some(known::known(&report.changes(), context));
    }
    if request.lists_files || !request.texts_of.is_empty() {
        report.files = files::changed_files(&report.old, &report.new, &request.texts_of, context)?;
    }
    Ok(report)
}
