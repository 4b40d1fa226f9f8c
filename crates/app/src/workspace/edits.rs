//! Manifests' texts while they are edited, each parsed when it is first needed.

use std::collections::BTreeMap;

use bibliotax_core::manifest::ManifestText;
use similar::{ChangeTag, TextDiff};

use super::{WorkspaceFolder, file_name};
use crate::failure::Failure;

/// Texts that manifests are to have, by their folders from the workspace's.
pub type Edits = BTreeMap<String, String>;

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
    let compared = edits.iter().map(|(folder, new)| {
        let old = workspace.manifests.in_folder(folder).map_or("", |file| &file.text);
        let differences = TextDiff::from_lines(old, new);
        let lines = |tag| {
            let changed = differences.iter_all_changes().filter(move |change| change.tag() == tag);
            changed.map(|change| change.value().trim_end().to_owned()).collect()
        };
        let (removed, added) = (lines(ChangeTag::Delete), lines(ChangeTag::Insert));
        EditedManifest { file: file_name(folder), removed, added }
    });
    compared.filter(|edited| !edited.removed.is_empty() || !edited.added.is_empty()).collect()
}

/// The texts of a workspace's manifests that are being edited.
pub struct ManifestEdits<'w> {
    workspace: &'w WorkspaceFolder,
    texts: BTreeMap<String, ManifestText>,
}

impl<'w> ManifestEdits<'w> {
    /// Those of a workspace, none of them open yet.
    pub fn of(workspace: &'w WorkspaceFolder) -> Self {
        Self { workspace, texts: BTreeMap::new() }
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

    /// What the open ones say now.
    pub fn edits(&self) -> Edits {
        self.texts.iter().map(|(folder, text)| (folder.clone(), text.to_string())).collect()
    }
}
