//! The served registry: writable, or read-only.

use std::sync::Arc;

use bibliotax_registry::RegistryError;
use bibliotax_registry::model::storage::{ReadRegistry, RegistryStorage};

/// What is served.
#[derive(Clone)]
pub enum Served {
    /// A registry that can be published to.
    Writable(Arc<dyn RegistryStorage>),
    /// A copy in front of another registry.
    ReadOnly(Arc<dyn ReadRegistry>),
}

impl Served {
    /// The registry, to read.
    pub fn registry(&self) -> Arc<dyn ReadRegistry> {
        match self {
            Self::Writable(storage) => Arc::clone(storage) as _,
            Self::ReadOnly(registry) => Arc::clone(registry),
        }
    }

    /// The registry, to publish to.
    pub fn storage(&self) -> Result<&Arc<dyn RegistryStorage>, RegistryError> {
        match self {
            Self::Writable(storage) => Ok(storage),
            Self::ReadOnly(registry) => {
                Err(RegistryError::ReadOnly { place: registry.place().display().to_string() })
            }
        }
    }

    /// Sees that changes by several at once are kept apart, before anything is changed; how, where that differs from store to
    /// store.
    pub fn check_changes(&self) -> Result<Option<&'static str>, RegistryError> {
        match self {
            Self::Writable(storage) => storage.check_changes(),
            Self::ReadOnly(_) => Ok(None),
        }
    }
}
