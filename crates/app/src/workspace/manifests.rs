//! A workspace's manifests, found from any folder inside it.

use std::path::{Path, PathBuf};

use bibliotax_core::fault::Fault;
use bibliotax_core::manifest::{FILE_NAME, StandIn};
use bibliotax_core::name::PackageName;
use bibliotax_core::workspace::{Misfit, Workspace, folder_from};
use bibliotax_store::error::StoreError;
use bibliotax_store::shelf::Template;

use super::edits::Edits;
use super::folder_patterns::{Pattern, listed};
use super::manifest_file::{ManifestFile, ManifestReader, OpenTexts, file_name};
use super::root::{needed_folder, no_manifest, root_of};
use crate::failure::Failure;

/// The manifests of a workspace, or of a project on its own.
#[derive(Debug, Clone)]
pub struct Manifests {
    /// The folder of the workspace.
    pub root: PathBuf,
    /// The root's, the projects' in the order in which it lists them, then those of other projects that they need.
    pub files: Vec<ManifestFile>,
    /// The folder of the current project, from the root's.
    pub here: String,
}

impl Manifests {
    /// No manifests.
    pub fn none(folder: &Path) -> Self {
        Self { root: folder.to_owned(), files: Vec::new(), here: String::new() }
    }

    /// The manifests of the workspace that `from` is in, read no further than it takes to know which they are.
    pub fn find(from: &Path) -> Result<Self, Failure> {
        Self::find_with(from, ManifestReader::default())
    }

    /// The same, some of which are open in an editor; parsed again only where texts differ from those that were read before.
    pub fn find_open(from: &Path, open: OpenTexts, before: Option<&Self>) -> Result<Self, Failure> {
        let reader = match before {
            Some(before) => ManifestReader::after(&before.root, before.files.iter().cloned()),
            None => ManifestReader::default(),
        };
        Self::find_with(from, reader.with_open(open))
    }

    /// The same as they are on disk now, parsed again only where texts changed.
    pub fn find_again(self, from: &Path) -> Result<Self, Failure> {
        Self::find_with(from, ManifestReader::after(&self.root, self.files))
    }

    fn find_with(from: &Path, mut reader: ManifestReader) -> Result<Self, Failure> {
        let nearest = needed_folder(from)?;
        let (root, here) = root_of(nearest, &mut reader)?;
        let first = reader.file(&root)?;
        let mut folders = Vec::new();
        if first.outline.is_workspace {
            first.manifest(None)?;
            folders = projects_of(&root, first)?;
        }
        let mut files = vec![first.clone()];
        for folder in folders {
            files.push(reader.file(&root.join(&folder))?.clone().in_folder(folder));
        }
        add_neighbours(&root, &mut files, &mut reader)?;
        Ok(Self { root, files, here })
    }

    /// What they say together.
    pub fn read(&mut self) -> Result<Workspace, Failure> {
        let Some((first, others)) = self.files.split_first_mut() else { return Err(no_manifest(&self.root)) };
        let root = first.manifest(None)?.clone();
        let (mut projects, mut neighbours) = (Vec::new(), Vec::new());
        for file in others {
            let manifest = file.manifest((!file.is_neighbour).then_some(&root))?.clone();
            file.check_name(&manifest)?;
            let side = if file.is_neighbour { &mut neighbours } else { &mut projects };
            side.push((file.folder.clone(), manifest));
        }
        if root.project.is_none() && projects.is_empty() {
            return Err(no_projects());
        }
        let joined = Workspace::join(root, projects, neighbours).map_err(|misfits| self.misfit(&misfits))?;
        self.check_folders(&joined)?;
        Ok(joined)
    }

