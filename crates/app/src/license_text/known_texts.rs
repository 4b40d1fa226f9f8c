//! What texts were taken for before, so that comparing with all known texts, which is slow, is done once for each text.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use bibliotax_core::digest::Digest;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::{folder_of, make_folder, write_whole};
use serde::{Deserialize, Serialize};

use super::identify;

const FILE_NAME: &str = "license-texts.json";

/// Largest file that is read, in bytes.
const MAX_SIZE: usize = 16 << 20;

/// Most texts that are remembered.
const MAX_TEXTS: usize = 100_000;

/// Texts with what they were taken for.
pub struct KnownTexts {
    file: PathBuf,
    known: Mutex<Known>,
}

/// The file's contents.
#[derive(Serialize, Deserialize)]
struct Known {
    /// The version of SPDX's list that they were compared with.
    list: String,
    /// The identifiers of licences by the digests of texts.
    texts: BTreeMap<Digest, Vec<String>>,
    #[serde(skip)]
    is_changed: bool,
}

impl Known {
    fn none() -> Self {
        Self { list: spdx::license_version().to_owned(), texts: BTreeMap::new(), is_changed: false }
    }
}

impl KnownTexts {
    /// What is remembered in a folder. What can't be read there is found out anew.
    pub fn in_folder(folder: &Path) -> Self {
        let file = folder.join(FILE_NAME);
        let text = read_text(&file, MAX_SIZE).ok().flatten();
        let known = text.and_then(|text| serde_json::from_str::<Known>(&text).ok());
        let known = known.filter(|known| known.list == spdx::license_version()).unwrap_or_else(Known::none);
        Self { file, known: Mutex::new(known) }
    }

    /// The identifiers of the licences that a text is like.
    pub fn ids_of(&self, text: &str) -> Vec<String> {
        let digest = Digest::of(text.as_bytes());
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(ids) = known().texts.get(&digest) {
            return ids.clone();
        }
        let ids = identify(text).map(|identified| identified.ids).unwrap_or_default();
        let mut known = known();
        if known.texts.len() < MAX_TEXTS {
            known.texts.insert(digest, ids.clone());
            known.is_changed = true;
        }
        ids
    }

    /// Remembers what was found out. Where that can't be written, it is found out again.
    pub fn remember(&self) {
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if !known.is_changed {
            return;
        }
        // Digests and names of licences are JSON.
        let text = serde_json::to_string(&*known).unwrap_or_default();
        let _ = make_folder(folder_of(&self.file)).and_then(|()| write_whole(&self.file, text.as_bytes()));
    }
}
