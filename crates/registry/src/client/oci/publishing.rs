//! Publishes to a container registry, and changes the status of releases there.

use std::fs::File;

use bibliotax_core::card::{Card, Event, FileRecord, Provided, Provider};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use jiff::Timestamp;

use super::Oci;
use super::artifact::{Descriptor, EMPTY_TEXT, Manifest, kind};
use super::tags::release_tag;
use crate::client::http::publishing::{opened_at, packed};
use crate::model::error::RegistryError;
use crate::model::history_limits::checked_line;
use crate::model::inspect::check_archives;
use crate::model::layout::card_text;
use crate::model::release::{Published, Release};
use crate::model::release_check::{check_is_capability, refuse_second};
use crate::model::release_status::{Change, check_instead};

/// What an archive is.
fn archive_kind(file: &FileRecord) -> String {
    format!("application/vnd.bibliotax.files.v1.{}", file.format)
}

impl Oci {
    /// Packs a release and puts it there: archives first, then what makes it a release.
    pub fn publish(
        &self,
        release: Release,
        listener: &dyn ProgressListener,
    ) -> Result<Published, RegistryError> {
        let Release { mut card, parts, .. } = release;
        let repository = self.repository(&card.name);
        let mut archives = Vec::new();
        for (record, contents) in card.files.iter_mut().zip(&parts) {
            let archive = packed(contents, record)?;
            archives.push((record.clone(), archive));
        }
        let missing = |file: &FileRecord| RegistryError::NoFile {
            digest: file.sha256,
            path: self.place_of(&card.name),
        };
        check_archives(&card, &std::env::temp_dir(), &|file| {
            let (_, archive) =
                archives.iter().find(|(record, _)| record == file).ok_or_else(|| missing(file))?;
            Ok(Box::new(opened_at(archive, 0)?))
        })?;
        let (_, history) = self.bring_up_to_date(&card.name)?;
        let files = card.files.clone();
        let text = |digest: &Digest| self.card_text(&card.name, digest);
        if refuse_second(&card, &history, true, text)? {
            return Ok(Published { files, already: true });
        }
        listener.on_event(&ProgressEvent::Uploading { bytes: files.iter().map(|file| file.size).sum() });
        for (record, archive) in &archives {
            self.put_archive(&repository, record, archive, listener)?;
        }
        card.provides.iter().try_for_each(|provided| self.provide(&card, provided))?;
        self.put_release(&repository, &card)?;
        let (_, history) = self.bring_up_to_date(&card.name)?;
        // Somebody else may have published another one by this version meanwhile, and been quicker.
        refuse_second(&card, &history, true, text)?;
        Ok(Published { files, already: false })
    }

    /// Changes how releases of a package stand; whether it was so already.
    pub fn change(&self, name: &PackageName, change: &Change, at: Timestamp) -> Result<bool, RegistryError> {
        if let Some(instead) = change.instead() {
            check_instead(name, instead, self.history_text(instead)?.is_some())?;
        }
        let (_, history) = self.bring_up_to_date(name)?;
        let events = change.events(name, &history, at)?;
        events.iter().try_for_each(|event| self.put_event(name, event))?;
        self.bring_up_to_date(name)?;
        Ok(events.is_empty())
    }

    fn put_archive(
        &self,
        repository: &str,
        record: &FileRecord,
        archive: &File,
        listener: &dyn ProgressListener,
    ) -> Result<(), RegistryError> {
        let FileRecord { sha256, size, .. } = record;
        self.distribution.put_blob(repository, sha256, *size, || opened_at(archive, 0), listener)
    }

    /// Makes a card, whose archives are there, a release.
    fn put_release(&self, repository: &str, card: &Card) -> Result<(), RegistryError> {
        let text = card_text(card);
        checked_line(&card.name, &Event::Release(Box::new(card.entry(Digest::of(text.as_bytes())))))?;
        self.distribution.put_text(repository, &text)?;
        let here = card.files.iter().filter(|file| !file.is_elsewhere());
        let layers: Vec<Descriptor> = here.map(layer).collect();
        if layers.is_empty() {
            self.distribution.put_text(repository, EMPTY_TEXT)?;
        }
        let mut manifest = Manifest::new(kind::RELEASE, Descriptor::of_text(kind::CARD, &text), layers);
        manifest.annotations = annotations(card);
        self.distribution.put_artifact(repository, &release_tag(&card.version), &manifest)
    }

    /// Notes with a capability that a package provides it.
    fn provide(&self, card: &Card, provided: &Provided) -> Result<(), RegistryError> {
        let (_, history) = self.bring_up_to_date(&provided.name)?;
        check_is_capability(&provided.name, &history)?;
        if !history.providers().contains(&card.name) {
            let provider = Provider { by: card.name.clone(), at: card.published };
            self.put_event(&provided.name, &Event::Provided(provider))?;
            self.bring_up_to_date(&provided.name)?;
        }
        Ok(())
    }
}

/// How a manifest names an archive; other tools show its title.
fn layer(file: &FileRecord) -> Descriptor {
    let mut layer = Descriptor::new(&archive_kind(file), &file.sha256, file.size);
    let title = format!("{}.{}", file.part, file.format);
    layer.annotations.insert("org.opencontainers.image.title".to_owned(), title);
    layer
}

/// What other tools show of a release (image specification, "Annotations").
fn annotations(card: &Card) -> std::collections::BTreeMap<String, String> {
    let said = [
        ("title", Some(card.name.to_string())),
        ("version", Some(card.version.to_string())),
        ("created", Some(card.published.to_string())),
        ("description", card.summary.clone()),
        ("licenses", card.license.as_ref().map(ToString::to_string)),
    ];
    let named = said.into_iter().filter_map(|(key, value)| Some((key, value?)));
    named.map(|(key, value)| (format!("org.opencontainers.image.{key}"), value)).collect()
}
