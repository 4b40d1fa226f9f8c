//! A new release of a catalogue, made from a card that it has and what upstream published since.

mod merged;

use std::fs::File;
use std::io::{BufReader, Read};
use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_archive::inspect::{ArchivedFile, contents, leading_folder};
use bibliotax_core::card::{Archive, Card, FileRecord};
use bibliotax_core::follow::{Follow, FollowedPlace, NamedVersion, UrlPattern};
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::name::PackageName;
use bibliotax_core::package_url::PackageUrl;
use bibliotax_core::source::GitSource;
use bibliotax_core::version::Version;
use bibliotax_disk::error::At;
use jiff::Timestamp;

use self::merged::merged;
use crate::catalogue::upstream_releases::{ReleaseForm, Upstream, UpstreamRelease, named_by};
use crate::model::card_check::check_card;
use crate::model::error::RegistryError;
use crate::model::inspect::check_all_archives;
use crate::model::storage::{ReadRegistryExt, RegistryStorage, WriteRegistryExt};
use crate::publish::admit_release::admit_release;
use crate::sources::direct_sources::FetchedArchive;

/// A release that a catalogue may take in.
#[derive(Debug, Clone)]
pub struct NextRelease {
    /// Its card.
    pub card: Card,
    /// Where the archives of its files are on this disk, in the order of the files.
    pub archives: Vec<PathBuf>,
    /// When upstream published it, as far as anybody says.
    pub at: Option<Timestamp>,
}

impl NextRelease {
    /// Checks the card, and that its archives can be installed and hold what it exposes.
    pub fn check(&self, registry: &dyn RegistryStorage) -> Result<(), RegistryError> {
        check_card(registry.name(), &registry.all_facets(), &self.card)?;
        check_all_archives(&self.card, &std::env::temp_dir(), &|file| self.open(file))
    }

    fn open(&self, file: &FileRecord) -> Result<Box<dyn Read + Send>, RegistryError> {
        let files = self.card.files.iter().zip(&self.archives);
        let path = files.into_iter().find(|(own, _)| own.sha256 == file.sha256).map(|(_, path)| path);
        let path = path.ok_or_else(|| RegistryError::MissingFiles { digests: vec![file.sha256] })?;
        Ok(Box::new(File::open(path).at("read", path)?))
    }

    /// Takes it into a registry, published at this time; whether it wasn't there.
    pub fn add_to(&self, registry: &Arc<dyn RegistryStorage>, now: Timestamp) -> Result<bool, RegistryError> {
        for file in self.card.files.iter().filter(|file| !file.is_elsewhere()) {
            if !registry.has_file(&file.sha256)? {
                let mut staged = registry.stage()?;
                std::io::copy(&mut self.open(file)?, &mut staged).at("copy", registry.place())?;
                registry.keep(staged)?;
            }
        }
        let card = Card { published: now, ..self.card.clone() };
        admit_release(registry, &card, || Ok(())).map(|was_there| !was_there)
    }
}

/// Makes the card of a release of upstream from one that the catalogue has: the same but for what follows from the version and from the
/// archives, which are fetched.
pub fn next_release(
    upstream: &Upstream<'_>,
    card: &Card,
    follow: &Follow,
    release: &UpstreamRelease,
) -> Result<NextRelease, RegistryError> {
    let mut next = match &follow.place {
        FollowedPlace::Registry { url, package } => {
            let there = package.as_ref().unwrap_or(&card.name);
            merged(upstream, card, url, there, release)?
        }
        place => {
            let made = Making { upstream, card, follow, release };
            made.with_files(place)?
        }
    };
    if next.at.is_none() {
        next.at = release.at;
    }
    next.card.follow = Some(follow.clone());
    Ok(next)
}

/// A release that is made of commits or archives.
struct Making<'m> {
    upstream: &'m Upstream<'m>,
    card: &'m Card,
    follow: &'m Follow,
    release: &'m UpstreamRelease,
}

