//! Events of long work; the interface implements [`ProgressListener`].

#![allow(missing_docs, reason = "each variant says what its fields are")]

use std::path::PathBuf;

use crate::name::PackageName;

/// Something that is worth showing while work goes on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ProgressEvent {
    /// Another process holds what is needed.
    Waiting,
    /// So many archives of so many bytes are going to be fetched and unpacked.
    Fetching { archives: usize, bytes: u64 },
    /// An archive of a package was requested.
    Asked { package: PackageName },
    /// So many more bytes of archives have come.
    Arrived { bytes: u64 },
    /// So many bytes are going to be uploaded.
    Uploading { bytes: u64 },
    /// So many more bytes were sent.
    Sent { bytes: u64 },
    /// An archive of a package was unpacked.
    Unpacked { package: PackageName, bytes: u64 },
    /// What somebody sent as an archive of a package is something else; others are asked.
    WrongBytes { package: PackageName, from: String },
    /// The store's copy of a package is damaged; it is going to be fetched again. The folders of other projects that have it on
    /// their shelves.
    Damaged { package: PackageName, shared_by: Vec<PathBuf> },
    /// What is at this place of the shelf was changed, or is gone; it is going to be built again.
    Touched { place: String },
    /// A package has files whose names are impossible on systems that it isn't needed on: how many, the first, and why.
    NamesElsewhere { package: PackageName, count: usize, first: String, why: String },
    /// So many packages are going to be put on the shelf.
    Shelving { packages: usize },
    /// A package was put on the shelf.
    Shelved { package: PackageName },
    /// So many packages are going to be read.
    Verifying { packages: usize },
    /// A package was read.
    Verified { package: PackageName },
    /// So many packages are going to be worked on.
    Counting { work: Work, packages: usize },
    /// One of them is done.
    Counted { package: PackageName },
    /// A file was written.
    Wrote { file: PathBuf },
}

/// What is done with many packages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Work {
    /// A registry is checked.
    Checking,
    /// A registry is copied.
    Copying,
    /// Upstreams of a catalogue are asked.
    Following,
}

/// Hears notices; from several threads at once.
pub trait ProgressListener: Sync {
    /// Takes a notice.
    fn on_event(&self, notice: &ProgressEvent);
}

/// Hears nothing.
pub struct NoProgress;

impl ProgressListener for NoProgress {
    fn on_event(&self, _: &ProgressEvent) {}
}
