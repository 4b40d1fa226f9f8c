//! Manifests' texts while they are edited, each opened when it is first needed.

use std::collections::BTreeMap;

use bibliotax_core::manifest::ManifestText;

use super::{Edits, Project};
use crate::failure::Failure;

/// The texts of a workspace's manifests that are being edited.
pub struct Texts<'p> {
    project: &'p Project,
    texts: BTreeMap<String, ManifestText>,
}

impl<'p> Texts<'p> {
    /// Those of a project, none of them open yet.
    pub fn of(project: &'p Project) -> Self {
        Self { project, texts: BTreeMap::new() }
    }

    /// The text of the manifest in a folder, as it is now.
    pub fn open(&mut self, folder: &str) -> Result<&mut ManifestText, Failure> {
        if !self.texts.contains_key(folder) {
            self.texts.insert(folder.to_owned(), self.project.editable(folder)?);
        }
        // Just put there where it wasn't.
        Ok(self.texts.get_mut(folder).expect("the text is open"))
    }

    /// What the open ones say now.
    pub fn edits(&self) -> Edits {
        self.texts.iter().map(|(folder, text)| (folder.clone(), text.to_string())).collect()
    }
}
