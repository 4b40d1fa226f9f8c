//! A workspace's manifests, found from any folder inside it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::fault::Fault;
use bibliotax_core::manifest::{self, FILE_NAME, Manifest, Outline, StatedCard, read_stated};
use bibliotax_core::nearest::nearest;
use bibliotax_core::workspace::{Misfit, Workspace, folder_from};
use bibliotax_disk::DiskError;
use bibliotax_disk::read::read_text;
use bibliotax_store::error::StoreError;
use bibliotax_store::shelf::Template;

use super::edits::Edits;
use super::folder_patterns::{Pattern, listed};
use crate::failure::Failure;

/// The manifests of a workspace, or of a project on its own.
#[derive(Debug)]
pub struct Manifests {
    /// The folder of the workspace.
    pub root: PathBuf,
    /// The root's, the members' in the order in which it lists them, then those of other projects that they need.
    pub files: Vec<ManifestFile>,
    /// The folder of the project that was stood in, from the root's.
    pub here: String,
}

/// A manifest.
#[derive(Debug, Clone)]
pub struct ManifestFile {
    /// Its folder, from the workspace's; empty for that one.
    pub folder: String,
    pub text: String,
    /// Which other files it names.
    outline: Outline,
    /// The cards beside it that it names.
    pub cards: Vec<CardFile>,
    /// What it says, where it was read on the way.
    read: Option<Manifest>,
    is_neighbour: bool,
}

/// A card beside a manifest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardFile {
    /// The way to it from the manifest's folder.
    pub path: String,
    pub text: String,
}

impl Manifests {
    /// The manifests of the workspace that `from` lies in, read no further than it takes to know which they are.
    pub fn find(from: &Path) -> Result<Self, Failure> {
        let nearest = needed_folder(from)?;
        let (root, here) = root_of(nearest)?;
        let mut first = ManifestFile::load(&root, String::new())?;
        let mut folders = Vec::new();
        if first.outline.is_workspace {
            first.manifest(None)?;
            folders = members_of(&root, &first)?;
        }
        let files = folders.into_iter().map(|folder| ManifestFile::load(&root, folder));
        let mut files: Vec<ManifestFile> = [Ok(first)].into_iter().chain(files).collect::<Result<_, _>>()?;
        add_neighbours(&root, &mut files)?;
        Ok(Self { root, files, here })
    }

    /// What they say together.
    pub fn read(&mut self) -> Result<Workspace, Failure> {
        let Some((first, others)) = self.files.split_first_mut() else { return Err(no_manifest(&self.root)) };
        let root = first.manifest(None)?.clone();
        let (mut members, mut neighbours) = (Vec::new(), Vec::new());
        for file in others {
            let manifest = file.manifest((!file.is_neighbour).then_some(&root))?.clone();
            file.check_name(&manifest)?;
            let side = if file.is_neighbour { &mut neighbours } else { &mut members };
            side.push((file.folder.clone(), manifest));
        }
        if root.project.is_none() && members.is_empty() {
            return Err(no_members());
        }
        Workspace::join(root, members, neighbours).map_err(|misfits| self.misfit(&misfits))
    }

    /// The same manifests with these texts in place of those before, and with the projects that they newly need.
    pub fn edited(&self, edits: &Edits) -> Result<Self, Failure> {
        if edits.is_empty() {
            let (root, here) = (self.root.clone(), self.here.clone());
            return Ok(Self { root, files: self.files.clone(), here });
        }
        let text_of = |file: &ManifestFile| edits.get(&file.folder).unwrap_or(&file.text).clone();
        // What members mean depends on the root, too.
        let keeps_root = self.in_folder("").is_none_or(|root| text_of(root) == root.text);
        let file = |file: &ManifestFile| {
            let text = text_of(file);
            if keeps_root && text == file.text {
                return Ok(file.clone());
            }
            let outline = Outline::of(&text);
            let cards = cards_beside(&self.root.join(&file.folder), &outline)?;
            let (folder, is_neighbour, read) = (file.folder.clone(), file.is_neighbour, None);
            Ok(ManifestFile { folder, text, outline, cards, read, is_neighbour })
        };
        let (root, here) = (self.root.clone(), self.here.clone());
        let mut files = self.files.iter().map(file).collect::<Result<_, Failure>>()?;
        add_neighbours(&root, &mut files)?;
        Ok(Self { root, files, here })
    }

