//! Cached cards of all registries, by digest: a card never changes.

use std::path::{Path, PathBuf};

use bibliotax_core::card::Card;
use bibliotax_core::digest::Digest;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::{folder_of, make_folder, write_whole};

use super::MAX_CARD_SIZE;

/// Cards by digest.
#[derive(Debug, Clone)]
pub struct Cards {
    folder: PathBuf,
}

impl Cards {
    /// The part of a cache that cards are in.
    pub fn of(cache: &Path) -> Self {
        Self { folder: cache.join("cards") }
    }

    /// The text of a card, whole.
    pub fn read(&self, digest: &Digest) -> Option<String> {
        let limit = usize::try_from(MAX_CARD_SIZE).unwrap_or(usize::MAX);
        let text = read_text(&self.place_of(digest), limit).ok().flatten()?;
        (Digest::of(text.as_bytes()) == *digest).then_some(text)
    }

    /// A card, whole; nothing where its text can't be read as one.
    pub fn card(&self, digest: &Digest) -> Option<Card> {
        serde_json::from_str(&self.read(digest)?).ok()
    }

    /// Keeps the text of a card if it is that card's. Where that fails, it is asked for again.
    pub fn keep(&self, digest: &Digest, text: &str) {
        if Digest::of(text.as_bytes()) == *digest {
            let place = self.place_of(digest);
            let _ = make_folder(folder_of(&place)).and_then(|()| write_whole(&place, text.as_bytes()));
        }
    }

    fn place_of(&self, digest: &Digest) -> PathBuf {
        self.folder.join(digest.folder()).join(digest.to_string())
    }
}
