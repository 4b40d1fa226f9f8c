//! What of a charter a workspace uses.

use super::{Lock, LockedPackage};
use crate::charter::LockedCharter;
use crate::range::Range;

/// What of a charter a workspace uses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CharterUse<'c> {
    /// The locked packages that it has a range for, each with that.
    pub binds: Vec<(&'c LockedPackage, &'c Range)>,
    /// The packages and families that it has a range for, and the capabilities that it chooses a provider for, of which nothing is
    /// locked.
    pub unused: Vec<&'c str>,
}

impl<'c> CharterUse<'c> {
    /// What a lock has of a charter.
    pub fn of(lock: &'c Lock, charter: &'c LockedCharter) -> Self {
        let range = |package: &'c LockedPackage| Some((package, charter.charter.range_of(&package.name)?));
        let is_used = |name: &&str| {
            lock.packages.iter().any(|package| {
                let is_provided = package.provides.iter().any(|provided| provided.as_str() == *name);
                package.name.as_str() == *name || package.name.scope() == Some(*name) || is_provided
            })
        };
        let unused = charter.charter.names().filter(|name| !is_used(name));
        Self { binds: lock.packages.iter().filter_map(range).collect(), unused: unused.collect() }
    }
}
