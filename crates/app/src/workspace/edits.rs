//! Manifests' texts while they are edited, each parsed when it is first needed.

use std::collections::BTreeMap;

use bibliotax_core::manifest::ManifestText;

use super::{WorkspaceFolder, file_name};
use crate::failure::Failure;

/// Texts that manifests are to have, by their folders from the workspace's.
pub type Edits = BTreeMap<String, String>;

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
