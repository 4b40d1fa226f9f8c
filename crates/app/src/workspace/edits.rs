//! Manifests' texts while they are edited, each parsed when it is first needed.

use std::collections::BTreeMap;

use bibliotax_core::manifest::ManifestText;
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::range::Range;
use similar::{ChangeTag, TextDiff};

use super::{WorkspaceFolder, file_name};
use crate::failure::Failure;

/// Texts that manifests and cards beside them are to have.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Edits {
    /// The texts of manifests, by their folders from the workspace's.
    pub manifests: BTreeMap<String, String>,
    /// The texts of cards, by the folders of their manifests and the ways from there.
    pub cards: BTreeMap<(String, String), String>,
}

impl Edits {
    /// Whether nothing is to have another text.
    pub fn is_empty(&self) -> bool {
        self.manifests.is_empty() && self.cards.is_empty()
    }

    /// The texts of cards beside the manifest in a folder, by the ways to them.
    pub fn cards_of(&self, folder: &str) -> BTreeMap<&str, &str> {
        let of_folder = self.cards.iter().filter(|((of, _), _)| of == folder);
        of_folder.map(|((_, path), text)| (path.as_str(), text.as_str())).collect()
    }

    /// What the files are called, from the workspace's folder.
    pub fn file_names(&self) -> Vec<String> {
        let cards = self.cards.keys().map(|(folder, path)| card_name(folder, path));
        cards.chain(self.manifests.keys().map(|folder| file_name(folder))).collect()
    }
}

/// What a card beside a manifest is called, from the workspace's folder.
pub fn card_name(folder: &str, path: &str) -> String {
    if folder.is_empty() { path.to_owned() } else { format!("{folder}/{path}") }
}

/// How the text of a manifest changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditedManifest {
    /// What people call it: its path from the workspace's folder.
    pub file: String,
    /// The lines that are removed.
    pub removed: Vec<String>,
    /// The lines that are added.
    pub added: Vec<String>,
}

/// How edits change the manifests of a workspace; nothing of those that stay as they are.
pub fn compared(workspace: &WorkspaceFolder, edits: &Edits) -> Vec<EditedManifest> {
    let of_manifests = edits.manifests.iter().map(|(folder, new)| {
        let old = workspace.manifests.in_folder(folder).map_or("", |file| &file.text);
        (file_name(folder), old, new)
    });
    let of_cards = edits.cards.iter().map(|((folder, path), new)| {
        let old = workspace.manifests.in_folder(folder).and_then(|file| file.card(path)).unwrap_or_default();
        (card_name(folder, path), old, new)
    });
    let compared = of_manifests.chain(of_cards).map(|(file, old, new)| {
        let differences = TextDiff::from_lines(old, new);
        let lines = |tag| {
            let changed = differences.iter_all_changes().filter(move |change| change.tag() == tag);
            changed.map(|change| change.value().trim_end().to_owned()).collect()
        };
        let (removed, added) = (lines(ChangeTag::Delete), lines(ChangeTag::Insert));
        EditedManifest { file, removed, added }
    });
    compared.filter(|edited| !edited.removed.is_empty() || !edited.added.is_empty()).collect()
}

/// The texts of a workspace's manifests that are being edited.
pub struct ManifestEdits<'w> {
    workspace: &'w WorkspaceFolder,
    texts: BTreeMap<String, ManifestText>,
    cards: BTreeMap<(String, String), String>,
}

impl<'w> ManifestEdits<'w> {
    /// Those of a workspace, none of them open yet.
    pub fn of(workspace: &'w WorkspaceFolder) -> Self {
        Self { workspace, texts: BTreeMap::new(), cards: BTreeMap::new() }
    }

    /// The text of the manifest in a folder, as it is now.
    pub fn open(&mut self, folder: &str) -> Result<&mut ManifestText, Failure> {
        if !self.texts.contains_key(folder) {
            let text = self.workspace.manifests.in_folder(folder).map_or("", |file| &file.text);
            let opened = ManifestText::open(text);
            let opened = opened.map_err(|fault| Failure::in_text(file_name(folder), text, vec![fault]))?;
            self.texts.insert(folder.to_owned(), opened);
        }
        // Just put there where it wasn't.
        Ok(self.texts.get_mut(folder).expect("the text is open"))
    }

    /// The text of a card beside the manifest in a folder, as it is now; `None` where there is none.
    pub fn card(&self, folder: &str, path: &str) -> Option<String> {
        let edited = self.cards.get(&(folder.to_owned(), path.to_owned()));
        let on_disk = || std::fs::read_to_string(self.workspace.root.join(card_name(folder, path))).ok();
        edited.cloned().or_else(on_disk)
    }

    /// Gives a card beside the manifest in a folder a text.
    pub fn set_card(&mut self, folder: &str, path: &str, text: String) {
        self.cards.insert((folder.to_owned(), path.to_owned()), text);
    }

    /// Writes the range of a package once for the workspace; these needs of it, by folder and purpose, share it from then on.
    pub fn share<'n>(
        &mut self,
        package: &PackageName,
        range: &Range,
        needs: impl IntoIterator<Item = (&'n str, Option<&'n Purpose>)>,
    ) -> Result<(), Failure> {
        self.open("")?.set_shared(package, range);
        for (folder, purpose) in needs {
            self.open(folder)?.set_need_shared(purpose, package);
        }
        Ok(())
    }

    /// What the open ones say now.
    pub fn edits(&self) -> Edits {
        let manifests = self.texts.iter().map(|(folder, text)| (folder.clone(), text.to_string()));
        Edits { manifests: manifests.collect(), cards: self.cards.clone() }
    }
}
