//! Fetches archives for an install, from the registries of a workspace.

use std::sync::OnceLock;

use bibliotax_core::card::Archive;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;
use bibliotax_store::install::{OpenedArchive, Supplier};

use crate::environment::Environment;
use crate::search_options::SearchOptions;
use crate::workspace::WorkspaceFolder;

/// Archives from the registries of a workspace, which are opened, if they aren't yet, only when something is fetched.
pub struct Archives<'w> {
    workspace: &'w WorkspaceFolder,
    declared: &'w Workspace,
    environment: &'w Environment,
    opened: OnceLock<Registries>,
}

impl<'w> Archives<'w> {
    /// Those of a workspace that declares this; from these registries, where they are opened.
    pub fn new(
        workspace: &'w WorkspaceFolder,
        declared: &'w Workspace,
        environment: &'w Environment,
        opened: Option<&Registries>,
    ) -> Self {
        let opened = opened.map(|opened| OnceLock::from(opened.again())).unwrap_or_default();
        Self { workspace, declared, environment, opened }
    }

    /// The registries.
    pub fn registries(&self) -> Result<&Registries, RegistryError> {
        if let Some(opened) = self.opened.get() {
            return Ok(opened);
        }
        let network = self.environment.network_for(&SearchOptions::default());
        let opened = self.workspace.open_registries(self.declared, Freshness::Locked, &network)?;
        Ok(self.opened.get_or_init(|| opened))
    }
}

impl Supplier for Archives<'_> {
    type Error = RegistryError;

    fn places(&self, package: &LockedPackage, archive: &Archive) -> usize {
        // Where they can't be opened, opening an archive says why.
        self.registries().map_or(1, |registries| registries.places(&package.name, &package.source, archive))
    }

    fn is_resumable(&self, package: &LockedPackage, archive: &Archive) -> bool {
        let registries = self.registries();
        registries.is_ok_and(|registries| registries.is_resumable(&package.name, &package.source, archive))
    }

    fn open(
        &self,
        package: &LockedPackage,
        archive: &Archive,
        place: usize,
        from: u64,
    ) -> Result<OpenedArchive, RegistryError> {
        let registries = self.registries()?;
        let (bytes, from) = registries.open_archive(&package.name, &package.source, archive, place, from)?;
        Ok(OpenedArchive { bytes, from })
    }

    fn concurrency(&self) -> Option<usize> {
        self.environment.settings.settings.concurrency
    }

    fn is_hopeless_after(&self, error: &RegistryError) -> bool {
        matches!(
            error,
            RegistryError::Unreachable { .. }
                | RegistryError::Offline { .. }
                | RegistryError::GitOffline { .. }
        )
    }
}
