//! The root of a workspace, found from any folder inside it.

use std::path::{Path, PathBuf};

use bibliotax_core::manifest::{FILE_NAME, Manifest, ProjectFolders};
use bibliotax_core::nearest::nearest;

use super::folder_patterns::Pattern;
use super::manifest_file::{ManifestFile, ManifestReader};
use crate::failure::Failure;

/// A workspace around a folder.
pub struct Outer {
    /// The workspace's folder.
    pub root: PathBuf,
    /// The text of its manifest.
    pub text: String,
    /// The folder inside, from the workspace's.
    pub inner: String,
    /// What the workspace says of that folder.
    pub membership: Membership,
}

/// What a workspace says of a folder inside it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Membership {
    /// It is one of its projects.
    Listed,
    /// A project there stands on its own.
    Apart,
    /// Nothing.
    Unlisted,
}

/// The nearest workspace around a folder, not counting one that the folder itself is.
pub fn outer_workspace(folder: &Path) -> Result<Option<Outer>, Failure> {
    outer_among(folder, &mut ManifestReader::default())
}

fn outer_among(folder: &Path, reader: &mut ManifestReader) -> Result<Option<Outer>, Failure> {
    for root in folder.ancestors().skip(1).filter(|above| above.join(FILE_NAME).is_file()) {
        let file = reader.file(root)?;
        if !file.outline.is_workspace {
            continue;
        }
        // One that can't be read says why when it is the one that is meant.
        let Some(list) = folders_of(file) else { continue };
        let inner = folder.strip_prefix(root).unwrap_or(folder).to_string_lossy().replace('\\', "/");
        let is_among =
            |patterns: &[String]| patterns.iter().any(|pattern| Pattern::new(pattern).matches(&inner));
        let membership = match (is_among(&list.apart), is_among(&list.folders)) {
            (true, _) => Membership::Apart,
            (false, true) => Membership::Listed,
            (false, false) => Membership::Unlisted,
        };
        return Ok(Some(Outer { root: root.to_owned(), text: file.text.clone(), inner, membership }));
    }
    Ok(None)
}

/// Which projects a root lists.
fn folders_of(root: &mut ManifestFile) -> Option<ProjectFolders> {
    if let Ok(manifest) = root.manifest(None) {
        return manifest.workspace.clone();
    }
    // A card beside it may be what is wrong.
    Manifest::read(&root.text).ok()?.workspace
}

/// The folder of the workspace that a project is of (its own, where it stands alone), and the project's folder from there.
pub fn root_of(project: &Path, reader: &mut ManifestReader) -> Result<(PathBuf, String), Failure> {
    let is_root = reader.file(project)?.outline.is_workspace;
    match if is_root { None } else { outer_among(project, reader)? } {
        Some(Outer { root, inner, membership: Membership::Listed, .. }) => Ok((root, inner)),
        Some(Outer { root, inner, membership: Membership::Unlisted, .. }) => Err(not_listed(&inner, &root)),
        Some(Outer { membership: Membership::Apart, .. }) | None => Ok((project.to_owned(), String::new())),
    }
}

fn not_listed(inner: &str, outer: &Path) -> Failure {
    let message = format!("`{inner}` is inside the workspace {}, which doesn't list it", outer.display());
    Failure::new("workspace.not-listed", message).advice(format!(
        "add \"{inner}\" to `folders` under `[workspace]` there, or to `apart` if it stands on its own"
    ))
}

/// The folder of the project that `from` is in, or a failure.
pub fn needed_folder(from: &Path) -> Result<&Path, Failure> {
    let nearest = from.ancestors().find(|folder| folder.join(FILE_NAME).is_file());
    nearest.ok_or_else(|| no_manifest(from))
}

pub fn no_manifest(from: &Path) -> Failure {
    let failure =
        Failure::new("manifest.missing", format!("there is no {FILE_NAME} here or in a folder above"));
    let saved_as_text = from.ancestors().find(|folder| folder.join(format!("{FILE_NAME}.txt")).is_file());
    if saved_as_text.is_some() {
        let advice = format!("there is a {FILE_NAME}.txt here; rename it to {FILE_NAME}");
        return failure.advice(advice);
    }
    if let Some(near) = near_manifest(from) {
        return failure.advice(format!("there is a {near} here; rename it to {FILE_NAME}"));
    }
    let below = projects_below(from);
    match below.as_slice() {
        [] => failure.advice("`bibliotax init` creates one here"),
        [one] => failure.advice(format!("there is one in `{one}`: go there, or use `--directory {one}`")),
        [first, ..] => failure.advice(format!(
            "there are manifests in {}: go there, or use `--directory {first}`",
            below.join(", ")
        )),
    }
}

/// A file in a folder whose name is a slip of a manifest's.
fn near_manifest(folder: &Path) -> Option<String> {
    const ENDINGS: [&str; 4] = ["toml", "yaml", "yml", "json"];
    let is_near = |name: &String| {
        let lower = name.to_lowercase();
        let Some((stem, ending)) = lower.rsplit_once('.') else { return false };
        let own = FILE_NAME.split('.').next().unwrap_or_default();
        ENDINGS.contains(&ending) && !nearest(stem, [own], 1).is_empty()
    };
    let names = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut near: Vec<String> =
        names.map(|entry| entry.file_name().to_string_lossy().into_owned()).filter(is_near).collect();
    near.sort();
    near.into_iter().next()
}

/// The folders in a folder that hold a project, by name.
pub fn projects_below(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let projects = entries.filter(|entry| entry.path().join(FILE_NAME).is_file());
    let mut names: Vec<String> =
        projects.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}
