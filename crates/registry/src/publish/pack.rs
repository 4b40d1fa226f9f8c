//! From a project folder to a release: its plan, and publishing it.

use std::ops::Deref;
use std::path::Path;
use std::sync::Arc;

use bibliotax_core::card::{ArchiveFormat, Card, CardNeed, FileRecord, MAIN, main_part};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Fits;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::{Manifest, ProjectDeclaration};
use bibliotax_core::name::{PackageName, PartName};
use bibliotax_core::progress::ProgressListener;
use jiff::Timestamp;

use crate::catalogue::registry::{Publisher, Registry};
use crate::model::card_check::check_contents;
use crate::model::error::RegistryError;
pub use crate::model::release::{Published, Release};
use crate::model::release_check::CheckedFor;
use crate::model::storage::{ReadRegistryExt, RegistryStorage, WriteRegistryExt};
use crate::publish::admit_release::admit_release;
use bibliotax_archive::pack;
use bibliotax_archive::secrets::{Suspect, suspect_in};
use bibliotax_archive::select::{LeftOut, PackFile, select, select_part};

/// A file of a release that looks as if it held a secret.
#[derive(Debug)]
pub struct SuspectFile {
    /// Its path inside the package.
    pub path: InnerPath,
    /// Where in it, and what it looks like.
    pub suspect: Suspect,
}

/// Puts together the release of the project in `folder`, which its manifest describes, with these needs.
pub fn prepare(
    manifest: &Manifest,
    project: &ProjectDeclaration,
    needs: Vec<CardNeed>,
    folder: &Path,
    published: Timestamp,
) -> Result<Release, RegistryError> {
    let version =
        project.version.clone().ok_or_else(|| RegistryError::NoVersion { project: project.name.clone() })?;
    let mut card = manifest.card_of(project, version, needs, published);
    if card.charter.is_some() && manifest.card.files.is_none() {
        // What it needs is only for trying it.
        card.needs.clear();
        check_contents(&card, [].into_iter())?;
        return Ok(Release { card, parts: Vec::new(), left_out: Vec::new() });
    }
    let (mut parts, mut left_out) = (Vec::new(), Vec::new());
    let declared = &manifest.card.parts;
    let is_main_declared = declared.iter().any(|part| part.part.as_str() == MAIN);
    if !is_main_declared || manifest.card.files.is_some() {
        let apart: Vec<&InnerPath> = declared.iter().map(|part| &part.from).collect();
        let selected = select(folder, manifest.card.files.as_deref(), &apart)?;
        // A release may be nothing but what it needs.
        let is_bare =
            manifest.card.files.is_none() && selected.files.is_empty() && selected.left_out.is_empty();
        if !is_bare {
            card.files.push(unpacked(main_part(), Fits::new()));
            parts.push((folder.to_owned(), selected.files));
        }
        left_out.extend(selected.left_out);
    }
    for part in declared {
        let folder = folder.join(part.from.as_str());
        let selected = select_part(&folder, part.files.as_deref())?;
        let in_project = |left: LeftOut| LeftOut { path: format!("{}/{}", part.from, left.path), ..left };
        left_out.extend(selected.left_out.into_iter().map(in_project));
        card.files.push(unpacked(part.part.clone(), part.only_for.clone()));
        parts.push((folder, selected.files));
    }
    if let Some((path, _)) = parts.iter().find(|(_, files)| files.is_empty()) {
        return Err(RegistryError::NoFiles { path: path.clone(), left_out });
    }
    let parts: Vec<Vec<PackFile>> = parts.into_iter().map(|(_, files)| files).collect();
    let contents = card.files.iter().zip(&parts);
    let paths =
        contents.flat_map(|(file, files)| files.iter().map(|packed| (&file.part, packed.path.as_str())));
    check_contents(&card, paths)?;
    Ok(Release { card, parts, left_out })
}

/// What a card says of an archive that is not packed yet.
fn unpacked(part: PartName, only_for: Fits) -> FileRecord {
    let (sha256, strip, url) = (Digest::of(b""), None, None);
    let (include, exclude) = (Vec::new(), Vec::new());
    FileRecord {
        part,
        only_for,
        sha256,
        size: 0,
        format: ArchiveFormat::TarZst,
        strip,
        include,
        exclude,
        url,
    }
}

impl Release {
    /// The bytes of all files before packing.
    pub fn size(&self) -> u64 {
        self.parts.iter().flatten().map(|file| file.size).sum()
    }

    /// The files that look as if they held secrets, by what is in them.
    pub fn suspects(&self) -> Result<Vec<SuspectFile>, RegistryError> {
        let found = self.parts.iter().flatten().map(|file| {
            let suspect = suspect_in(&file.from)?;
            Ok(suspect.map(|suspect| SuspectFile { path: file.path.clone(), suspect }))
        });
        found.filter_map(Result::transpose).collect()
    }

    /// The release, if a registry could take it.
    pub fn acceptable_to(self, registry: &Registry) -> Result<Acceptable, RegistryError> {
        check_acceptable(registry, &self.card)?;
        Ok(Acceptable(self))
    }

    /// Packs the files and puts the release where the registry is kept: archives first, then what makes it a release.
    pub fn publish(mut self, registry: &Arc<dyn RegistryStorage>) -> Result<Published, RegistryError> {
        for (file, contents) in self.card.files.iter_mut().zip(&self.parts) {
            let staged = pack::write_archive(contents, registry.stage()?)?;
            if !registry.has_file(&staged.digest())? {
                registry.mark(&staged.digest(), staged.size())?;
            }
            (file.sha256, file.size) = registry.keep(staged)?;
        }
        let already = admit_release(registry, &self.card, || Ok(()))?;
        Ok(Published { files: self.card.files, already })
    }
}

/// A release that a registry could take, as far as that is known before its archives are there.
pub struct Acceptable(Release);

impl Deref for Acceptable {
    type Target = Release;

    fn deref(&self) -> &Release {
        &self.0
    }
}

impl Acceptable {
    /// Publishes the release to the registry that could take it.
    pub fn publish_to(
        self,
        registry: &Registry,
        listener: &dyn ProgressListener,
    ) -> Result<Published, RegistryError> {
        match registry.publisher()? {
            Publisher::Storage(storage) => self.0.publish(&storage),
            Publisher::Server(remote) => remote.publish(self.0, listener),
            Publisher::Containers(oci) => oci.publish(self.0, listener),
        }
    }
}

/// Whether a registry could take a card, before its files are there.
fn check_acceptable(registry: &Registry, card: &Card) -> Result<(), RegistryError> {
    let facets = registry.all_facets();
    let checked_for = CheckedFor {
        name: registry.name(),
        facets: &facets,
        history: |name: &PackageName| registry.recent_history(name),
        card_text: |digest: &Digest| registry.card_text(&card.name, digest).map(Some),
    };
    checked_for.has_release(card, false).map(drop)
}
