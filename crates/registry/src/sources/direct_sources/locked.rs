//! Packages from elsewhere as they are locked, by their files in the store, where their sources can't be asked.

use bibliotax_core::lock::LockedPackage;
use bibliotax_core::manifest::{DeclaredSource, FILE_NAME, GitPoint};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Listing;
use bibliotax_core::source::{GitSource, Source};
use bibliotax_disk::read::read_text;
use jiff::Timestamp;

use super::{DirectSources, Found, MAX_MANIFEST_SIZE};
use crate::model::error::RegistryError;

impl DirectSources {
    /// A package with just the release that it is locked to, by its files in the store; `None` where they aren't there, or aren't of what
    /// is declared.
    pub fn listing_in_store(&self, package: &PackageName) -> Result<Option<Listing>, RegistryError> {
        let (Some(declared), Some(locked)) = (self.declared.get(package), self.locked.get(package)) else {
            return Ok(None);
        };
        if !is_of(&declared.source, locked) {
            return Ok(None);
        }
        let Some(manifest) = self.manifest_in_store(locked) else { return Ok(None) };
        let found = Found {
            package,
            place: locked.source.to_string(),
            manifest,
            root: None,
            stated: declared.source.card(),
            version: Some(locked.version.clone()),
            otherwise: locked.version.clone(),
            published: Timestamp::UNIX_EPOCH,
        };
        Ok(Listing::of_own([(locked.source.clone(), found.card()?)]))
    }

    /// The manifest among the files of a locked package, if they have one; `None` where the store hasn't the files.
    fn manifest_in_store(&self, locked: &LockedPackage) -> Option<Option<String>> {
        let tree = locked.files.first()?.tree();
        let files = self.network.trees.as_ref()?.join(tree.folder()).join(tree.to_string()).join("files");
        files.is_dir().then(|| read_text(&files.join(FILE_NAME), MAX_MANIFEST_SIZE).ok().flatten())
    }
}

/// Whether a package is locked to what is declared: this archive, or what is taken of this repository.
fn is_of(declared: &DeclaredSource, locked: &LockedPackage) -> bool {
    match (declared, &locked.source) {
        (DeclaredSource::Git(git), Source::Git(source)) => {
            (&git.url, &git.subfolder) == (&source.git, &source.subfolder) && is_at(&git.at, source)
        }
        (DeclaredSource::Archive(archive), Source::Archive(source)) => {
            archive.url == source.archive && locked.files.iter().all(|file| file.sha256 == archive.sha256)
        }
        _ => false,
    }
}

fn is_at(declared: &GitPoint, source: &GitSource) -> bool {
    let at = source.at.as_deref().unwrap_or_default();
    match declared {
        GitPoint::Tag(name) => at.strip_prefix("tag ") == Some(name),
        GitPoint::Branch(name) => at.strip_prefix("branch ") == Some(name),
        GitPoint::Commit(commit) => *commit == source.commit,
        GitPoint::Releases(_) => at.starts_with("tag "),
    }
}
