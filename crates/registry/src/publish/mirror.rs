//! Copies a registry into a folder, whole or in part, and updates the copy with what changed.
//!
//! A mirror has the same histories, cards and files, so locks made from the one install from the other. Files come before
//! the events that name them, each is checked against its digest, and an event is appended only where the mirror's history
//! is the beginning of the other: a mirror that has events of its own is reported, not repaired.

use std::io::{self, Read};

use bibliotax_core::card::{Archive, Event};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::{NamePattern, PackageName};
use bibliotax_core::progress::{ProgressEvent, ProgressListener, Work};
use bibliotax_disk::error::At;
use rayon::prelude::*;

use crate::catalogue::registry::Registry;
use crate::model::error::RegistryError;
use crate::model::storage::{ReadRegistryExt, RegistryStorage, WriteRegistryExt};
use crate::model::upstream_archives::UpstreamArchives;

/// What mirroring did.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Mirrored {
    /// Packages that were looked at.
    pub packages: usize,
    /// Events that the mirror lacked.
    pub events: usize,
    /// Files that it lacked.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
}

/// What a registry is copied to.
#[derive(Clone, Copy)]
pub enum Target<'t> {
    /// A copy, which is brought up to date.
    Copy(&'t dyn RegistryStorage),
    /// A copy, if there is one yet, that only shows what it lacks.
    DryRun(Option<&'t dyn RegistryStorage>),
}

impl<'t> Target<'t> {
    fn storage(self) -> Option<&'t dyn RegistryStorage> {
        match self {
            Self::Copy(storage) => Some(storage),
            Self::DryRun(storage) => storage,
        }
    }

    fn history_text(self, name: &PackageName) -> Result<Option<String>, RegistryError> {
        self.storage().map_or(Ok(None), |storage| storage.history_text(name))
    }

    fn has_file(self, digest: &Digest) -> Result<bool, RegistryError> {
        self.storage().map_or(Ok(false), |storage| storage.has_file(digest))
    }
}

/// Brings a mirror up to date with a registry, of the packages that the patterns mean; of all without any. Without a mirror, or in
/// a dry run, only what it lacks is counted, cards without their bytes. With `upstream`, it keeps the archives that cards point at, too.
pub fn mirror(
    from: &Registry,
    to: Target<'_>,
    patterns: &[NamePattern],
    upstream: Option<&dyn UpstreamArchives>,
    listener: &dyn ProgressListener,
) -> Result<Mirrored, RegistryError> {
    if let Target::Copy(to) = to
        && from.facets() != to.facets()
    {
        to.set_facets(from.facets())?;
    }
    let mut names: Vec<PackageName> = from.listed()?;
    names.retain(|name| patterns.is_empty() || patterns.iter().any(|pattern| pattern.matches(name)));
    listener.on_event(&ProgressEvent::Counting { work: Work::Copying, packages: names.len() });
    let each: Vec<(PackageName, Mirrored)> = names
        .into_par_iter()
        .map(|name| {
            let mut mirrored = of_package(from, to, &name)?;
            if let Some(upstream) = upstream {
                take_upstream(from, to, &name, upstream, &mut mirrored)?;
            }
            listener.on_event(&ProgressEvent::Counted { package: name.clone() });
            Ok((name, mirrored))
        })
        .collect::<Result<_, RegistryError>>()?;
    let mut all = Mirrored::default();
    let mut names = Vec::new();
    for (name, mirrored) in each {
        all.packages += 1;
        all.events += mirrored.events;
        all.files += mirrored.files;
        all.bytes += mirrored.bytes;
        names.push((name, mirrored.events > 0));
    }
    if let Target::Copy(to) = to {
        // Also what a run that was stopped brought and didn't list.
        to.update_name_list_after(names)?;
    }
    Ok(all)
}