    /// The folders of the root and of the projects of the workspace, seen from the root.
    pub fn folders(&self) -> impl Iterator<Item = &str> {
        self.files.iter().filter(|file| !file.is_neighbour).map(|file| file.folder.as_str())
    }

    /// The templates for links that the root and the projects of the workspace have.
    pub fn templates(&self) -> Result<Vec<Template>, StoreError> {
        Template::all_of(&self.root, self.folders())
    }

    /// The manifest in a folder.
    pub fn in_folder(&self, folder: &str) -> Option<&ManifestFile> {
        self.files.iter().find(|file| file.folder == folder)
    }

    /// Whether the files say the same on disk now.
    pub fn are_as_on_disk(&self, from: &Path) -> Result<bool, Failure> {
        let now = Self::find(from)?;
        let is_same = |one: &ManifestFile, other: &ManifestFile| {
            one.folder == other.folder && one.text == other.text && one.cards == other.cards
        };
        let pairs = now.files.iter().zip(&self.files);
        Ok(now.root == self.root
            && now.files.len() == self.files.len()
            && pairs.into_iter().all(|(now, then)| is_same(now, then)))
    }

    /// What is wrong in the first of the manifests that don't go together.
    fn misfit(&self, misfits: &[Misfit]) -> Failure {
        let folder = misfits.first().map_or("", |misfit| &misfit.folder);
        let faults = misfits.iter().filter(|misfit| misfit.folder == folder);
        let text = self.in_folder(folder).map_or("", |file| &file.text);
        Failure::in_text(file_name(folder), text, faults.map(|misfit| misfit.fault.clone()).collect())
    }
}

impl ManifestFile {
    fn load(root: &Path, folder: String) -> Result<Self, Failure> {
        let text = read_manifest(&root.join(&folder).join(FILE_NAME))?;
        let outline = Outline::of(&text);
        let cards = cards_beside(&root.join(&folder), &outline)?;
        Ok(Self { folder, text, outline, cards, read: None, is_neighbour: false })
    }

    /// What the cards beside it say.
    fn stated(&self) -> Result<BTreeMap<String, StatedCard>, Failure> {
        let within = |card: &CardFile| match self.folder.as_str() {
            "" => card.path.clone(),
            folder => format!("{folder}/{}", card.path),
        };
        let stated = self.cards.iter().map(|card| {
            let read = read_stated(&card.text);
            let read = read.map_err(|faults| Failure::in_text(within(card), &card.text, faults))?;
            Ok((card.path.clone(), read))
        });
        stated.collect()
    }

    /// What it says; for a member, with what the root says.
    fn manifest(&mut self, root: Option<&Manifest>) -> Result<&Manifest, Failure> {
        if self.read.is_none() {
            let root = root.filter(|_| !self.folder.is_empty());
            let read = Manifest::read_beside(&self.text, root, &self.stated()?);
            let read =
                read.map_err(|faults| Failure::in_text(file_name(&self.folder), &self.text, faults))?;
            return Ok(self.read.insert(read));
        }
        // Just looked at.
        Ok(self.read.as_ref().expect("the manifest was read"))
    }

    /// Members and neighbours are projects.
    fn check_name(&self, manifest: &Manifest) -> Result<(), Failure> {
        if manifest.project.is_some() {
            return Ok(());
        }
        let fault = Fault::new("workspace.in-workspace", "this is a workspace's root and no project", 0..0);
        let fault = fault.advice("a member names its project: `[project]`, `name = \"…\"`");
        Err(Failure::in_text(file_name(&self.folder), &self.text, vec![fault]))
    }
}

