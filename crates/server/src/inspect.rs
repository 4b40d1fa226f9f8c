//! What an archive holds that is to become part of a release: unpacked as installing would, under the same guard.

use std::collections::{BTreeSet, HashMap};

use axum::http::StatusCode;
use bibliotax_core::card::{Card, FileRecord};
use bibliotax_core::digest::Digest;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::name::PartName;
use bibliotax_disk::write::make_folder;
use bibliotax_registry::RegistryError;
use bibliotax_registry::folder::Folder;
use bibliotax_store::unpack::unpack;

use crate::problem::Problem;

/// Looks into all archives of a card: whether they can be installed, hold what the card exposes, and lie well together.
pub fn check_archives(registry: &Folder, card: &Card) -> Result<(), Problem> {
    let mut paths: BTreeSet<String> = BTreeSet::new();
    let mut holders: HashMap<String, &PartName> = HashMap::new();
    let mut seen: BTreeSet<String> = BTreeSet::new();
    for file in &card.files {
        if !seen.insert(format!("{} {}", file.part, file.sha256)) {
            continue;
        }
        for path in contents(registry, file)? {
            let holder = holders.entry(path.to_lowercase()).or_insert(&file.part);
            if **holder != file.part {
                let (one, other) = ((*holder).clone(), file.part.clone());
                return Err(RegistryError::PartsClash { file: path, one, other }.into());
            }
            paths.insert(path);
        }
    }
    check_exposed(card, &paths)
}

/// The paths in an archive.
fn contents(registry: &Folder, file: &FileRecord) -> Result<Vec<String>, Problem> {
    let archive = registry.open_file(&file.sha256)?;
    let private = registry.root().join("private");
    make_folder(&private).map_err(RegistryError::from)?;
    let folder = tempfile::tempdir_in(&private)
        .map_err(|_| Problem::broken("there is no room to look into archives"))?;
    let listing =
        unpack(archive, &file.archive(), folder.path()).map_err(|error| refused(&file.sha256, &error))?;
    Ok(listing.files.into_iter().map(|file| file.path).collect())
}

fn refused(digest: &Digest, error: &bibliotax_store::error::ArchiveError) -> Problem {
    let detail = format!("the archive {digest} can't be installed: {error}");
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "archive.refused", detail)
}

fn check_exposed(card: &Card, paths: &BTreeSet<String>) -> Result<(), Problem> {
    for (role, exposed) in &card.exposes {
        for path in exposed {
            let is_there = InnerPath::new(path).is_ok_and(|exposed| {
                let below = format!("{exposed}/");
                paths.contains(exposed.as_str())
                    || paths.range(below.clone()..).next().is_some_and(|p| p.starts_with(&below))
            });
            if !is_there {
                let (role, path) = (role.clone(), path.clone());
                return Err(RegistryError::ExposesNothing { role, path }.into());
            }
        }
    }
    Ok(())
}
