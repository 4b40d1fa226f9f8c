//! The archives of a release: the part in each, its targets, and its format.

use std::fmt;
use std::str::FromStr;
use std::sync::LazyLock;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::facet::Fits;
use crate::fault::Fault;
use crate::file_selection::{FilePattern, FileSelection, SelectsFiles};
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
    /// The only files of it that are unpacked, as patterns of paths below that folder; without any, all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub include: Vec<FilePattern>,
    /// Files and folders of it that are left out, as patterns of paths below that folder.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exclude: Vec<FilePattern>,
    /// Where it is, if not with the registry.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
}

impl FileRecord {
    /// The path in the package of a file of the archive; `None` where it is outside of the folder that holds the package.
    pub fn path_inside<'p>(&self, archived: &'p str) -> Option<&'p str> {
        match &self.strip {
            Some(strip) => strip.rest_of(archived),
            None => Some(archived),
        }
    }

    /// Whether it stays where it is, so that the registry needn't have it.
    pub fn is_elsewhere(&self) -> bool {
        self.url.is_some()
    }

    /// The archive, of any kind.
    pub fn archive(&self) -> Archive {
        let (strip, url, selection) = (self.strip.clone(), self.url.clone(), self.selection());
        Archive { sha256: self.sha256, size: self.size, format: self.format, strip, selection, url }
    }
}

impl SelectsFiles for FileRecord {
    fn patterns(&self) -> (&[FilePattern], &[FilePattern]) {
        (&self.include, &self.exclude)
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
    /// Which files of that are unpacked.
    pub selection: FileSelection,
    /// Where it is, if not with the package's registry.
    pub url: Option<String>,
}

impl Archive {
    /// An archive that is unpacked whole, and is where its package is.
    pub fn new(sha256: Digest, size: u64, format: ArchiveFormat) -> Self {
        Self { sha256, size, format, strip: None, selection: FileSelection::default(), url: None }
    }

    /// What names the tree that is unpacked from it.
    pub fn tree(&self) -> Digest {
        tree_of(&self.sha256, self.strip.as_ref(), &self.selection)
    }
}

/// What names the tree that is unpacked from an archive, or from some of its files.
pub fn tree_of(sha256: &Digest, strip: Option<&InnerPath>, selection: &FileSelection) -> Digest {
    if strip.is_none() && selection.is_all() {
        return *sha256;
    }
    let folder = strip.map_or("", InnerPath::as_str);
    Digest::of(format!("{sha256}/{folder}{}", selection.key()).as_bytes())
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
    /// POSIX tar in bzip2.
    #[serde(rename = "tar.bz2")]
    TarBz2,
    /// POSIX tar in the LZ4 frame format (version 1.6.4).
    #[serde(rename = "tar.lz4")]
    TarLz4,
    /// POSIX tar.
    #[serde(rename = "tar")]
    Tar,
    /// ZIP, stored or deflated.
    #[serde(rename = "zip")]
    Zip,
}

impl ArchiveFormat {
    /// All formats with the endings of their files' names, the usual one first. A wheel and a Java archive are ZIP archives.
    const ENDINGS: [(&str, Self); 14] = [
        (".tar.zst", Self::TarZst),
        (".tzst", Self::TarZst),
        (".tar.gz", Self::TarGz),
        (".tgz", Self::TarGz),
        (".tar.xz", Self::TarXz),
        (".txz", Self::TarXz),
        (".tar.bz2", Self::TarBz2),
        (".tbz2", Self::TarBz2),
        (".tbz", Self::TarBz2),
        (".tar.lz4", Self::TarLz4),
        (".tar", Self::Tar),
        (".zip", Self::Zip),
        (".whl", Self::Zip),
        (".jar", Self::Zip),
    ];

    /// All formats.
    pub const ALL: [Self; 7] =
        [Self::TarZst, Self::TarGz, Self::TarXz, Self::TarBz2, Self::TarLz4, Self::Tar, Self::Zip];

    /// The name of an archive without the ending that tells its format.
    pub fn stem(name: &str) -> Option<&str> {
        Self::ENDINGS.iter().find_map(|(ending, _)| name.strip_suffix(ending))
    }

    /// The format that a file's name tells.
    pub fn of_file_name(name: &str) -> Option<Self> {
        Self::ENDINGS.iter().find(|(ending, _)| name.ends_with(ending)).map(|(_, format)| *format)
    }
}

impl FromStr for ArchiveFormat {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        Self::ALL.into_iter().find(|format| format.to_string() == text).ok_or_else(|| {
            let known = Self::ALL.map(|format| format.to_string()).join(", ");
            let fault =
                Fault::new("archive.format", format!("`{text}` isn't a format of archives"), 0..text.len());
            fault.advice(format!("write one of {known}"))
        })
    }
}

impl fmt::Display for ArchiveFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let ending = Self::ENDINGS.iter().find(|(_, format)| format == self).map_or("", |(ending, _)| ending);
        f.pad(ending.trim_start_matches('.'))
    }
}
