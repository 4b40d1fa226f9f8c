//! Advisories: what is known to be wrong with releases, in the open OSV format (Open Source Vulnerability format, schema 1.7).
//!
//! An [`Advisory`] is a record, read by `osv`. It speaks of packages of ours by our own [`ECOSYSTEM`], and of upstream software by
//! package URL or repository: [`Key`]s are what both sides are looked up by. [`affecting`] says which releases of a package records
//! affect; records of one thing under several names count as one.

mod affected;
mod affecting;
mod key;
mod osv;
#[cfg(test)]
mod tests;

use std::collections::BTreeSet;

use jiff::Timestamp;

pub use self::affected::{Affected, CommitHistory, NoCommits};
pub use self::affecting::{Affecting, affecting};
pub use self::key::{Key, keys_of_release};
pub use self::osv::{Brief, MAX_RECORD_SIZE, read, read_brief};
pub use crate::severity::{Rating, Severity};

/// The ecosystem under which records name packages of ours.
pub const ECOSYSTEM: &str = "Bibliotax";

/// A record about something that is wrong with releases.
#[derive(Debug, Clone, PartialEq)]
pub struct Advisory {
    /// Its name.
    pub id: String,
    /// Other names of the same thing.
    pub aliases: BTreeSet<String>,
    /// What it is, in a line; its name where the record doesn't say.
    pub summary: String,
    /// How bad it is; `None` where nobody rated it.
    pub rating: Option<Rating>,
    /// When it was changed last.
    pub modified: Timestamp,
    /// Where there is more to read.
    pub url: Option<String>,
    /// What it affects.
    pub affected: Vec<Affected>,
}

impl Advisory {
    /// Whether a text is one of its names.
    pub fn is_called(&self, name: &str) -> bool {
        self.id == name || self.aliases.contains(name)
    }

    /// How bad it is; what nobody rated counts as medium.
    pub fn severity(&self) -> Severity {
        self.rating.as_ref().map_or(Severity::Medium, |rating| rating.severity)
    }
}
