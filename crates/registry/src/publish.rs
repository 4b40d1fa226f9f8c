//! From a project folder to a release: what would go, and its going.

use std::path::Path;

use bibliotax_core::card::{ArchiveFormat, Card, CardNeed, Event, FileRecord, Provided, Provider, main_part};
use bibliotax_core::facet::Fits;
use bibliotax_core::history::History;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::Manifest;
use bibliotax_core::name::PackageName;
use jiff::Timestamp;

use crate::error::RegistryError;
use crate::folder::Folder;
use crate::pack::{self, PackFile};

/// A release that is ready to go.
#[derive(Debug)]
pub struct Release {
    /// Its card, yet without files.
    pub card: Card,
    /// The files that go into its archive.
    pub files: Vec<PackFile>,
}

/// What publishing did.
#[derive(Debug)]
pub struct Published {
    /// The archive.
    pub file: FileRecord,
    /// Whether this very release was there already.
    pub already: bool,
}

/// Puts together the release that the manifest in `project` describes.
pub fn prepare(manifest: &Manifest, project: &Path, published: Timestamp) -> Result<Release, RegistryError> {
    let card = card(manifest, published)?;
    let files = pack::list(project, manifest.card.files.as_deref())?;
    if files.is_empty() {
        return Err(RegistryError::NoFiles { path: project.to_owned() });
    }
    check_exposed(&card, &files)?;
    Ok(Release { card, files })
}

impl Release {
    /// The bytes of all files before packing.
    pub fn size(&self) -> u64 {
        self.files.iter().map(|file| file.size).sum()
    }

    /// Packs the files and puts the release into a registry: archive and card first, and the event that makes
    /// it a release last. A release that exists is never replaced.
    pub fn publish(mut self, registry: &Folder) -> Result<Published, RegistryError> {
        if let Some(history) = registry.history(&self.card.name)? {
            self.refuse_second(&history, None)?;
        }
        registry.check_fits(&self.card.fits).map_err(|problem| {
            let what = format!("`[fits]`, as the registry {} knows facets", registry.name());
            RegistryError::Facet { what, problem }
        })?;
        for Provided { name, .. } in &self.card.provides {
            check_is_capability(name, &registry.history(name)?.unwrap_or_default())?;
        }
        let staged = pack::write_archive(&self.files, registry.stage()?)?;
        let (sha256, size) = registry.keep(staged)?;
        let file = FileRecord { part: main_part(), sha256, size, format: ArchiveFormat::TarZst };
        self.card.files = vec![file.clone()];
        let (digest, _) = registry.keep(registry.stage_bytes(card_text(&self.card).as_bytes())?)?;
        // A provider whose release is not there yet harms nobody; a release that its capability doesn't know would.
        self.card.provides.iter().try_for_each(|provided| self.provide(registry, &provided.name))?;
        let appended = registry.append(&self.card.name, |history| {
            let is_there = self.refuse_second(history, Some(&file))?;
            Ok::<_, RegistryError>(if is_there {
                vec![]
            } else {
                vec![Event::Release(Box::new(self.card.entry(digest)))]
            })
        })?;
        Ok(Published { file, already: appended == 0 })
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
    fn refuse_second(&self, history: &History, file: Option<&FileRecord>) -> Result<bool, RegistryError> {
        if !history.providers().is_empty() {
            let name = self.card.name.clone();
            return Err(RegistryError::NameTaken { name, there: "capability", wanted: "package" });
        }
        let Some(there) = history.release(&self.card.version) else { return Ok(false) };
        let entry = &there.entry;
        let same = entry.needs == self.card.needs
            && entry.family == self.card.family
            && entry.provides == self.card.provides
            && entry.conflicts == self.card.conflicts
            && entry.fits == self.card.fits
            && entry.license == self.card.license
            && file.is_none_or(|file| entry.files == [file.clone()]);
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
    let needs = manifest.needs.iter().map(|need| CardNeed {
        name: need.package.clone(),
        range: need.range.clone(),
        prereleases: need.prereleases,
        when: Fits::new(),
        purpose: need.purpose.clone(),
    });
    Ok(Card {
        name: project.name.clone(),
        version,
        published,
        summary: part.summary,
        description: part.description,
        license: project.license.clone(),
        homepage: part.homepage,
        repository: part.repository,
        needs: needs.collect(),
        family: part.family,
        provides: part.provides,
        conflicts: part.conflicts,
        fits: manifest.fits.clone(),
        tools: manifest.tools.clone(),
        files: Vec::new(),
        exposes: part.exposes,
        notes: part.notes,
    })
}

/// Every exposed path is a file that goes along, or a folder above one.
fn check_exposed(card: &Card, files: &[PackFile]) -> Result<(), RegistryError> {
    for (role, paths) in &card.exposes {
        for path in paths {
            let is_there = InnerPath::new(path).is_ok_and(|exposed| {
                let below = format!("{exposed}/");
                files.iter().any(|file| file.path == exposed || file.path.as_str().starts_with(&below))
            });
            if !is_there {
                return Err(RegistryError::ExposesNothing { role: role.clone(), path: path.clone() });
            }
        }
    }
    Ok(())
}
