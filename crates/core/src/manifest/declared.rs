//! The source that a manifest declares for a package outside registries.

use serde::Serialize;

use super::StatedCard;
use crate::card::ArchiveFormat;
use crate::digest::Digest;
use crate::file_selection::FileSelection;
use crate::inner_path::InnerPath;
use crate::source::CommitId;

/// A source as a manifest declares it; places are as written, seen from the manifest.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum DeclaredSource {
    /// The project in a folder.
    Folder(String),
    /// A git repository.
    Git(Box<DeclaredGit>),
    /// An archive.
    Archive(Box<DeclaredArchive>),
}

/// A git repository as a manifest declares it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct DeclaredGit {
    /// Where the repository is: a URL or a folder.
    pub url: String,
    /// Which of its commits.
    pub at: GitPoint,
    /// The folder of it that is the package.
    pub subfolder: Option<InnerPath>,
    /// Which of its files are taken.
    #[serde(skip_serializing_if = "FileSelection::is_all")]
    pub selection: FileSelection,
    /// What the need says of the package.
    pub card: Option<StatedCard>,
    /// Whether it may be asked over a network without encryption.
    pub allows_plain: bool,
}

/// What is taken of a git repository.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum GitPoint {
    /// What a tag names.
    Tag(String),
    /// The newest commit of a branch.
    Branch(String),
    /// A commit.
    Commit(CommitId),
    /// Releases, one for each tag that names a version, by a pattern; see [`crate::tags`].
    Releases(String),
}

impl GitPoint {
    /// The tags that name releases where nothing else is said.
    pub const RELEASE_TAGS: &'static str = crate::tags::TagPattern::USUAL;
}

/// An archive as a manifest declares it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct DeclaredArchive {
    /// Where it is: a URL or a file.
    pub url: String,
    /// Its digest.
    pub sha256: Digest,
    /// The folder inside it that is the package.
    pub strip: Option<InnerPath>,
    /// How it is packed, where that is said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<ArchiveFormat>,
    /// Which of its files are taken.
    #[serde(skip_serializing_if = "FileSelection::is_all")]
    pub selection: FileSelection,
    /// What the need says of the package.
    pub card: Option<StatedCard>,
    /// Whether it may be asked for over a network without encryption.
    pub allows_plain: bool,
}

impl DeclaredSource {
    /// The folder, where it is one.
    pub fn folder(&self) -> Option<&str> {
        if let Self::Folder(path) = self { Some(path) } else { None }
    }

    /// The same source, its places told by `place`.
    #[must_use]
    pub fn seen(&self, place: impl Fn(&str) -> String) -> Self {
        match self {
            Self::Folder(path) => Self::Folder(place(path)),
            Self::Git(git) => Self::Git(Box::new(DeclaredGit { url: place(&git.url), ..(**git).clone() })),
            Self::Archive(archive) => {
                Self::Archive(Box::new(DeclaredArchive { url: place(&archive.url), ..(**archive).clone() }))
            }
        }
    }

    /// The same source with this card, unless it has one.
    #[must_use]
    pub fn described_by(mut self, stated: Option<&StatedCard>) -> Self {
        let card = match &mut self {
            Self::Folder(_) => return self,
            Self::Git(git) => &mut git.card,
            Self::Archive(archive) => &mut archive.card,
        };
        *card = card.take().or_else(|| stated.cloned());
        self
    }

    /// What the need says of the package.
    pub fn card(&self) -> Option<&StatedCard> {
        match self {
            Self::Folder(_) => None,
            Self::Git(git) => git.card.as_ref(),
            Self::Archive(archive) => archive.card.as_ref(),
        }
    }
}
