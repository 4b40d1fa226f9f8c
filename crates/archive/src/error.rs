//! What can be wrong with an archive, and why a folder can't be packed.

#![allow(missing_docs, reason = "each variant's message says what its fields are")]

use std::collections::BTreeSet;
use std::fmt;

use bibliotax_core::card::ArchiveFormat;
use bibliotax_core::digest::Digest;
use bibliotax_core::file_selection::FilePattern;
use bibliotax_core::inner_path::PathProblem;
use bibliotax_disk::DiskError;
use serde::{Deserialize, Serialize};

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
    /// It is something else than an archive.
    #[error("it is {found}")]
    NoArchive { found: String },
    /// Some of its entries can't be part of a package.
    #[error("{0}")]
    Refused(RefusedEntries),
    /// The folder that the package is to be is not in it.
    #[error("it has no files in the folder `{folder}`")]
    NothingThere { folder: String },
    /// The patterns take none of its files.
    #[error("`include` and `exclude` leave none of its files")]
    NothingTaken,
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

/// Why an entry can't be part of a package.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EntryProblem {
    /// Its path is not possible.
    #[error("{0}")]
    Path(#[from] PathProblem),
    /// Its name is no text.
    #[error("its name isn't UTF-8")]
    NoText,
    /// It can't stand beside another one.
    #[error("it clashes with `{other}`")]
    Clash { other: String },
    /// It is a link that leads out, in a circle, or nowhere.
    #[error("it is a link, and `{target}` isn't a file of the package")]
    Link { target: String },
    /// It is a link to a folder, or to one that it is in, and would be copied.
    #[error("it is a link to the folder `{target}`, which {why}")]
    FolderLink { target: String, why: &'static str },
    /// It is a device, pipe or something else that is neither file nor folder.
    #[error("it is neither file, folder nor link")]
    Special,
    /// It would run with the rights of its owner.
    #[error("it would run with the rights of another user")]
    SetUser,
    /// Not every system can have it.
    #[error("{0}")]
    Elsewhere(String),
    /// It is a file with holes, whose map has no bound.
    #[error("it is a sparse file; pack it without holes")]
    Sparse,
}

/// An entry that can't be part of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefusedEntry {
    /// Its path as the archive has it, below the package's folder.
    pub path: String,
    /// Why.
    pub problem: EntryProblem,
}

/// The entries of an archive that can't be part of a package.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct RefusedEntries {
    /// The first of them, in the archive's order.
    pub entries: Vec<RefusedEntry>,
    /// How many more there are.
    pub more: usize,
}

/// A name that is possible on this system and not on every other one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameElsewhere {
    /// The path inside the package.
    pub path: String,
    /// Why other systems can't have it, as a sentence goes on: "a part of it is a device on some systems".
    pub why: String,
}

/// Most refused entries that are remembered.
const MAX_REFUSED: usize = 200;

/// Most patterns that are proposed one by one.
const MAX_PATTERNS: usize = 12;

impl RefusedEntries {
    /// Those that this system can have and others can't.
    pub fn elsewhere(names: &[NameElsewhere]) -> Self {
        let refused = |name: &NameElsewhere| RefusedEntry {
            path: name.path.clone(),
            problem: EntryProblem::Elsewhere(name.why.clone()),
        };
        Self { entries: names.iter().map(refused).collect(), more: 0 }
    }

    /// Adds one.
    pub fn add(&mut self, path: String, problem: EntryProblem) {
        if self.entries.len() < MAX_REFUSED {
            self.entries.push(RefusedEntry { path, problem });
        } else {
            self.more += 1;
        }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.entries.len() + self.more
    }

    /// Whether some of them have a name that no text can name.
    fn have_no_text(&self) -> bool {
        self.entries.iter().any(|entry| entry.path.contains('\u{fffd}'))
    }

    /// Patterns that leave them out: their paths, or where these are many, the folders that they are in.
    pub fn patterns(&self) -> Vec<String> {
        let paths: BTreeSet<String> = self.entries.iter().map(|entry| self.pattern(&entry.path)).collect();
        if paths.len() <= MAX_PATTERNS && self.more == 0 {
            return paths.into_iter().collect();
        }
        let folder = |path: &String| {
            path.rsplit_once('/').map_or_else(|| path.clone(), |(folder, _)| format!("{folder}/**"))
        };
        paths.iter().map(folder).collect::<BTreeSet<_>>().into_iter().collect()
    }

    fn pattern(&self, path: &str) -> String {
        let plain = path.split('/').filter(|part| !part.is_empty() && *part != ".");
        let pattern = FilePattern::of_path(&plain.collect::<Vec<_>>().join("/"));
        if self.have_no_text() { pattern.replace('\u{fffd}', "*") } else { pattern }
    }
}

impl fmt::Display for RefusedEntries {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Some(RefusedEntry { path, problem }) = self.entries.first() else { return Ok(()) };
        match self.count() {
            1 => write!(f, "its entry `{path}` is refused: {problem}"),
            count => write!(f, "{count} of its entries are refused, the first is `{path}`: {problem}"),
        }
    }
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
