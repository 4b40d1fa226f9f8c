//! `registry check`: reads and checks all that a registry holds.

use std::sync::Arc;

use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::model::storage::pending::{Cleared, Pending};
use bibliotax_registry::publish::audit::{Audit, audit};
use bibliotax_registry::publish::upstream_archives::check_upstream_archives;
use bibliotax_registry::sources::direct_sources::DirectSources;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// What was found.
pub struct Report {
    /// What was repaired first, with `--repair`.
    pub repaired: Option<Repaired>,
    /// What is wrong, and how much was read.
    pub audit: Audit,
    /// How many archives elsewhere were fetched and checked, where that was asked.
    pub upstream_archives: Option<usize>,
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
pub fn report(
    place: &str,
    repairs: bool,
    with_archives: bool,
    context: &Context<'_>,
) -> Result<Report, Failure> {
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
    let mut audit = audit(&registry, context.listener)?;
    let mut upstream_archives = None;
    if with_archives {
        let upstream = DirectSources::undeclared(context.folder, &context.environment.network());
        let source = Registry::of_storage(Arc::clone(&registry));
        let (archives, flaws) = check_upstream_archives(&*registry, &source, &upstream, context.listener)?;
        upstream_archives = Some(archives);
        audit.flaws.extend(flaws);
        audit.flaws.sort();
    }
    Ok(Report { repaired, audit, upstream_archives, pending, remains: remains.len(), remaining_bytes })
}
