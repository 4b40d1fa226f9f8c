//! `registry mirror`: creates a copy of a registry, or updates it with what changed.

use bibliotax_core::manifest::{Allowed, NamePattern, RegistryDeclaration};
use bibliotax_core::name::{RegistryName, nearest_package_name};
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::publish::mirror::{self, Mirrored};

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// What is copied, and where to.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The registry: its URL or its folder.
    pub from: String,
    /// The place of the copy.
    pub to: String,
    /// Only these packages: names, or beginnings of names before a `*`.
    pub packages: Vec<String>,
    /// Whether the registry is asked without encryption.
    pub is_plain: bool,
}

/// Brings a copy up to date, and tells `looked_at` the name of each package; what came of it, and the registry's name.
pub fn mirror(
    request: &Request,
    context: &Context<'_>,
    looked_at: &(dyn Fn(&str) + Sync),
) -> Result<(Mirrored, String), Failure> {
    let from = source(request, context)?;
    let to = registry_storage::open_or_create(&request.to, context, from.name(), from.facets())?;
    let patterns: Vec<NamePattern> = request.packages.iter().map(NamePattern::new).collect();
    let mirrored = mirror::mirror(&from, &*to, &patterns, &|name| looked_at(name.as_str()))?;
    Ok((mirrored, from.name().to_owned()))
}

fn source(request: &Request, context: &Context<'_>) -> Result<Registry, Failure> {
    let declaration = RegistryDeclaration {
        name: name_of(&request.from)?,
        url: request.from.clone(),
        mirrors: Vec::new(),
        allowed: Allowed { plain: request.is_plain, ..Allowed::default() },
        owns: Vec::new(),
        span: 0..0,
    };
    Ok(Registry::open(&declaration, context.folder, &context.environment.network())?)
}

/// The name of a registry that no manifest names: its host's.
pub fn name_of(url: &str) -> Result<RegistryName, Failure> {
    let host = url.split("://").nth(1).unwrap_or("registry").split(['/', ':']).next().unwrap_or_default();
    let name = nearest_package_name(host).map(|name| name.to_string().replace('/', "-"));
    Failure::read_word(name.as_deref().unwrap_or("registry"))
}