    /// That there is a folder wherever one without a manifest stands in for a package.
    fn check_folders(&self, joined: &Workspace) -> Result<(), Failure> {
        let is_missing = |stand_in: &StandIn| {
            let folder = stand_in.source.folder().and_then(|folder| folder_from("", folder));
            folder.is_some_and(|folder| !self.root.join(folder).is_dir())
        };
        let missing = joined.stand_ins.iter().filter(|(_, stand_in)| is_missing(stand_in));
        let misfit = |(name, stand_in): (&PackageName, &StandIn)| {
            let message = format!("there is no folder to stand in for `{name}`");
            let fault = Fault::new("workspace.no-project", message, stand_in.span.clone());
            Misfit {
                folder: String::new(),
                fault: fault.advice("check the path, relative to this manifest's folder"),
            }
        };
        let misfits: Vec<Misfit> = missing.map(misfit).collect();
        if misfits.is_empty() { Ok(()) } else { Err(self.misfit(&misfits)) }
    }

    /// The same manifests with these texts in place of those before, and with the projects that they newly need.
    pub fn edited(&self, edits: &Edits) -> Result<Self, Failure> {
        if edits.is_empty() {
            return Ok(self.clone());
        }
        let text_of = |file: &ManifestFile| edits.manifests.get(&file.folder).unwrap_or(&file.text).clone();
        // What projects mean depends on the root, too.
        let keeps_root = self.in_folder("").is_none_or(|root| text_of(root) == root.text);
        let file = |file: &ManifestFile| {
            let text = text_of(file);
            let cards = edits.cards_of(&file.folder);
            if keeps_root && text == file.text && cards.is_empty() {
                return Ok(file.clone());
            }
            file.with_text(text, &self.root.join(&file.folder), &cards)
        };
        let (root, here) = (self.root.clone(), self.here.clone());
        let mut files = self.files.iter().map(file).collect::<Result<_, Failure>>()?;
        add_neighbours(&root, &mut files, &mut ManifestReader::default())?;
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

    /// What is wrong in the first of the manifests that don't go together.
    pub(super) fn misfit(&self, misfits: &[Misfit]) -> Failure {
        let folder = misfits.first().map_or("", |misfit| &misfit.folder);
        let faults = misfits.iter().filter(|misfit| misfit.folder == folder);
        let text = self.in_folder(folder).map_or("", |file| &file.text);
        Failure::in_text(file_name(folder), text, faults.map(|misfit| misfit.fault.clone()).collect())
    }
}

fn no_projects() -> Failure {
    Failure::new("workspace.no-projects", "the workspace has no projects yet")
        .advice("`bibliotax init` in a folder inside creates a project and lists it")
}

/// The folders that a root lists, each of which has to hold a project.
fn projects_of(root: &Path, first: &ManifestFile) -> Result<Vec<String>, Failure> {
    let Some(list) = first.read().and_then(|manifest| manifest.workspace.as_ref()) else {
        return Ok(Vec::new());
    };
    let mut folders: Vec<String> = Vec::new();
    let apart: Vec<Pattern> = list.apart.iter().map(|text| Pattern::new(text)).collect();
    for text in &list.folders {
        let pattern = Pattern::new(text);
        let found = listed(root, &pattern, &apart)?;
        if found.is_empty() && !pattern.is_open() {
            let message = format!("the workspace lists `{text}`, but there is no project in it");
            let fault = Fault::new("workspace.no-project", message, list.span.clone());
            let advice = "remove it, or run `bibliotax init` in that folder";
            return Err(Failure::in_text(FILE_NAME, &first.text, vec![fault.advice(advice)]));
        }
        let new = found.into_iter().filter(|folder| !folder.is_empty() && !folders.contains(folder));
        let new: Vec<String> = new.collect();
        folders.extend(new);
    }
    Ok(folders)
}

/// Adds the projects elsewhere that manifests need by their folder, and those that these need.
fn add_neighbours(
    root: &Path,
    files: &mut Vec<ManifestFile>,
    reader: &mut ManifestReader,
) -> Result<(), Failure> {
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
                let mut file = reader.file(&root.join(&folder))?.clone().in_folder(folder);
                file.is_neighbour = true;
                files.push(file);
            }
        }
        next += 1;
    }
    Ok(())
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
