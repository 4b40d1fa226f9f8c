//! `registry mirror`: creates a copy of a registry, or updates it with what changed.

use bibliotax_core::name::NamePattern;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::model::upstream_archives::UpstreamArchives;
use bibliotax_registry::publish::mirror::{self, Mirrored, Target};
use bibliotax_registry::sources::direct_sources::DirectSources;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;
use crate::registry_words::{declaration, workspace_around};

/// What is copied, and where to.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The registry: its URL or its folder.
    pub from: String,
    /// The place of the copy.
    pub to: String,
    /// Only these packages: names, or beginnings of names before a `*`.
    pub packages: Vec<String>,
    /// Whether the archives that cards point at are kept, too.
    pub keeps_upstream: bool,
    /// Whether the registry is asked without encryption.
    pub is_plain: bool,
}

/// Brings a copy up to date, or only shows what it lacks; what came of it, and the registry's name.
pub fn mirror(
    request: &Request,
    is_dry_run: bool,
    context: &Context<'_>,
) -> Result<(Mirrored, String), Failure> {
    let from = source(request, context)?;
    let to = if is_dry_run {
        registry_storage::open(&request.to, context).ok()
    } else {
        Some(registry_storage::open_or_create(&request.to, context, from.name(), from.facets())?)
    };
    let to = match to.as_deref() {
        Some(storage) if !is_dry_run => Target::Copy(storage),
        storage => Target::DryRun(storage),
    };
    let patterns: Vec<NamePattern> = request.packages.iter().map(NamePattern::new).collect();
    let upstream = DirectSources::undeclared(context.folder, &context.environment.network());
    let upstream = request.keeps_upstream.then_some(&upstream as &dyn UpstreamArchives);
    let mirrored = mirror::mirror(&from, to, &patterns, upstream, context.listener)?;
    Ok((mirrored, from.name().to_owned()))
}

fn source(request: &Request, context: &Context<'_>) -> Result<Registry, Failure> {
    let workspace = workspace_around(Some(&request.from), context)?;
    let declared = workspace.as_ref().map_or(&[][..], |workspace| &workspace.declared.registries);
    let mut declaration = declaration(&request.from, declared, context)?;
    declaration.allowed.plain |= request.is_plain;
    let seen_from = workspace.as_ref().map_or(context.folder, |workspace| &workspace.root);
    Ok(Registry::open(&declaration, seen_from, &context.environment.network())?)
}
