//! Pages and archives that are asked for again and again: fetched only where they changed.

use std::fs::File;
use std::io::Read;
use std::path::PathBuf;

use bibliotax_archive::format;
use bibliotax_archive::pack::LEVEL as ARCHIVE_LEVEL;
use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bibliotax_core::source::{CommitId, GitSource};
use bibliotax_disk::error::At;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{DirectSources, archive};
use crate::client::http::cache::{Cache, Kept};
use crate::client::http::client::Answer;
use crate::model::error::{Asked, RegistryError};
use crate::model::staging::Staged;
use crate::sources::git::Wanted;

/// Largest page that is read, in bytes.
const MAX_PAGE_SIZE: u64 = 16 << 20;

/// What the cache of a URL has: the text of a page, or what is known of an archive.
const PAGE: &str = "page";
const ARCHIVE: &str = "archive";

/// An archive that was fetched once.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct KnownArchive {
    sha256: Digest,
    size: u64,
    at: Option<Timestamp>,
}

/// An archive on this disk.
#[derive(Debug, Clone)]
pub struct FetchedArchive {
    /// What it is.
    pub archive: Archive,
    /// Where it lies.
    pub path: PathBuf,
    /// When it was changed last, by its server.
    pub at: Option<Timestamp>,
}

impl DirectSources {
    /// The text of a page that a card names; only what changed is fetched again.
    pub fn page(&self, package: &PackageName, url: &str, is_inside: bool) -> Result<String, RegistryError> {
        let client = self.client_for(package, url, is_inside)?;
        let cache = Cache::of(&self.cache.join("upstream"), client.base());
        let kept = cache.read(PAGE);
        if client.is_offline() {
            let asked = Asked::SourceOf(package.clone());
            let offline = || RegistryError::Offline { asked, what: format!("the page {url}") };
            return kept.map(|kept| kept.text).ok_or_else(offline);
        }
        let (content, tag) = match (client.fresh("", kept.as_ref().map(|kept| kept.tag.as_str()))?, kept) {
            (Answer::Same, Some(kept)) => return Ok(kept.text),
            (Answer::Found { content, tag }, _) => (content, tag),
            _ => return Err(RegistryError::NoPage { url: url.to_owned() }),
        };
        let mut bytes = Vec::new();
        let read = content.take(MAX_PAGE_SIZE + 1).read_to_end(&mut bytes);
        read.map_err(|error| bibliotax_disk::DiskError::new("fetch", url, error))?;
        if bytes.len() as u64 > MAX_PAGE_SIZE {
            let what = format!("it is larger than {} MB", MAX_PAGE_SIZE >> 20);
            return Err(RegistryError::NothingToFollow { url: url.to_owned(), what });
        }
        let text = String::from_utf8_lossy(&bytes).into_owned();
        if let Some(tag) = tag {
            cache.keep(PAGE, &tag, &text);
        }
        Ok(text)
    }

    /// An archive by a URL that a card names; fetched unless it is here and the server says that it is the same.
    pub fn archive_again(
        &self,
        package: &PackageName,
        url: &str,
        is_inside: bool,
    ) -> Result<FetchedArchive, RegistryError> {
        let client = self.client_for(package, url, is_inside)?;
        let cache = Cache::of(&self.cache.join("upstream"), client.base());
        let kept = cache.read(ARCHIVE).and_then(|kept| self.known_archive(&kept));
        if client.is_offline() {
            let asked = Asked::SourceOf(package.clone());
            let offline = || RegistryError::Offline { asked, what: format!("the archive {url}") };
            let (_, known) = kept.ok_or_else(offline)?;
            return self.as_fetched(package, &known);
        }
        let (content, at, tag) =
            match (client.fresh_dated("", kept.as_ref().map(|(tag, _)| tag.as_str()))?, kept) {
                (Answer::Same, Some((_, known))) => return self.as_fetched(package, &known),
                (Answer::Found { content: (content, at), tag }, _) => (content, at, tag),
                _ => return Err(RegistryError::NoArchive { package: package.clone(), url: url.to_owned() }),
            };
        let staged = archive::fetch(package, content, &self.archives())?;
        let known = KnownArchive { sha256: staged.digest(), size: staged.size(), at };
        self.keep(staged)?;
        if let Some(tag) = tag {
            // A digest, a number and a time: nothing that could fail to be JSON.
            cache.keep(ARCHIVE, &tag, &serde_json::to_string(&known).unwrap_or_default());
        }
        self.as_fetched(package, &known)
    }

    /// What is known of an archive that is still here, with its validator.
    fn known_archive(&self, kept: &Kept) -> Option<(String, KnownArchive)> {
        let known: KnownArchive = serde_json::from_str(&kept.text).ok()?;
        self.kept_archive(&known.sha256).map(|_| (kept.tag.clone(), known))
    }

    fn as_fetched(
        &self,
        package: &PackageName,
        known: &KnownArchive,
    ) -> Result<FetchedArchive, RegistryError> {
        let path = self.kept(&known.sha256);
        let refused = |source| RegistryError::Archive { package: package.clone(), source };
        let format: ArchiveFormat = format::of_file(&path).map_err(refused)?;
        Ok(FetchedArchive { archive: Archive::new(known.sha256, known.size, format), path, at: known.at })
    }

    /// The archive with this digest, where it is on this disk.
    pub fn kept_archive(&self, digest: &Digest) -> Option<PathBuf> {
        Some(self.kept(digest)).filter(|path| path.is_file())
    }

    /// Takes an archive in that has to have this digest; where it lies.
    pub fn take_in(
        &self,
        package: &PackageName,
        digest: &Digest,
        content: impl Read,
    ) -> Result<PathBuf, RegistryError> {
        let staged = archive::fetch(package, content, &self.archives())?;
        if staged.digest() != *digest {
            return Err(RegistryError::WrongBytes { package: package.clone(), digest: *digest });
        }
        self.keep(staged).map(|()| self.kept(digest))
    }

    /// The files of a commit as a compressed archive.
    pub fn commit_compressed(
        &self,
        package: &PackageName,
        source: &GitSource,
    ) -> Result<FetchedArchive, RegistryError> {
        let plain = self.commit_as_archive(package, source)?;
        let mut staged = Staged::in_folder(&self.archives())?;
        let read = File::open(&plain).at("read", &plain)?;
        zstd::stream::copy_encode(read, &mut staged, ARCHIVE_LEVEL).at("compress", &plain)?;
        let archive = Archive::new(staged.digest(), staged.size(), ArchiveFormat::TarZst);
        let path = self.kept(&archive.sha256);
        self.keep(staged)?;
        Ok(FetchedArchive { archive, path, at: None })
    }

    /// When a commit of a repository was made.
    pub fn time_of(
        &self,
        package: &PackageName,
        url: &str,
        commit: &CommitId,
    ) -> Result<Timestamp, RegistryError> {
        let repository = self.repository(package, url, false)?;
        repository.fetch(&[commit], Wanted::Names)?;
        repository.time(commit)
    }
}
