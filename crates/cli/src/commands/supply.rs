//! What `publish`, `withdraw` and `deprecate` share: which registry is meant, and changes of how releases stand.

use std::path::Path;

use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::model::standing::Change;
use serde_json::json;

use crate::clock::now;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::kept;
use crate::project::Project;
use crate::ui::{Ui, style, styled};

/// The project around a folder; none is wanted where it is said which registry is meant.
pub fn project(word: Option<&str>, here: &Path) -> Result<Option<Project>, Failure> {
    match Project::find(here) {
        Err(failure) if failure.code == "manifest.missing" && word.is_some() => Ok(None),
        found => found.map(Some),
    }
}

/// The registry that is meant: one that the manifest declares, or a registry's folder.
pub fn registry(word: Option<&str>, project: Option<&Project>, here: &Path) -> Result<Registry, Failure> {
    let declared = project.map_or(&[][..], |project| &project.workspace.registries);
    let chosen = match (word, declared) {
        (Some(name), _) => declared.iter().find(|registry| registry.name.as_str() == name),
        (None, [only]) => Some(only),
        (None, _) => None,
    };
    if let (Some(registry), Some(project)) = (chosen, project) {
        return project.registry(registry);
    }
    let names: Vec<&str> = declared.iter().map(|registry| registry.name.as_str()).collect();
    let Some(word) = word else {
        let failure = Failure::new("publish.where", "it isn't said which registry is meant");
        return Err(failure.mend(if names.is_empty() {
            "name a registry's folder, such as `../registry`".to_owned()
        } else {
            format!("name one: {}", either(&names))
        }));
    };
    if here.join(word).is_dir() || word.contains(['/', '\\']) {
        return Ok(Registry::Kept(kept::open(word, here)?));
    }
    let near = nearest(word, names.iter().copied(), 2);
    let failure = Failure::new("publish.where", format!("`{word}` is no declared registry and no folder"));
    Err(if near.is_empty() { failure } else { failure.mend(format!("perhaps {} was meant", either(&near))) })
}

/// Changes how releases of a package stand, and says so.
pub fn change(
    ui: &Ui,
    registry: &Registry,
    name: &PackageName,
    change: &Change,
    dry_run: bool,
) -> Result<Exit, Failure> {
    let (done, command) = match change {
        Change::Withdraw { .. } => ("withdrawn", "withdraw"),
        Change::Restore { .. } => ("restored", "withdraw"),
        Change::Deprecate { .. } => ("deprecated", "deprecate"),
        Change::Undeprecate { .. } => ("no longer deprecated", "deprecate"),
    };
    let title = format!("{name} {}", change.what());
    let already = if dry_run {
        ui.say(format!("{title} would be {done} in {}; nothing was written", registry.name()));
        false
    } else {
        let already = registry.change(name, change, now())?;
        let so = if already { " already" } else { "" };
        ui.say(format!("{title} is{so} {} in {}", styled(style::STRONG, done), registry.name()));
        already
    };
    ui.report(
        command,
        || json!({ "package": name, "what": change.what(), "done": done, "already": already, "dry-run": dry_run }),
    );
    Ok(Exit::Done)
}
