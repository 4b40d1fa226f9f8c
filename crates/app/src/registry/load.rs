//! `registry load`: many cards and events at once.

use std::path::PathBuf;

use bibliotax_registry::model::upstream_archives::UpstreamArchives;
use bibliotax_registry::publish::load::{self, LoadOptions, Loaded};
use bibliotax_registry::sources::direct_sources::DirectSources;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// A file of cards and events.
pub struct Input {
    /// Where it is.
    pub path: PathBuf,
    /// The folder that paths in it are seen from; its own without it.
    pub beside: Option<PathBuf>,
}

/// What is done with cards beside loading them.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Whether archives that cards point at are fetched.
    pub fetches: bool,
    /// Why cards of releases that exist are corrected.
    pub revise: Option<String>,
    /// Whether all is only checked.
    pub is_dry_run: bool,
}

/// Loads files of cards and events into a registry, or only checks them; what came of it, and the registry's name. Archives that cards
/// point at may be fetched, for what cards don't say of them.
pub fn load(
    place: &str,
    files: &[Input],
    request: &Request,
    context: &Context<'_>,
) -> Result<(Loaded, String), Failure> {
    let registry = registry_storage::open(place, context)?;
    let upstream = DirectSources::undeclared(context.folder, &context.environment.network());
    let upstream = request.fetches.then_some(&upstream as &dyn UpstreamArchives);
    let options = LoadOptions { upstream, revise: request.revise.as_deref() };
    let mut loaded = Loaded::default();
    for file in files {
        let path = context.folder.join(&file.path);
        let beside = file.beside.as_deref();
        loaded +=
            load::load(&*registry, &path, beside, context.environment.now, request.is_dry_run, &options)?;
    }
    Ok((loaded, registry.name().to_owned()))
}