/// A manifest's name, from the workspace's folder.
pub fn file_name(folder: &str) -> String {
    if folder.is_empty() { FILE_NAME.to_owned() } else { format!("{folder}/{FILE_NAME}") }
}

/// A folder of this machine, from a workspace's.
pub fn folder_of(root: &Path, folder: &Path) -> Result<String, Failure> {
    let missing = |path: &Path| {
        Failure::new("disk.missing", format!("there is no {}", path.display())).advice("check the path")
    };
    let whole = |path: &Path| std::fs::canonicalize(path).map_err(|_| missing(path));
    let (root, folder) = (whole(root)?, whole(folder)?);
    // From another disk there is no way but the whole path.
    let way = pathdiff::diff_paths(&folder, &root).unwrap_or(folder);
    let parts = way.components().map(|part| part.as_os_str().to_string_lossy().into_owned());
    Ok(parts.collect::<Vec<_>>().join("/"))
}

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
    /// It is one of its members.
    Listed,
    /// A project there stands on its own.
    Apart,
    /// Nothing.
    Unlisted,
}

/// The nearest workspace around a folder, not counting one that the folder itself is.
pub fn outer_workspace(folder: &Path) -> Result<Option<Outer>, Failure> {
    for root in folder.ancestors().skip(1).filter(|above| above.join(FILE_NAME).is_file()) {
        let text = read_manifest(&root.join(FILE_NAME))?;
        if !Outline::of(&text).is_workspace {
            continue;
        }
        // One that can't be read says why when it is the one that is meant.
        let Ok(manifest) = Manifest::read(&text) else { continue };
        let Some(list) = &manifest.workspace else { continue };
        let inner = folder.strip_prefix(root).unwrap_or(folder).to_string_lossy().replace('\\', "/");
        let is_among =
            |patterns: &[String]| patterns.iter().any(|pattern| Pattern::new(pattern).matches(&inner));
        let membership = match (is_among(&list.apart), is_among(&list.members)) {
            (true, _) => Membership::Apart,
            (false, true) => Membership::Listed,
            (false, false) => Membership::Unlisted,
        };
        return Ok(Some(Outer { root: root.to_owned(), text, inner, membership }));
    }
    Ok(None)
}

/// The folder of the workspace that a project is of (its own, where it stands alone), and the project's folder from there.
fn root_of(project: &Path) -> Result<(PathBuf, String), Failure> {
    let own = read_manifest(&project.join(FILE_NAME))?;
    let is_root = Outline::of(&own).is_workspace;
    match if is_root { None } else { outer_workspace(project)? } {
        Some(Outer { root, inner, membership: Membership::Listed, .. }) => Ok((root, inner)),
        Some(Outer { root, inner, membership: Membership::Unlisted, .. }) => Err(not_listed(&inner, &root)),
        Some(Outer { membership: Membership::Apart, .. }) | None => Ok((project.to_owned(), String::new())),
    }
}

fn not_listed(inner: &str, outer: &Path) -> Failure {
    let message = format!("`{inner}` lies in the workspace {}, which doesn't list it", outer.display());
    Failure::new("workspace.not-listed", message).advice(format!(
        "add \"{inner}\" to `members` under `[workspace]` there, or to `apart` if it stands on its own"
    ))
}

fn no_members() -> Failure {
    Failure::new("workspace.no-members", "the workspace has no members yet")
        .advice("`bibliotax init` in a folder inside makes one, and lists it")
}

