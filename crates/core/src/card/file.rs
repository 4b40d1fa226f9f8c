//! The archives of a release: the part in each, its targets, and its format.

use std::fmt;
use std::sync::LazyLock;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::facet::Fits;
use crate::inner_path::InnerPath;
use crate::name::PartName;

/// The part that every release with files has.
pub const MAIN: &str = "main";

/// Parts that nothing is built or run with: they come along only where somebody asks for them.
pub const ON_REQUEST: [&str; 2] = ["docs", "sources"];

/// One archive of a release.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileRecord {
    /// Which part of the release it holds.
    #[serde(default = "main_part")]
    pub part: PartName,
    /// The targets that it is for: those on which all of this holds.
    #[serde(rename = "for", default, skip_serializing_if = "Fits::is_empty")]
    pub only_for: Fits,
    /// The digest of the archive's bytes.
    pub sha256: Digest,
    /// The archive's length in bytes.
    pub size: u64,
    /// How it is packed.
    pub format: ArchiveFormat,
    /// The folder inside the archive that holds the package; without it, all of it is the package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strip: Option<InnerPath>,
    /// Where it is, if not with the registry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}

impl FileRecord {
    /// Whether it stays where it is, so that the registry needn't have it.
    pub fn is_elsewhere(&self) -> bool {
        self.url.is_some()
    }

    /// The archive, of any kind.
    pub fn archive(&self) -> Archive {
        let (strip, url) = (self.strip.clone(), self.url.clone());
        Archive { sha256: self.sha256, size: self.size, format: self.format, strip, url }
    }
}

/// The part that every release with files has.
pub fn main_part() -> PartName {
    // The word has the form of every name.
    static PART: LazyLock<PartName> = LazyLock::new(|| MAIN.parse().expect("a name"));
    PART.clone()
}

/// Bytes that can be fetched, checked and unpacked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Archive {
    /// The digest of the bytes.
    pub sha256: Digest,
    /// How many there are.
    pub size: u64,
    /// How it is packed.
    pub format: ArchiveFormat,
    /// The folder inside it that is unpacked; without it, all of it.
    pub strip: Option<InnerPath>,
    /// Where it is, if not with the package's registry.
    pub url: Option<String>,
}

impl Archive {
    /// An archive that is unpacked whole, and is where its package is.
    pub fn new(sha256: Digest, size: u64, format: ArchiveFormat) -> Self {
        Self { sha256, size, format, strip: None, url: None }
    }

    /// What names the tree that is unpacked from it.
    pub fn tree(&self) -> Digest {
        tree_of(&self.sha256, self.strip.as_ref())
    }
}

/// What names the tree that is unpacked from an archive, or from a folder inside it.
pub fn tree_of(sha256: &Digest, strip: Option<&InnerPath>) -> Digest {
    strip.map_or(*sha256, |folder| Digest::of(format!("{sha256}/{folder}").as_bytes()))
}

/// How an archive is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub enum ArchiveFormat {
    /// POSIX tar in Zstandard (RFC 8878).
    #[serde(rename = "tar.zst")]
    TarZst,
    /// POSIX tar in gzip (RFC 1952).
    #[serde(rename = "tar.gz")]
    TarGz,
    /// POSIX tar in xz (version 1.2.1 of its format).
    #[serde(rename = "tar.xz")]
    TarXz,
    /// POSIX tar.
    #[serde(rename = "tar")]
    Tar,
    /// ZIP, stored or deflated.
    #[serde(rename = "zip")]
    Zip,
}

impl ArchiveFormat {
    /// All formats with the endings of their files' names.
    const ENDINGS: [(&str, Self); 7] = [
        (".tar.zst", Self::TarZst),
        (".tar.gz", Self::TarGz),
        (".tgz", Self::TarGz),
        (".tar.xz", Self::TarXz),
        (".txz", Self::TarXz),
        (".tar", Self::Tar),
        (".zip", Self::Zip),
    ];

    /// The format that a file's name tells.
    pub fn of_file_name(name: &str) -> Option<Self> {
        Self::ENDINGS.iter().find(|(ending, _)| name.ends_with(ending)).map(|(_, format)| *format)
    }
}

impl fmt::Display for ArchiveFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let ending = Self::ENDINGS.iter().find(|(_, format)| format == self).map_or("", |(ending, _)| ending);
        f.pad(ending.trim_start_matches('.'))
    }
}
