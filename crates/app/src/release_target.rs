//! The registry that `publish`, `withdraw` and `deprecate` act on.

use bibliotax_core::nearest::{either, nearest};
use bibliotax_registry::catalogue::registry::Registry;

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

/// The registry that a word means: one that the manifest declares, or a registry's folder.
pub fn registry_meant(
    word: Option<&str>,
    workspace: Option<&WorkspaceFolder>,
    context: &Context<'_>,
) -> Result<Registry, Failure> {
    let declared = workspace.map_or(&[][..], |workspace| &workspace.declared.registries);
    let chosen = match (word, declared) {
        (Some(name), _) => declared.iter().find(|registry| registry.name.as_str() == name),
        (None, [only]) => Some(only),
        (None, _) => None,
    };
    if let (Some(registry), Some(workspace)) = (chosen, workspace) {
        return Ok(workspace.open_registry(registry, context.environment)?);
    }
    let names: Vec<&str> = declared.iter().map(|registry| registry.name.as_str()).collect();
    let Some(word) = word else { return Err(not_said(&names)) };
    if context.folder.join(word).is_dir() || word.contains(['/', '\\']) {
        return Ok(Registry::of_storage(registry_storage::open(word, context)?));
    }
    let near = nearest(word, names.iter().copied(), 2);
    let failure = Failure::new("publish.where", format!("`{word}` is no declared registry and no folder"));
    Err(if near.is_empty() { failure } else { failure.advice(either(&near)) })
}

fn not_said(names: &[&str]) -> Failure {
    let failure = Failure::new("publish.where", "several registries are declared, and none is named");
    failure.advice(if names.is_empty() {
        "name a registry's folder, such as `../registry`".to_owned()
    } else {
        format!("name one: {}", either(names))
    })
}
