//! Manifests as files: each is read once in a run, and parsed again only where its text is new.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::fault::Fault;
use bibliotax_core::manifest::{self, FILE_NAME, Manifest, Outline, StatedCard, read_stated};
use bibliotax_disk::DiskError;
use bibliotax_disk::read::read_text;

use crate::failure::Failure;

/// A manifest.
#[derive(Debug, Clone, Default)]
pub struct ManifestFile {
    /// Its folder, from the workspace's; empty for that one.
    pub folder: String,
    /// Its text.
    pub text: String,
    /// Which other files it names.
    pub outline: Outline,
    /// The cards beside it that it names.
    pub cards: Vec<CardFile>,
    /// What it says, where it was read on the way.
    read: Option<Manifest>,
    /// Whether it is of a project outside the workspace that others need.
    pub is_neighbour: bool,
}

/// A card beside a manifest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CardFile {
    /// The way to it from the manifest's folder.
    pub path: String,
    /// Its text.
    pub text: String,
}

/// Reads manifests, each file once.
#[derive(Debug, Default)]
pub struct ManifestReader {
    /// Those of this reader, by the folders of their projects.
    files: BTreeMap<PathBuf, ManifestFile>,
    /// Those of an earlier reader.
    earlier: BTreeMap<PathBuf, ManifestFile>,
    /// Texts that are open in an editor.
    open: OpenTexts,
}

/// Texts of manifests and cards that are open in an editor and take the place of those on disk, by their paths.
pub type OpenTexts = BTreeMap<PathBuf, String>;

impl ManifestReader {
    /// A reader that parses only what is new since these files were read.
    pub fn after(root: &Path, files: impl IntoIterator<Item = ManifestFile>) -> Self {
        // What projects say depends on the root, so only the root's own meaning stays.
        let of_root = |file: ManifestFile| {
            let read = file.read.filter(|_| file.folder.is_empty());
            (
                root.join(&file.folder),
                ManifestFile { read, folder: String::new(), is_neighbour: false, ..file },
            )
        };
        let earlier = files.into_iter().map(of_root).collect();
        Self { earlier, ..Self::default() }
    }

    /// The same with texts that are open in an editor.
    pub fn with_open(self, open: OpenTexts) -> Self {
        Self { open, ..self }
    }

    /// The manifest of the project in a folder.
    pub fn file(&mut self, project: &Path) -> Result<&mut ManifestFile, Failure> {
        if !self.files.contains_key(project) {
            let file = self.load(project)?;
            self.files.insert(project.to_owned(), file);
        }
        // Just put there where it wasn't.
        Ok(self.files.get_mut(project).expect("the manifest was loaded"))
    }

    fn load(&mut self, project: &Path) -> Result<ManifestFile, Failure> {
        let path = project.join(FILE_NAME);
        let text = match self.open.get(&path) {
            Some(open) => open.clone(),
            None => read_manifest(&path)?,
        };
        let earlier = self.earlier.remove(project).filter(|earlier| earlier.text == text);
        let cards = self.open_cards(project);
        let Some(earlier) = earlier else {
            return ManifestFile::default().with_text(text, project, &cards);
        };
        let cards = cards_with(project, &earlier.outline, &cards)?;
        let read = earlier.read.filter(|_| cards == earlier.cards);
        Ok(ManifestFile { cards, read, ..earlier })
    }

    /// The texts of cards that are open, by the ways to them from a project's folder.
    fn open_cards(&self, project: &Path) -> BTreeMap<&str, &str> {
        let cards = self.open.iter().filter_map(|(path, text)| {
            let way = path.strip_prefix(project).ok()?.to_str()?;
            (way != FILE_NAME).then_some((way, text.as_str()))
        });
        cards.collect()
    }
}

impl ManifestFile {
    /// A project of a workspace, in this folder from the workspace's.
    pub fn in_folder(self, folder: String) -> Self {
        Self { folder, ..self }
    }

    /// The same file with this text; what it said before counts no more.
    ///
    /// Cards have these texts in place of those on disk.
    pub fn with_text(&self, text: String, at: &Path, edited: &BTreeMap<&str, &str>) -> Result<Self, Failure> {
        let outline = Outline::of(&text);
        let cards = cards_with(at, &outline, edited)?;
        Ok(Self { text, outline, cards, read: None, ..self.clone() })
    }

    /// What it says, where that was read.
    pub fn read(&self) -> Option<&Manifest> {
        self.read.as_ref()
    }

    /// The text of a card beside it that it names.
    pub fn card(&self, path: &str) -> Option<&str> {
        self.cards.iter().find(|card| card.path == path).map(|card| card.text.as_str())
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

    /// What it says; for a project, with what the root says.
    pub fn manifest(&mut self, root: Option<&Manifest>) -> Result<&Manifest, Failure> {
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

    /// Fails where a folder that has to be a project's is only the root of another workspace.
    pub fn check_name(&self, manifest: &Manifest) -> Result<(), Failure> {
        if manifest.project.is_some() {
            return Ok(());
        }
        let fault =
            Fault::new("workspace.in-workspace", "this is the root of a workspace, not a project", 0..0);
        let fault = fault.advice("give the project a name: `[project]`, `name = \"…\"`");
        Err(Failure::in_text(file_name(&self.folder), &self.text, vec![fault]))
    }
}

/// A manifest's name, from the workspace's folder.
pub fn file_name(folder: &str) -> String {
    if folder.is_empty() { FILE_NAME.to_owned() } else { format!("{folder}/{FILE_NAME}") }
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

/// The same, with these texts in place of those on disk.
fn cards_with(
    folder: &Path,
    outline: &Outline,
    edited: &BTreeMap<&str, &str>,
) -> Result<Vec<CardFile>, Failure> {
    let mut cards = cards_beside(folder, outline)?;
    for (path, text) in edited.iter().filter(|(path, _)| outline.cards.iter().any(|card| card == *path)) {
        cards.retain(|card| card.path != *path);
        cards.push(CardFile { path: (*path).to_owned(), text: (*text).to_owned() });
    }
    Ok(cards)
}

fn read_manifest(path: &Path) -> Result<String, Failure> {
    let unreadable = |error: DiskError| match error.source.kind() {
        std::io::ErrorKind::InvalidData => {
            let message = format!("{FILE_NAME} isn't a manifest: {}", error.source);
            Failure::new("manifest.unreadable", message)
                .advice("a manifest is a short text; see `bibliotax init`")
        }
        _ => error.into(),
    };
    Ok(read_text(path, manifest::MAX_SIZE).map_err(unreadable)?.unwrap_or_default())
}