impl Making<'_> {
    fn with_files(&self, place: &FollowedPlace) -> Result<NextRelease, RegistryError> {
        let mut next = NextRelease { card: self.with_version(), archives: Vec::new(), at: None };
        for file in &self.card.files {
            let fetched = self.fetched(file, place)?;
            let Archive { sha256, size, format, .. } = fetched.archive;
            let files = contents(&fetched.path, format);
            let files =
                files.map_err(|source| RegistryError::Archive { package: self.card.name.clone(), source })?;
            let strip = self.strip(file, &files);
            let url = file.url.as_ref().and(fetched.url);
            next.card.files.push(FileRecord { sha256, size, format, strip, url, ..file.clone() });
            next.archives.push(fetched.path);
            next.at = next.at.max(fetched.at);
        }
        if let (FollowedPlace::Git { url, .. }, ReleaseForm::Commit { commit, .. }) =
            (place, &self.release.form)
        {
            // Only the time is missing where the repository doesn't give the commit.
            next.at = self.upstream.sources.time_of(&self.card.name, url, commit).ok().or(next.at);
        }
        Ok(next)
    }

    /// The card with another version, without files and without what was said of the other version only.
    fn with_version(&self) -> Card {
        let (old, new) = (named_by(self.card, None), self.release.named());
        let text = new.text.parse().ok().filter(|_| new.text != new.version.as_str());
        Card {
            version: new.version.clone(),
            upstream_version: text,
            upstream: self.card.upstream.iter().map(|url| moved(url, old, new)).collect(),
            files: Vec::new(),
            notes: None,
            ..self.card.clone()
        }
    }

    /// The folder that holds the package: as it was but for the version in its name, or else the one that leads all files.
    fn strip(&self, file: &FileRecord, files: &[ArchivedFile]) -> Option<InnerPath> {
        let old = file.strip.as_ref()?.as_str();
        let (named, new) = (named_by(self.card, None), self.release.named());
        let texts = [(named.text, new.text), (named.version.as_str(), new.version.as_str())];
        let moved = texts.into_iter().map(|(own, new)| old.replace(own, new));
        let is_there = |folder: &String| {
            let below = format!("{folder}/");
            files.iter().any(|file| file.path.trim_start_matches("./").starts_with(&below))
        };
        let mut likely = [old.to_owned()].into_iter().chain(moved);
        let found = likely.find(is_there).and_then(|folder| InnerPath::new(&folder).ok());
        found.or_else(|| leading_folder(files))
    }

    fn fetched(&self, file: &FileRecord, place: &FollowedPlace) -> Result<Fetched, RegistryError> {
        let (Upstream { sources, is_inside, .. }, package) = (self.upstream, &self.card.name);
        let url = match self.url(file)? {
            Some(url) => url,
            None => return self.packed(place).map(|fetched| Fetched::of(fetched, None)),
        };
        Ok(Fetched::of(sources.archive_again(package, &url, *is_inside)?, Some(url)))
    }

    /// Where the archive is; `None` where it is to be made from the commit.
    fn url(&self, file: &FileRecord) -> Result<Option<String>, RegistryError> {
        let (named, package) = (self.release.named(), &self.card.name);
        let unclear =
            |what: String| RegistryError::NothingToFollow { url: self.follow.place.url().to_owned(), what };
        let is_only = self.card.files.len() == 1;
        if let (ReleaseForm::Archive(Some(link)), true) = (&self.release.form, is_only) {
            return Ok(Some(link.clone()));
        }
        if let (Some(pattern), true) = (&self.follow.archive, is_only) {
            let url = pattern.filled(named);
            return url
                .map(Some)
                .ok_or_else(|| unclear(format!("its tag {:?} can't be part of a URL", named.tag)));
        }
        let Some(old) = &file.url else { return Ok(None) };
        let pattern = UrlPattern::of_url(old, named_by(self.card, self.old_tag().as_deref()));
        let filled = pattern.and_then(|pattern| pattern.filled(named));
        filled.map(Some).ok_or_else(|| {
            unclear(format!(
                "the URL of {package} {} doesn't have its version in it, so `follow` has to say `archive`",
                self.card.version
            ))
        })
    }

    /// The tag of the release that there is, as the tag of the new one is written.
    fn old_tag(&self) -> Option<String> {
        let (old, new) = (named_by(self.card, None), self.release.named());
        let tag = new.tag?;
        let written = tag.contains(new.text).then(|| tag.replace(new.text, old.text));
        // A tag of numbers that stand by themselves.
        written.or_else(|| {
            let numbers = |version: &Version, separator: &str| version.as_str().replace('.', separator);
            let separator =
                ["-", "_"].into_iter().find(|separator| tag.contains(&numbers(new.version, separator)))?;
            Some(tag.replace(&numbers(new.version, separator), &numbers(old.version, separator)))
        })
    }

    /// The commit of the release as an archive.
    fn packed(&self, place: &FollowedPlace) -> Result<FetchedArchive, RegistryError> {
        let (package, sources) = (&self.card.name, self.upstream.sources);
        let (FollowedPlace::Git { url, .. }, ReleaseForm::Commit { tag, commit }, [_]) =
            (place, &self.release.form, &self.card.files[..])
        else {
            let what = format!("{package} has archives in the registry, so `follow` has to say `archive`");
            return Err(RegistryError::NothingToFollow { url: self.follow.place.url().to_owned(), what });
        };
        let source = GitSource {
            git: url.clone(),
            commit: commit.clone(),
            at: Some(format!("tag {tag}")),
            subfolder: None,
        };
        sources.commit_compressed(package, &source)
    }
}

