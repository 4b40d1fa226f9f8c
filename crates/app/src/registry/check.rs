//! `registry check`: reads and checks all that a registry holds.

use bibliotax_registry::model::storage::pending::{Cleared, Pending};
use bibliotax_registry::publish::audit::{Audit, audit};

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// What was found.
pub struct Report {
    /// What was repaired first, with `--repair`.
    pub repaired: Option<Repaired>,
    /// What is wrong, and how much was read.
    pub audit: Audit,
    /// Uploads that no release names yet.
    pub pending: Vec<Pending>,
    /// How many temporary files processes that were killed left behind.
    pub remains: usize,
    /// Their bytes.
    pub remaining_bytes: u64,
}

/// What was put right.
pub struct Repaired {
    /// How many names the list has that was made again.
    pub names: usize,
    /// What was taken out.
    pub cleared: Cleared,
}

/// Reads all of a registry; repairs what it can, if asked to.
pub fn report(place: &str, repairs: bool, context: &Context<'_>) -> Result<Report, Failure> {
    let registry = registry_storage::open(place, context)?;
    let repaired = if repairs {
        let names = registry.rebuild_name_list()?;
        Some(Repaired { names, cleared: registry.clear_uploads()? })
    } else {
        None
    };
    let remains = registry.remains()?;
    let pending = registry.pending()?;
    let remaining_bytes = remains.iter().map(|remains| remains.bytes).sum();
    let audit = audit(&registry, context.listener)?;
    Ok(Report { repaired, audit, pending, remains: remains.len(), remaining_bytes })
}
