//! Merging what two people changed: locks by their packages, manifests by their keys.

mod array;
mod canonical;
mod comments;
mod lock;
mod manifest;
mod table;

pub use self::lock::{BothMoved, LockSide, MergedLock, merge_locks};
pub use self::manifest::{MergedManifest, Versions, merge_lines, merge_manifests};

/// One of the two sides of a merge.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// What was here.
    Ours,
    /// What comes in.
    Theirs,
}

impl Side {
    /// The other one.
    pub fn other(self) -> Self {
        match self {
            Self::Ours => Self::Theirs,
            Self::Theirs => Self::Ours,
        }
    }
}

/// Of something that two sides have and that was before, what only one of them changed, or both alike; `None` where both changed it
/// differently.
pub fn changed<'t, T: PartialEq + ?Sized>(
    base: Option<&'t T>,
    ours: Option<&'t T>,
    theirs: Option<&'t T>,
) -> Option<Option<&'t T>> {
    if ours == theirs || base == theirs {
        Some(ours)
    } else if base == ours {
        Some(theirs)
    } else {
        None
    }
}
