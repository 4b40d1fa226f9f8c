//! Archives where their authors have them.

use std::io::Read;
use std::path::PathBuf;

use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::name::PackageName;

use super::error::RegistryError;

/// Fetches archives from where their authors have them.
pub trait UpstreamArchives: Sync {
    /// Opens an archive.
    fn open(&self, package: &PackageName, url: &str) -> Result<Box<dyn Read + Send>, RegistryError>;

    /// Fetches an archive, packed in this format or as its bytes tell; it, and where it is on this disk.
    fn fetch(
        &self,
        package: &PackageName,
        url: &str,
        format: Option<ArchiveFormat>,
    ) -> Result<(Archive, PathBuf), RegistryError>;
}
