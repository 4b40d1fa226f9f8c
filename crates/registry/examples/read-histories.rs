//! Reads and parses every history of a registry in a folder, and a lock if one is named, with `--cards` also the cards of its packages,
//! one after the other and nothing else: what `bench/` holds resolving, fitting and exporting against.

use std::fs;
use std::path::Path;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let root = std::env::args().nth(1).ok_or("which folder?")?;
    let mut lines = 0;
    if let Some(lock) = std::env::args().nth(2) {
        let lock: serde_json::Value = serde_json::from_str(&fs::read_to_string(lock)?)?;
        lines += usize::from(lock.is_object());
        if std::env::args().any(|word| word == "--cards") {
            lines += read_cards(Path::new(&root), &lock)?;
        }
    }
    for bin in fs::read_dir(Path::new(&root).join("packages"))? {
        for history in fs::read_dir(bin?.path())? {
            for line in fs::read_to_string(history?.path())?.lines() {
                let event: serde_json::Value = serde_json::from_str(line)?;
                lines += usize::from(event.is_object());
            }
        }
    }
    if lines == 0 { Err("there is nothing to read".into()) } else { Ok(()) }
}

/// Reads and parses the cards of a lock's packages; how many there are.
fn read_cards(root: &Path, lock: &serde_json::Value) -> Result<usize, Box<dyn std::error::Error>> {
    let mut cards = 0;
    for package in lock["packages"].as_array().into_iter().flatten() {
        let Some(digest) = package["card"].as_str() else { continue };
        let text = fs::read_to_string(root.join("files").join(&digest[..2]).join(digest))?;
        let card: serde_json::Value = serde_json::from_str(&text)?;
        cards += usize::from(card.is_object());
    }
    Ok(cards)
}
