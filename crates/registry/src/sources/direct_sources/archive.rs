//! Archives by URL: downloaded, checked against the declared digest, and inspected.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use bibliotax_archive::{format, inspect};
use bibliotax_core::card::ArchiveFormat;
use bibliotax_core::digest::Digest;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::location::Location;
use bibliotax_core::lock::LockedFile;
use bibliotax_core::manifest::{DeclaredArchive, FILE_NAME};
use bibliotax_core::name::PackageName;
use bibliotax_core::named_archive::named_archive;
use bibliotax_core::resolve::Listing;
use bibliotax_core::source::{ArchiveSource, Source};
use bibliotax_core::workspace::DirectSources as Declared;
use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::write_whole;
use jiff::Timestamp;

use super::DirectSources;
use super::card::Found;
use super::releases::unversioned;
use crate::client::http::checked;
use crate::client::http::client::Client;
use crate::client::http::download::Download;
use crate::client::network::Network;
use crate::model::error::{Asked, RegistryError};
use crate::model::staging::Staged;

/// Largest archive that is fetched, in bytes.
const MAX_SIZE: u64 = 16 << 30;

/// Largest manifest in an archive that is read, in bytes.
const MAX_MANIFEST_SIZE: u64 = 1 << 20;

/// Where an archive is, and what it is to be.
pub struct ArchivePlace {
    package: PackageName,
    url: String,
    pub sha256: Digest,
    /// How it is packed, where that is said.
    format: Option<ArchiveFormat>,
    strip: Option<InnerPath>,
    allows_plain: bool,
}

impl DirectSources {
    pub(super) fn of_archive(
        &self,
        package: &PackageName,
        declared: &Declared,
        archive: &DeclaredArchive,
    ) -> Result<Listing, RegistryError> {
        let place = ArchivePlace::new(package, archive);
        let otherwise = declared.version.clone().or_else(|| named_archive(&archive.url).version);
        let found = Found {
            package,
            place: archive.url.clone(),
            manifest: place.manifest(self)?,
            root: None,
            stated: archive.card.as_ref(),
            version: None,
            otherwise: otherwise.unwrap_or_else(|| unversioned(&archive.sha256.short()[..7])),
            // An archive doesn't say when it was made public.
            published: Timestamp::UNIX_EPOCH,
        };
        let source = Source::Archive(ArchiveSource { archive: archive.url.clone() });
        let gone = || RegistryError::NoArchive { package: package.clone(), url: archive.url.clone() };
        Listing::of_own([(source, found.card()?)]).ok_or_else(gone)
    }
}

impl ArchivePlace {
    pub fn new(package: &PackageName, archive: &DeclaredArchive) -> Self {
        Self {
            package: package.clone(),
            url: archive.url.clone(),
            sha256: archive.sha256,
            format: archive.format,
            strip: archive.strip.clone(),
            allows_plain: archive.allows_plain,
        }
    }

    /// Opens it where it is.
    pub fn open(&self, elsewhere: &DirectSources) -> Result<Box<dyn Read + Send>, RegistryError> {
        open(&self.package, &self.url, self.allows_plain, &elsewhere.root, &elsewhere.network)
    }

    /// Its length, for which it may have to be fetched.
    pub fn size(&self, elsewhere: &DirectSources) -> Result<u64, RegistryError> {
        if let Some(file) = self.locked(elsewhere) {
            return Ok(file.size);
        }
        let kept = self.fetched(elsewhere)?;
        Ok(kept.metadata().at("look at", &kept)?.len())
    }

    /// How it is packed, which its bytes may have to tell.
    pub fn format(&self, elsewhere: &DirectSources) -> Result<ArchiveFormat, RegistryError> {
        let known = self.format.or_else(|| self.locked(elsewhere).map(|file| file.format));
        match known {
            Some(format) => Ok(format),
            None => format::of_file(&self.fetched(elsewhere)?).map_err(|source| self.refused(source)),
        }
    }

