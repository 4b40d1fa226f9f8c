//! The registries that a command has opened, each once for all threads.

use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use bibliotax_core::manifest::{Allowed, RegistryDeclaration};
use bibliotax_core::name::RegistryName;

use crate::catalogue::registry::Registry;
use crate::client::network::Network;
use crate::model::error::RegistryError;

/// Where a registry comes to be once it is opened; held while somebody opens it.
type Slot = Arc<Mutex<Option<Registry>>>;

/// What makes two declarations the same registry.
type Key = (RegistryName, String, Vec<String>, Allowed);

/// Opens registries, and knows those that it opened.
#[derive(Clone, Default)]
pub struct Connections {
    opened: Arc<Mutex<HashMap<Key, Slot>>>,
}

impl Connections {
    /// The registry that a manifest in `project` declares. One that couldn't be opened is tried again by who asks next.
    pub fn open(
        &self,
        declaration: &RegistryDeclaration,
        project: &Path,
        network: &Network,
    ) -> Result<Registry, RegistryError> {
        let RegistryDeclaration { name, url, mirrors, allowed, .. } = declaration.clone();
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        let slot = Arc::clone(opened.entry((name, url, mirrors, allowed)).or_default());
        drop(opened);
        let mut slot = slot.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(registry) = &*slot {
            return Ok(registry.clone());
        }
        let registry = Registry::open(declaration, project, network)?;
        *slot = Some(registry.clone());
        Ok(registry)
    }
}
