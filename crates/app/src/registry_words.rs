//! Registries as people name them on a command line: a declared name, a folder, a URL, `s3://…` or `oci://…`.

use bibliotax_core::location::Location;
use bibliotax_core::manifest::{Allowed, RegistryDeclaration};
use bibliotax_core::name::{RegistryName, nearest_package_name};
use bibliotax_core::nearest::{either, nearest};
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::storage::bucket::SCHEME;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;
use crate::workspace::WorkspaceFolder;

/// The workspace around the context's folder; none where there is none and the registry is named.
pub fn workspace_around(
    registry: Option<&str>,
    context: &Context<'_>,
) -> Result<Option<WorkspaceFolder>, Failure> {
    match WorkspaceFolder::find(context.folder) {
        Err(failure) if failure.code == "manifest.missing" && registry.is_some() => Ok(None),
        found => found.map(Some),
    }
}

/// The registry that a word means; without a word, the only one that is declared.
pub fn registry_meant(
    word: Option<&str>,
    workspace: Option<&WorkspaceFolder>,
    context: &Context<'_>,
) -> Result<Registry, Failure> {
    let declared = workspace.map_or(&[][..], |workspace| &workspace.declared.registries);
    let meant = match (word, declared) {
        (Some(word), _) => word,
        (None, [only]) => only.name.as_str(),
        (None, _) => return Err(not_said(declared)),
    };
    let known = workspace.and_then(|workspace| Some((workspace, named(meant, declared)?)));
    if let Some((workspace, registry)) = known {
        return Ok(workspace.open_registry(registry, context.environment)?);
    }
    open(meant, declared, context)
}

/// Opens a registry that a word means, whether it is declared or a place.
pub fn open(
    word: &str,
    declared: &[RegistryDeclaration],
    context: &Context<'_>,
) -> Result<Registry, Failure> {
    if word.starts_with(SCHEME) {
        return Ok(Registry::of_storage(registry_storage::open(word, context)?));
    }
    let declaration = declaration(word, declared, context)?;
    Ok(Registry::open(&declaration, context.folder, &context.environment.network())?)
}

/// The declaration of the registry that a word means: one that is declared, or one of its own for a folder or URL.
pub fn declaration(
    word: &str,
    declared: &[RegistryDeclaration],
    context: &Context<'_>,
) -> Result<RegistryDeclaration, Failure> {
    if let Some(registry) = named(word, declared) {
        return Ok(registry.clone());
    }
    let url = match Location::of(word) {
        Location::Url { .. } => word.to_owned(),
        _ if context.folder.join(word).is_dir() || word.contains(['/', '\\']) => {
            context.folder.join(word).display().to_string()
        }
        _ => return Err(unknown(word, declared)),
    };
    Ok(undeclared(name_of(word)?, url, Allowed::default()))
}

/// The declaration of a registry that no manifest names.
pub fn undeclared(name: RegistryName, url: String, allowed: Allowed) -> RegistryDeclaration {
    RegistryDeclaration { name, url, mirrors: Vec::new(), allowed, owns: Vec::new(), span: 0..0 }
}

/// The name of a registry that no manifest names: its host's or folder's.
pub fn name_of(place: &str) -> Result<RegistryName, Failure> {
    let end = match Location::of(place) {
        Location::Url { rest, .. } => rest.split(['/', ':']).next(),
        _ => place.trim_end_matches(['/', '\\']).rsplit(['/', '\\']).next(),
    };
    let name = nearest_package_name(end.unwrap_or_default()).map(|name| name.to_string().replace('/', "-"));
    Failure::read_word(name.as_deref().unwrap_or("registry"))
}

fn named<'d>(name: &str, declared: &'d [RegistryDeclaration]) -> Option<&'d RegistryDeclaration> {
    declared.iter().find(|registry| registry.name.as_str() == name)
}

fn unknown(word: &str, declared: &[RegistryDeclaration]) -> Failure {
    let near = nearest(word, declared.iter().map(|registry| registry.name.as_str()), 2);
    let message = format!("`{word}` is neither a declared registry nor a folder or URL");
    let failure = Failure::new("registry.which", message);
    if near.is_empty() { failure } else { failure.advice(either(&near)) }
}

fn not_said(declared: &[RegistryDeclaration]) -> Failure {
    let names: Vec<&str> = declared.iter().map(|registry| registry.name.as_str()).collect();
    if names.is_empty() {
        return Failure::new("registry.which", "no registry is named, and the manifest declares none")
            .advice("name a registry's folder or URL, such as `../registry`");
    }
    Failure::new("registry.which", "no registry is named, and the manifest declares several")
        .advice(format!("name one: {}", either(&names)))
}
