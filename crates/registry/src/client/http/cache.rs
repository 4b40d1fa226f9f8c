//! Cached answers of registries, each text with its validator in one file.
//!
//! A file begins with a line of the text's own digest and the validator. Files are not synced: one that a power cut tore
//! fails its digest and is asked for again.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use bibliotax_core::digest::Digest;
use bibliotax_disk::temporary::hold;
use bibliotax_disk::write::{folder_of, make_folder};
use reqwest::Url;

/// What one registry answered.
#[derive(Debug, Clone)]
pub struct Cache {
    folder: PathBuf,
}

/// A text that is kept.
pub struct Kept {
    /// The text.
    pub text: String,
    /// Its validator.
    pub tag: String,
}

impl Cache {
    /// The part of a cache that is a registry's.
    pub fn of(folder: &Path, registry: &Url) -> Self {
        Self { folder: folder.join(Digest::of(registry.as_str().as_bytes()).to_string()) }
    }

    /// The folder of what is kept.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// What is kept of a path, whole.
    pub fn read(&self, path: &str) -> Option<Kept> {
        let mut text = fs::read_to_string(self.folder.join(path)).ok()?;
        let end = text.find('\n')?;
        let (digest, tag) = text[..end].split_once(' ')?;
        if blake3::hash(&text.as_bytes()[end + 1..]).to_hex().as_str() != digest {
            return None;
        }
        let tag = tag.to_owned();
        text.drain(..=end);
        Some(Kept { text, tag })
    }

    /// Keeps a text. Where that fails, it is asked for again the next time: a cache has no errors of its own.
    pub fn keep(&self, path: &str, tag: &str, text: &str) {
        if tag.contains('\n') {
            return;
        }
        let place = self.folder.join(path);
        let folder = folder_of(&place);
        let digest = blake3::hash(text.as_bytes()).to_hex();
        let Some(mut written) =
            make_folder(folder).is_ok().then(|| tempfile::NamedTempFile::new_in(folder).ok()).flatten()
        else {
            return;
        };
        hold(written.as_file());
        if write!(written, "{digest} {tag}\n{text}").is_ok() {
            let _ = written.persist(place);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_comes_back_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let cache = Cache::of(folder.path(), &Url::parse("https://packages.seedhouse.example/").unwrap());
        assert!(cache.read("packages/aa/moss-map.jsonl").is_none());
        cache.keep("packages/aa/moss-map.jsonl", "\"1-zstd\"", "one\ntwo\n");
        let kept = cache.read("packages/aa/moss-map.jsonl").unwrap();
        assert_eq!((kept.text.as_str(), kept.tag.as_str()), ("one\ntwo\n", "\"1-zstd\""));
        let path = cache.folder.join("packages/aa/moss-map.jsonl");
        let whole = fs::read_to_string(&path).unwrap();
        for torn in [&whole[..whole.len() - 1], &whole[..10], "", "one two\nthree"] {
            fs::write(&path, torn).unwrap();
            assert!(cache.read("packages/aa/moss-map.jsonl").is_none(), "{torn}");
        }
    }
}
