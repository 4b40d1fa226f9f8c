//! What an archive holds that is to become part of a release: unpacked as installing would, under the same guard.

use axum::http::StatusCode;
use bibliotax_archive::unpack::unpack;
use bibliotax_core::card::{Card, FileRecord};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PartName;
use bibliotax_disk::remains::hold_folder;
use bibliotax_registry::check::check_contents;
use bibliotax_registry::keep::Keep;
use bibliotax_registry::staged::LOOKED_INTO;

use crate::problem::Problem;

/// Looks into all archives of a card: whether they can be installed, hold what the card exposes, and lie well together.
pub fn check_archives(registry: &dyn Keep, card: &Card) -> Result<(), Problem> {
    if card.files.iter().any(FileRecord::is_elsewhere) {
        // What nobody looked into is taken in by those who keep the registry, with `registry load`.
        let detail = "a release that is published brings its files; here some are elsewhere";
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "card.file", detail));
    }
    let held = card.files.iter().map(|file| Ok((&file.part, contents(registry, file)?)));
    let held: Vec<(&PartName, Vec<String>)> = held.collect::<Result<_, Problem>>()?;
    let paths = held.iter().flat_map(|(part, paths)| paths.iter().map(|path| (*part, path.as_str())));
    Ok(check_contents(card, paths)?)
}

/// The paths in an archive.
fn contents(registry: &dyn Keep, file: &FileRecord) -> Result<Vec<String>, Problem> {
    let archive = registry.open_file(&file.sha256)?;
    let folder = tempfile::Builder::new().prefix(LOOKED_INTO).tempdir_in(registry.scratch()?);
    let folder = folder.map_err(|_| Problem::broken("there is no room to look into archives"))?;
    let _held = hold_folder(folder.path());
    let listing =
        unpack(archive, &file.archive(), folder.path()).map_err(|error| refused(&file.sha256, &error))?;
    Ok(listing.files.into_iter().map(|file| file.path.to_string()).collect())
}

fn refused(digest: &Digest, error: &bibliotax_archive::error::ArchiveError) -> Problem {
    let detail = format!("the archive {digest} can't be installed: {error}");
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "archive.refused", detail)
}
