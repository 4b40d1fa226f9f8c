//! From a project folder to a release: what would go, and its going.

use std::collections::HashMap;
use std::path::Path;

use bibliotax_core::card::{
    ArchiveFormat, Card, CardNeed, Event, FileRecord, MAIN, Provided, Provider, main_part,
};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Fits;
use bibliotax_core::history::History;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::Manifest;
use bibliotax_core::name::{PackageName, PartName};
use jiff::Timestamp;

use crate::check::check_card;
use crate::error::RegistryError;
use crate::folder::Folder;
use crate::pack::{self, PackFile};

/// A release that is ready to go.
#[derive(Debug)]
pub struct Release {
    /// Its card; what it says of its files has no digests yet.
    pub card: Card,
    /// The contents of its archives, in the order of the card's files.
    pub parts: Vec<Vec<PackFile>>,
}

/// What publishing did.
#[derive(Debug)]
pub struct Published {
    /// The archives.
    pub files: Vec<FileRecord>,
    /// Whether this very release was there already.
    pub already: bool,
}

/// Puts together the release that the manifest in `project` describes.
pub fn prepare(manifest: &Manifest, project: &Path, published: Timestamp) -> Result<Release, RegistryError> {
    let mut card = card(manifest, published)?;
    let mut parts = Vec::new();
    let declared = &manifest.card.parts;
    let is_main_declared = declared.iter().any(|part| part.part.as_str() == MAIN);
    if !is_main_declared || manifest.card.files.is_some() {
        let apart: Vec<&InnerPath> = declared.iter().map(|part| &part.from).collect();
        card.files.push(unpacked(main_part(), Fits::new()));
        parts.push((project.to_owned(), pack::list(project, manifest.card.files.as_deref(), &apart)?));
    }
    for part in declared {
        let folder = project.join(part.from.as_str());
        card.files.push(unpacked(part.part.clone(), part.only_for.clone()));
        parts.push((folder.clone(), pack::list_part(&folder, part.files.as_deref())?));
    }
    if let Some((path, _)) = parts.iter().find(|(_, files)| files.is_empty()) {
        return Err(RegistryError::NoFiles { path: path.clone() });
    }
    let parts: Vec<Vec<PackFile>> = parts.into_iter().map(|(_, files)| files).collect();
    check_exposed(&card, &parts)?;
    check_apart(&card, &parts)?;
    Ok(Release { card, parts })
}

/// What a card says of an archive that is not packed yet.
fn unpacked(part: PartName, only_for: Fits) -> FileRecord {
    FileRecord { part, only_for, sha256: Digest::of(b""), size: 0, format: ArchiveFormat::TarZst }
}

impl Release {
    /// The bytes of all files before packing.
    pub fn size(&self) -> u64 {
        self.parts.iter().flatten().map(|file| file.size).sum()
    }

    /// Whether a registry could take the release, as far as can be told before it is packed.
    pub fn check(&self, registry: &Folder) -> Result<(), RegistryError> {
        if let Some(history) = registry.history(&self.card.name)? {
            self.refuse_second(&history, None)?;
        }
        check_card(registry, &self.card)?;
        for Provided { name, .. } in &self.card.provides {
            check_is_capability(name, &registry.history(name)?.unwrap_or_default())?;
        }
        Ok(())
    }

    /// Packs the files and puts the release into a registry: archive and card first, and the event that makes
    /// it a release last. A release that exists is never replaced.
    pub fn publish(mut self, registry: &Folder) -> Result<Published, RegistryError> {
        self.check(registry)?;
        for (file, contents) in self.card.files.iter_mut().zip(&self.parts) {
            let staged = pack::write_archive(contents, registry.stage()?)?;
            (file.sha256, file.size) = registry.keep(staged)?;
        }
        let (digest, _) = registry.keep(registry.stage_bytes(card_text(&self.card).as_bytes())?)?;
        // A provider whose release is not there yet harms nobody; a release that its capability doesn't know would.
        self.card.provides.iter().try_for_each(|provided| self.provide(registry, &provided.name))?;
        let appended = registry.append(&self.card.name, |history| {
            let is_there = self.refuse_second(history, Some(&self.card.files))?;
            Ok::<_, RegistryError>(if is_there {
                vec![]
            } else {
                vec![Event::Release(Box::new(self.card.entry(digest)))]
            })
        })?;
        Ok(Published { files: self.card.files, already: appended == 0 })
    }

