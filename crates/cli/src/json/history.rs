//! What `history` prints.

use bibliotax_app::history::{CommitChanges, PackageChange, Report};
use bibliotax_core::compare::{Aspect, Kind};
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `history` prints.
#[derive(Serialize, JsonSchema)]
pub struct History {
    /// The commits that changed packages of the lock, the newest first.
    pub commits: Vec<HistoryCommit>,
    /// Whether there are older ones.
    pub more: bool,
}

impl Document for History {
    const COMMAND: &'static str = "history";
}

/// A commit that changed the lock.
#[derive(Serialize, JsonSchema)]
pub struct HistoryCommit {
    /// Its name.
    pub commit: String,
    /// When it was made.
    pub at: Timestamp,
    /// Who made it.
    pub author: String,
    /// The first line of its message.
    pub subject: String,
    /// The packages that it changed.
    pub changes: Vec<HistoryChange>,
}

/// What a commit did to a package.
#[derive(Serialize, JsonSchema)]
pub struct HistoryChange {
    /// The package.
    pub name: PackageName,
    /// What became of it.
    pub kind: Kind,
    /// Its version before; null if it was not there.
    pub old: Option<Version>,
    /// Its version after; null if it is gone.
    pub new: Option<Version>,
    /// What else differs.
    pub aspects: Vec<Aspect>,
    /// Whether it is a charter.
    pub charter: bool,
}

impl History {
    /// The history of a lock.
    pub fn of(report: &Report) -> Self {
        Self { commits: report.commits.iter().map(HistoryCommit::from).collect(), more: report.has_more }
    }
}

impl From<&CommitChanges> for HistoryCommit {
    fn from(commit: &CommitChanges) -> Self {
        Self {
            commit: commit.commit.clone(),
            at: commit.at,
            author: commit.author.clone(),
            subject: commit.subject.clone(),
            changes: commit.changes.iter().map(HistoryChange::from).collect(),
        }
    }
}

impl From<&PackageChange> for HistoryChange {
    fn from(change: &PackageChange) -> Self {
        let PackageChange { name, kind, old, new, aspects, is_charter } = change.clone();
        Self { name, kind, old, new, aspects, charter: is_charter }
    }
}
