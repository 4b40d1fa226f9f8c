//! Errors of archives, store and shelf.

#![allow(missing_docs, reason = "each variant's message says what its fields are")]

use std::io;
use std::path::PathBuf;

use bibliotax_archive::error::ArchiveError;
use bibliotax_core::digest::Digest;
use bibliotax_core::fault::Fault;
use bibliotax_core::links::Unrenderable;
use bibliotax_core::lock::NotForMachine;
use bibliotax_core::manifest::LinkWay;
use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;

/// Why an archive can't be unpacked, or a shelf not be made or checked.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// An archive of a package can't be used.
    #[error("the archive of {package} can't be used")]
    Archive { package: PackageName, source: ArchiveError },
    /// Another process took a tree out of the store while this one was using it.
    #[error("the store lost {package} while it was being used")]
    Lost { package: PackageName },
    /// A file of a tree in the store is not what was unpacked.
    #[error("the store's copy of {package} is damaged")]
    Damaged { package: PackageName, archive: Digest },
    /// The way in which files are to get onto the shelf is not possible there.
    #[error("{} can't be installed as `{way}`", path.display())]
    NoSuchWay { way: LinkWay, path: PathBuf, source: io::Error },
    /// A template of links can't be rendered.
    #[error("{name} can't be rendered")]
    Template { name: String, text: String, fault: Box<Fault> },
    /// Links can't be written for a build tool.
    #[error(transparent)]
    Unrenderable(#[from] Unrenderable),
    /// A package has nothing for this machine, and the project declares no targets that it could be for.
    #[error("{} has no `{}` for this machine", .0.package, .0.part)]
    NotForMachine(NotForMachine),
    /// Something on the shelf wasn't made by us.
    #[error("{place} is in the way, and bibliotax didn't create it")]
    Foreign { place: String },
    /// Two archives of a package hold the same path.
    #[error("two parts of {package} both have a file {path}")]
    TwoParts { package: PackageName, path: String },
    /// The store was made by a newer version.
    #[error("the store in {} was made by a newer version of bibliotax", path.display())]
    Newer { path: PathBuf },
    /// A kit can't be opened.
    #[error(transparent)]
    Kit(#[from] KitError),
    /// A disk refused.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// Why a file is no kit that can be opened.
#[derive(Debug, thiserror::Error)]
pub enum KitError {
    /// It is something else.
    #[error("the file isn't a kit")]
    NoKit,
    /// A newer version made it.
    #[error("the kit has format {format}, which a newer version of bibliotax made")]
    Newer { format: u64 },
    /// Something of it is missing.
    #[error("the kit is incomplete: some packages are missing")]
    CutShort,
    /// Its lock can't be used.
    #[error("the lock in the kit can't be used: {why}")]
    BadLock { why: String },
    /// It holds what doesn't belong to its lock.
    #[error("the kit contains `{entry}`, which doesn't belong to its lock")]
    Strange { entry: String },
    /// A card in it is another.
    #[error("a card in the kit doesn't match its digest {digest}")]
    WrongCard { digest: Digest },
    /// Its texts are larger than any kit's.
    #[error("the kit's lock and cards are too large")]
    TooMuch,
}
