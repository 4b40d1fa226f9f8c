//! `merge`: joins what two people changed in manifests and locks, as git's merge driver or after a conflict.

pub mod driver;
mod git;
mod resolved;
pub mod set_up;
mod sides;
mod unmerged;

use bibliotax_core::merge::Side;
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;

pub use self::unmerged::{Merged, Report, apply, merge};

/// A package that both sides moved, and what was taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settled {
    /// The package.
    pub name: PackageName,
    /// Our release.
    pub ours: Version,
    /// Theirs.
    pub theirs: Version,
    /// The side whose release was taken; nothing where neither could be.
    pub taken: Option<Side>,
    /// The release that was taken.
    pub version: Version,
}
