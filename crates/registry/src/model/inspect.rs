//! Checks the archives of a release: unpacks them as an install would, with the same limits.

use std::io::Read;
use std::path::Path;

use bibliotax_archive::error::{ArchiveError, RefusedEntries};
use bibliotax_archive::unpack::unpack;
use bibliotax_core::card::{Card, FileRecord};
use bibliotax_core::name::PartName;
use bibliotax_disk::error::At;
use bibliotax_disk::temporary::hold_folder;

use crate::model::card_check::check_contents;
use crate::model::error::RegistryError;
use crate::model::staging::INSPECTED_PREFIX;

/// Opens an archive.
pub type OpenArchive<'o> = dyn Fn(&FileRecord) -> Result<Box<dyn Read + Send>, RegistryError> + 'o;

/// Looks into all archives of a card, but for those that are elsewhere: whether they can be installed, hold what the card exposes,
/// and lie well together. They are unpacked below `scratch`.
pub fn check_archives(card: &Card, scratch: &Path, open: &OpenArchive<'_>) -> Result<(), RegistryError> {
    if card.files.iter().any(FileRecord::is_elsewhere) {
        // What the card exposes may be in an archive that nobody has looked into yet.
        let here = card.files.iter().filter(|file| !file.is_elsewhere());
        return here.map(|file| contents(file, scratch, open)).try_for_each(|found| found.map(drop));
    }
    check_all_archives(card, scratch, open)
}

/// The same for all archives of a card, wherever they are.
pub fn check_all_archives(card: &Card, scratch: &Path, open: &OpenArchive<'_>) -> Result<(), RegistryError> {
    let held = card.files.iter().map(|file| Ok((&file.part, contents(file, scratch, open)?)));
    let held: Vec<(&PartName, Vec<String>)> = held.collect::<Result<_, RegistryError>>()?;
    let paths = held.iter().flat_map(|(part, paths)| paths.iter().map(|path| (*part, path.as_str())));
    check_contents(card, paths)
}

/// The paths in an archive.
fn contents(file: &FileRecord, scratch: &Path, open: &OpenArchive<'_>) -> Result<Vec<String>, RegistryError> {
    let folder =
        tempfile::Builder::new().prefix(INSPECTED_PREFIX).tempdir_in(scratch).at("write in", scratch)?;
    let _held = hold_folder(folder.path());
    let refused = |source| RegistryError::NotInstallable { digest: file.sha256, source };
    let unpacked = unpack(open(file)?, &file.archive(), folder.path()).map_err(refused)?;
    // Nobody knows where a release is going to be used.
    if !unpacked.elsewhere.is_empty() {
        return Err(refused(ArchiveError::Refused(RefusedEntries::elsewhere(&unpacked.elsewhere))));
    }
    Ok(unpacked.files.into_iter().map(|file| file.path.to_string()).collect())
}
