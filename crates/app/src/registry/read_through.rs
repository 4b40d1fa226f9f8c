//! The storage that `registry serve` serves: a registry itself, or a read-through copy of another.

use std::sync::Arc;
use std::time::Duration;

use bibliotax_core::manifest::Allowed;
use bibliotax_registry::client::http::Remote;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::model::description::DESCRIPTION;
use bibliotax_registry::model::storage::ReadRegistry;
use bibliotax_registry::storage::read_through::{Freshness, ReadThrough};

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_words::name_of;

/// A copy in front of a registry.
#[derive(Debug, Clone)]
pub struct Request {
    /// The folder of the copy.
    pub folder: String,
    /// The registry's URL.
    pub url: String,
    /// After how long the registry is asked again.
    pub fresh: Duration,
    /// Whether older answers are given where it can't be reached.
    pub is_stale_allowed: bool,
}

/// Opens a copy in front of a registry.
pub fn open(request: &Request, context: &Context<'_>) -> Result<Arc<dyn ReadRegistry>, Failure> {
    let folder = context.folder.join(&request.folder);
    if folder.join(DESCRIPTION).exists() {
        let what = format!("{} is a registry, not a cache of another one", folder.display());
        return Err(Failure::new("registry.not-empty", what).advice("choose a new or empty folder"));
    }
    let stale = request.is_stale_allowed;
    let behind = Network { cache: Some(folder.join("answers")), stale, ..context.environment.network() };
    let remote = Remote::open(&name_of(&request.url)?, &request.url, &Allowed::default(), &behind)?;
    let freshness = Freshness { fresh: request.fresh, stale };
    Ok(Arc::new(ReadThrough::new(remote, folder, freshness)?))
}