/// An archive of the release, and where it was fetched.
struct Fetched {
    archive: Archive,
    path: PathBuf,
    at: Option<Timestamp>,
    url: Option<String>,
}

impl Fetched {
    fn of(fetched: FetchedArchive, url: Option<String>) -> Self {
        let FetchedArchive { archive, path, at } = fetched;
        Self { archive, path, at, url }
    }
}

/// The package URL of other software at its new version; as it is where it is at another one than the package.
fn moved(url: &PackageUrl, old: NamedVersion<'_>, new: NamedVersion<'_>) -> PackageUrl {
    let to = match url.version() {
        Some(version) if version == old.text => new.text,
        Some(version) if version == old.version.as_str() => new.version.as_str(),
        _ => return url.clone(),
    };
    let from = url.version().unwrap_or_default();
    let text = url.as_str().replacen(&format!("@{from}"), &format!("@{to}"), 1);
    text.parse().unwrap_or_else(|_| url.clone())
}

/// The archives of a release that a catalogue has, in the order of its files: those on this disk, those that the registry keeps, and
/// those that are still where its card says. `None` for one that can't be had as it was.
pub fn archives_of(
    registry: &dyn RegistryStorage,
    upstream: &Upstream<'_>,
    card: &Card,
) -> Vec<Option<PathBuf>> {
    let had = |file: &FileRecord| archive_of(registry, upstream, &card.name, file);
    card.files.iter().map(had).collect()
}

fn archive_of(
    registry: &dyn RegistryStorage,
    upstream: &Upstream<'_>,
    package: &PackageName,
    file: &FileRecord,
) -> Option<PathBuf> {
    let sources = upstream.sources;
    if let Some(path) = sources.kept_archive(&file.sha256) {
        return Some(path);
    }
    if let Ok(content) = registry.open_file(&file.sha256) {
        return sources.take_in(package, &file.sha256, BufReader::new(content)).ok();
    }
    let fetched = sources.archive_again(package, file.url.as_deref()?, upstream.is_inside).ok()?;
    (fetched.archive.sha256 == file.sha256).then_some(fetched.path)
}