/// The folders that a root lists, each of which has to hold a project.
fn members_of(root: &Path, first: &ManifestFile) -> Result<Vec<String>, Failure> {
    let Some(list) = first.read.as_ref().and_then(|manifest| manifest.workspace.as_ref()) else {
        return Ok(Vec::new());
    };
    let mut folders: Vec<String> = Vec::new();
    for pattern in &list.members {
        let found = listed(root, pattern, &list.apart)?;
        if found.is_empty() && !Pattern::new(pattern).is_open() {
            let message = format!("the workspace lists `{pattern}`, and there is no project in it");
            let fault = Fault::new("workspace.no-member", message, list.span.clone());
            let advice = "take it out, or begin one: `bibliotax init` in that folder";
            return Err(Failure::in_text(FILE_NAME, &first.text, vec![fault.advice(advice)]));
        }
        let new = found.into_iter().filter(|folder| !folder.is_empty() && !folders.contains(folder));
        let new: Vec<String> = new.collect();
        folders.extend(new);
    }
    Ok(folders)
}

/// Adds the projects elsewhere that manifests need by their folder, and those that these need.
fn add_neighbours(root: &Path, files: &mut Vec<ManifestFile>) -> Result<(), Failure> {
    let mut next = 0;
    while next < files.len() {
        let ManifestFile { folder, outline, .. } = &files[next];
        let elsewhere: Vec<String> = outline
            .paths
            .iter()
            .filter_map(|way| folder_from(folder, way))
            .filter(|folder| !files.iter().any(|file| file.folder == *folder))
            .collect();
        for folder in elsewhere {
            let is_new = !files.iter().any(|file| file.folder == folder);
            if is_new && root.join(&folder).join(FILE_NAME).is_file() {
                files.push(ManifestFile { is_neighbour: true, ..ManifestFile::load(root, folder)? });
            }
        }
        next += 1;
    }
    Ok(())
}

/// The cards beside a manifest that it names, as far as they are there.
fn cards_beside(folder: &Path, outline: &Outline) -> Result<Vec<CardFile>, Failure> {
    let mut cards: Vec<CardFile> = Vec::new();
    for path in outline.cards.iter().filter(|path| path.ends_with(".toml")) {
        let is_new = !cards.iter().any(|card| card.path == *path);
        if let Some(text) = read_text(&folder.join(path), manifest::MAX_SIZE)?.filter(|_| is_new) {
            cards.push(CardFile { path: path.clone(), text });
        }
    }
    Ok(cards)
}

fn read_manifest(path: &Path) -> Result<String, Failure> {
    let unreadable = |error: DiskError| match error.source.kind() {
        std::io::ErrorKind::InvalidData => {
            let message = format!("{FILE_NAME} is no manifest: {}", error.source);
            Failure::new("manifest.unreadable", message)
                .advice("a manifest is a short text; see `bibliotax init`")
        }
        _ => error.into(),
    };
    Ok(read_text(path, manifest::MAX_SIZE).map_err(unreadable)?.unwrap_or_default())
}

/// The folder of the project that `from` lies in, for who can't do without.
fn needed_folder(from: &Path) -> Result<&Path, Failure> {
    let nearest = from.ancestors().find(|folder| folder.join(FILE_NAME).is_file());
    nearest.ok_or_else(|| no_manifest(from))
}

fn no_manifest(from: &Path) -> Failure {
    let failure =
        Failure::new("manifest.missing", format!("there is no {FILE_NAME} here or in a folder above"));
    let saved_as_text = from.ancestors().find(|folder| folder.join(format!("{FILE_NAME}.txt")).is_file());
    if saved_as_text.is_some() {
        let advice =
            format!("there is a {FILE_NAME}.txt: an editor added the ending; rename it to {FILE_NAME}");
        return failure.advice(advice);
    }
    if let Some(near) = near_manifest(from) {
        return failure
            .advice(format!("there is a {near} here: a manifest is called {FILE_NAME}; rename it"));
    }
    let below = projects_below(from);
    match below.as_slice() {
        [] => failure.advice("`bibliotax init` begins a project here"),
        [one] => failure.advice(format!("there is one in `{one}`: go there, or say `--directory {one}`")),
        [first, ..] => failure.advice(format!(
            "there are some below, in {}: go there, or say `--directory {first}`",
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
