//! A release that is being published, and the result.

use bibliotax_archive::select::{LeftOut, PackFile};
use bibliotax_core::card::{Card, FileRecord};

/// A release that is ready to go.
#[derive(Debug)]
pub struct Release {
    /// Its card; what it says of its files has no digests yet.
    pub card: Card,
    /// The contents of its archives, in the order of the card's files.
    pub parts: Vec<Vec<PackFile>>,
    /// What was selected and isn't packed, by its path in the project.
    pub left_out: Vec<LeftOut>,
}

/// What publishing did.
#[derive(Debug)]
pub struct Published {
    /// The archives.
    pub files: Vec<FileRecord>,
    /// Whether this very release was there already.
    pub already: bool,
}
