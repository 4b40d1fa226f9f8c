//! Paths of the files in a registry: the same in a folder, in a bucket and behind HTTP.

use bibliotax_core::card::Card;
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;

/// The history of a package.
pub fn history_path(package: &PackageName) -> String {
    format!("packages/{}/{package}.jsonl", Digest::of(package.as_str().as_bytes()).folder())
}

/// An archive or card.
pub fn file_path(digest: &Digest) -> String {
    format!("files/{}/{digest}", digest.folder())
}

/// A card as its file holds it.
pub fn card_text(card: &Card) -> String {
    // Texts, lists and maps with text keys: nothing in a card can fail to be JSON.
    serde_json::to_string(card).unwrap_or_default() + "\n"
}