    fn locked<'e>(&self, elsewhere: &'e DirectSources) -> Option<&'e LockedFile> {
        let locked = elsewhere.locked.get(&self.package)?.files.first()?;
        (locked.sha256 == self.sha256).then_some(locked)
    }

    /// The text of the manifest in it; known from then on without the archive.
    fn manifest(&self, elsewhere: &DirectSources) -> Result<Option<String>, RegistryError> {
        let strip = self.strip.as_ref().map_or(String::new(), |strip| format!("{strip}/"));
        let key = Digest::of(format!("{}/{strip}", self.sha256).as_bytes());
        let known = elsewhere.archives().join(format!("{key}.toml"));
        let text = match read_text(&known, MAX_MANIFEST_SIZE as usize)? {
            Some(text) => text,
            None => {
                let kept = self.fetched(elsewhere)?;
                let text = inspect::text_of(
                    &kept,
                    self.format(elsewhere)?,
                    &format!("{strip}{FILE_NAME}"),
                    MAX_MANIFEST_SIZE,
                );
                let text = text.map_err(|source| self.refused(source))?.unwrap_or_default();
                write_whole(&known, text.as_bytes())?;
                text
            }
        };
        Ok(Some(text).filter(|text| !text.is_empty()))
    }

    /// The archive on this disk, fetched where it doesn't exist.
    fn fetched(&self, elsewhere: &DirectSources) -> Result<PathBuf, RegistryError> {
        let kept = elsewhere.kept(&self.sha256);
        if kept.is_file() {
            return Ok(kept);
        }
        let fetched = fetch(&self.package, self.open(elsewhere)?, &elsewhere.archives())?;
        if fetched.digest() != self.sha256 {
            return Err(RegistryError::ChangedArchive {
                package: self.package.clone(),
                url: self.url.clone(),
                expected: self.sha256,
                found: fetched.digest(),
            });
        }
        elsewhere.keep(fetched)?;
        Ok(kept)
    }

    fn refused(&self, source: bibliotax_archive::error::ArchiveError) -> RegistryError {
        RegistryError::Archive { package: self.package.clone(), source }
    }
}

/// Opens an archive by a URL, or by a path seen from `root`.
pub(super) fn open(
    package: &PackageName,
    url: &str,
    allows_plain: bool,
    root: &Path,
    network: &Network,
) -> Result<Box<dyn Read + Send>, RegistryError> {
    let gone = || RegistryError::NoArchive { package: package.clone(), url: url.to_owned() };
    let location = Location::of(url);
    let Some(path) = location.path() else {
        let asked = Asked::SourceOf(package.clone());
        let base = checked(&asked, url, allows_plain)?;
        return download(package, Client::new(asked, base, network), url);
    };
    let path = root.join(path);
    match File::open(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Err(gone()),
        opened => Ok(Box::new(opened.at("read", &path)?)),
    }
}

/// Begins to fetch an archive with a client for its URL.
pub(super) fn download(
    package: &PackageName,
    client: Client,
    url: &str,
) -> Result<Box<dyn Read + Send>, RegistryError> {
    if client.is_offline() {
        let asked = Asked::SourceOf(package.clone());
        return Err(RegistryError::Offline { asked, what: "its archive".to_owned() });
    }
    let gone = || RegistryError::NoArchive { package: package.clone(), url: url.to_owned() };
    Ok(Box::new(Download::open_any(client, String::new())?.ok_or_else(gone)?))
}

/// Takes what comes into a file in a folder.
pub(super) fn fetch(package: &PackageName, from: impl Read, folder: &Path) -> Result<Staged, RegistryError> {
    let mut staged = Staged::in_folder(folder)?;
    let copied = io::copy(&mut from.take(MAX_SIZE), &mut staged);
    copied.map_err(|error| match error.downcast::<RegistryError>() {
        Ok(error) => error,
        Err(error) => bibliotax_disk::DiskError::new("fetch", package.as_str(), error).into(),
    })?;
    Ok(staged)
}
