//! What can be wrong with an archive, and why a folder can't be packed.

#![allow(missing_docs, reason = "each variant's message says what its fields are")]

use bibliotax_core::card::ArchiveFormat;
use bibliotax_core::digest::Digest;
use bibliotax_core::inner_path::PathProblem;
use bibliotax_disk::DiskError;

/// What is wrong with an archive.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// Its bytes are not those that the lock names.
    #[error("its digest is {found}, but the lock has {expected}")]
    WrongDigest { expected: Digest, found: Digest },
    /// It is longer or shorter than the lock says.
    #[error("it has {found} bytes, but the lock has {expected}")]
    WrongSize { expected: u64, found: u64 },
    /// It ended before it was there, because the sender stopped.
    #[error("it is incomplete: {what}")]
    BrokeOff { what: String },
    /// It is no archive of its format.
    #[error("it can't be read as {format}: {message}")]
    Unreadable { format: ArchiveFormat, message: String },
    /// A path in it is not possible.
    #[error("its entry `{entry}` is refused: {problem}")]
    BadPath { entry: String, problem: PathProblem },
    /// A name in it is no text.
    #[error("its entry `{entry}` is refused: its name isn't UTF-8")]
    NoText { entry: String },
    /// Two entries that can't stand side by side.
    #[error("its entry `{entry}` is refused: it clashes with `{other}`")]
    Clash { entry: String, other: String },
    /// A link that leads out, to a folder, or nowhere.
    #[error("its link `{entry}` is refused: `{target}` isn't a file of the package")]
    BadLink { entry: String, target: String },
    /// A device, pipe or something else that is neither file nor folder.
    #[error("its entry `{entry}` is refused: it is neither file, folder nor link")]
    Special { entry: String },
    /// A file that would run with the rights of its owner.
    #[error("its entry `{entry}` is refused: it would run with the rights of another user")]
    SetUser { entry: String },
    /// The folder that the package is to be is not in it.
    #[error("it has no files in the folder `{folder}`")]
    NothingThere { folder: String },
    /// A file with holes, whose map has no bound.
    #[error("its entry `{entry}` is refused: it is a sparse file; pack it without holes")]
    Sparse { entry: String },
    /// Two headers that differ in how long an entry is.
    #[error("its entry `{entry}` is refused: two headers give it different sizes")]
    TwoSizes { entry: String },
    /// More than a package can reasonably hold.
    #[error("it is refused at `{entry}`: it contains over {limit}")]
    TooMuch { entry: String, limit: String },
    /// A disk refused.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// Most characters of a name that are shown.
const MAX_SHOWN: usize = 200;

/// An entry's name as a message shows it.
pub fn shown(name: &[u8]) -> String {
    // Four bytes are the most that a character takes.
    let text = String::from_utf8_lossy(&name[..name.len().min(4 * MAX_SHOWN)]).into_owned();
    match text.char_indices().nth(MAX_SHOWN) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}

impl ArchiveError {
    /// Whether not all bytes came.
    pub fn broke_off(&self) -> bool {
        matches!(self, Self::BrokeOff { .. })
    }

    /// Whether its bytes are not the expected ones or didn't all come, so that another copy may be right.
    pub fn is_about_bytes(&self) -> bool {
        matches!(self, Self::WrongDigest { .. } | Self::WrongSize { .. } | Self::BrokeOff { .. })
    }
}

/// Why a folder can't become an archive.
#[derive(Debug, thiserror::Error)]
pub enum PackError {
    /// A file can't be part of a package.
    #[error("`{file}` can't be part of a package: {problem}")]
    Unpackable { file: String, problem: PathProblem },
    /// A link can't be part of a package.
    #[error("`{file}` is a link or a special file, but a package has only files and folders")]
    Link { file: String },
    /// Two files that some systems can't keep apart.
    #[error(
        "`{file}` and `{other}` differ only in case or in how letters are composed, which some systems can't tell apart"
    )]
    Clash { file: String, other: String },
    /// A pattern of `[card] files` can't be read.
    #[error("`{pattern}` isn't a valid pattern")]
    BadPattern { pattern: String },
    /// A disk refused.
    #[error(transparent)]
    Disk(#[from] DiskError),
}