fn of_package(from: &Registry, to: Target<'_>, name: &PackageName) -> Result<Mirrored, RegistryError> {
    let mut mirrored = Mirrored { packages: 1, ..Mirrored::default() };
    let theirs = from.history_text(name)?.unwrap_or_default();
    let ours = to.history_text(name)?.unwrap_or_default();
    let Some(missing) = theirs.strip_prefix(&ours) else {
        // Behind a registry that lags itself nothing is to be done; with events of its own it is no mirror.
        let lags = ours.starts_with(&theirs);
        return if lags { Ok(mirrored) } else { Err(RegistryError::NoMirror { package: name.clone() }) };
    };
    let mut events = Vec::new();
    for line in missing.lines().filter(|line| !line.is_empty()) {
        let event: Event =
            serde_json::from_str(line).map_err(|_| RegistryError::NoMirror { package: name.clone() })?;
        if let Event::Revised(revision) = &event {
            take_card(from, to, name, &revision.entry.card, &mut mirrored)?;
        }
        if let Event::Release(entry) = &event {
            for file in entry.files.iter().filter(|file| !file.is_elsewhere()) {
                let archive = file.archive();
                take(to, name, &archive, || from.open_archive_anywhere(name, &archive), &mut mirrored)?;
            }
            take_card(from, to, name, &entry.card, &mut mirrored)?;
        }
        events.push(line);
    }
    mirrored.events = events.len();
    if let Target::Copy(to) = to {
        to.append_text(name, &ours, missing)?;
    }
    Ok(mirrored)
}

/// Takes the archives that the releases of a package have elsewhere.
fn take_upstream(
    from: &Registry,
    to: Target<'_>,
    name: &PackageName,
    upstream: &dyn UpstreamArchives,
    mirrored: &mut Mirrored,
) -> Result<(), RegistryError> {
    let history = from.history(name)?.unwrap_or_default();
    let releases = history.releases().iter().filter(|release| release.withdrawn.is_none());
    for file in releases.flat_map(|release| &release.entry.files) {
        if let Some(url) = &file.url {
            take(to, name, &file.archive(), || upstream.open(name, url), mirrored)?;
        }
    }
    Ok(())
}

fn take_card(
    from: &Registry,
    to: Target<'_>,
    name: &PackageName,
    digest: &Digest,
    mirrored: &mut Mirrored,
) -> Result<(), RegistryError> {
    let Target::Copy(to) = to else {
        mirrored.files += usize::from(!to.has_file(digest)?);
        return Ok(());
    };
    let card = from.card_text(name, digest)?;
    take_bytes(to, name, digest, &mut card.as_bytes(), card.len() as u64, mirrored)
}

fn take<R: Read>(
    to: Target<'_>,
    name: &PackageName,
    archive: &Archive,
    open: impl FnOnce() -> Result<R, RegistryError>,
    mirrored: &mut Mirrored,
) -> Result<(), RegistryError> {
    if to.has_file(&archive.sha256)? {
        return Ok(());
    }
    let Target::Copy(to) = to else {
        mirrored.files += 1;
        mirrored.bytes += archive.size;
        return Ok(());
    };
    let mut bytes = open()?.take(archive.size + 1);
    take_bytes(to, name, &archive.sha256, &mut bytes, archive.size, mirrored)
}

fn take_bytes(
    to: &dyn RegistryStorage,
    name: &PackageName,
    digest: &Digest,
    bytes: &mut dyn Read,
    size: u64,
    mirrored: &mut Mirrored,
) -> Result<(), RegistryError> {
    if to.has_file(digest)? {
        return Ok(());
    }
    let mut staged = to.stage()?;
    let copied = io::copy(bytes, &mut staged).at("copy", to.place())?;
    if copied != size || staged.digest() != *digest {
        return Err(RegistryError::WrongBytes { package: name.clone(), digest: *digest });
    }
    to.keep(staged)?;
    mirrored.files += 1;
    mirrored.bytes += size;
    Ok(())
}