    /// Notes with a capability that the package provides it.
    fn provide(&self, registry: &Folder, capability: &PackageName) -> Result<(), RegistryError> {
        let provider = Provider { by: self.card.name.clone(), at: self.card.published };
        registry.append(capability, |history| {
            check_is_capability(capability, history)?;
            let is_known = history.providers().contains(&provider.by);
            Ok::<_, RegistryError>(if is_known { vec![] } else { vec![Event::Provided(provider.clone())] })
        })?;
        Ok(())
    }

    /// Whether the registry has this release already; an error if it has another by this version.
    ///
    /// Before the archive is made only other needs or another licence can be seen.
    fn refuse_second(&self, history: &History, files: Option<&[FileRecord]>) -> Result<bool, RegistryError> {
        if !history.providers().is_empty() {
            let name = self.card.name.clone();
            return Err(RegistryError::NameTaken { name, there: "capability", wanted: "package" });
        }
        let Some(there) = history.release(&self.card.version) else { return Ok(false) };
        let entry = &there.entry;
        let same = entry.needs == self.card.needs
            && entry.components == self.card.components
            && entry.family == self.card.family
            && entry.provides == self.card.provides
            && entry.conflicts == self.card.conflicts
            && entry.fits == self.card.fits
            && entry.license == self.card.license
            && files.is_none_or(|files| entry.files == files);
        if same {
            return Ok(true);
        }
        Err(RegistryError::Exists { package: entry.name.clone(), version: entry.version.clone() })
    }
}

fn check_is_capability(name: &PackageName, history: &History) -> Result<(), RegistryError> {
    if history.releases().is_empty() {
        return Ok(());
    }
    Err(RegistryError::NameTaken { name: name.clone(), there: "package", wanted: "capability" })
}

/// A card as its file holds it.
pub fn card_text(card: &Card) -> String {
    // Texts, lists and maps with text keys: nothing in a card can fail to be JSON.
    serde_json::to_string(card).unwrap_or_default() + "\n"
}

fn card(manifest: &Manifest, published: Timestamp) -> Result<Card, RegistryError> {
    let project = &manifest.project;
    let part = manifest.card.clone();
    let version =
        project.version.clone().ok_or_else(|| RegistryError::NoVersion { project: project.name.clone() })?;
    Ok(Card {
        name: project.name.clone(),
        version,
        published,
        summary: part.summary,
        description: part.description,
        license: project.license.clone(),
        homepage: part.homepage,
        repository: part.repository,
        needs: manifest.needs.iter().map(CardNeed::from).collect(),
        components: part.components,
        family: part.family,
        provides: part.provides,
        conflicts: part.conflicts,
        fits: manifest.fits.clone(),
        tools: manifest.tools.clone(),
        files: Vec::new(),
        exposes: part.exposes,
        steps: part.steps,
        notes: part.notes,
    })
}

/// Every exposed path is a file that goes along, or a folder above one.
fn check_exposed(card: &Card, parts: &[Vec<PackFile>]) -> Result<(), RegistryError> {
    for (role, paths) in &card.exposes {
        for path in paths {
            let is_there = InnerPath::new(path).is_ok_and(|exposed| {
                let below = format!("{exposed}/");
                parts
                    .iter()
                    .flatten()
                    .any(|file| file.path == exposed || file.path.as_str().starts_with(&below))
            });
            if !is_there {
                return Err(RegistryError::ExposesNothing { role: role.clone(), path: path.clone() });
            }
        }
    }
    Ok(())
}

/// No two parts hold the same path, for they lie in one folder on a shelf; files of one part are for different targets.
fn check_apart(card: &Card, parts: &[Vec<PackFile>]) -> Result<(), RegistryError> {
    let mut holders: HashMap<String, &PartName> = HashMap::new();
    for (file, contents) in card.files.iter().zip(parts) {
        for packed in contents {
            let holder = holders.entry(packed.path.as_str().to_lowercase()).or_insert(&file.part);
            if **holder != file.part {
                let (one, other) = ((*holder).clone(), file.part.clone());
                return Err(RegistryError::PartsClash { file: packed.path.to_string(), one, other });
            }
        }
    }
    Ok(())
}
