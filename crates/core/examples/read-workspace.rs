//! Reads and parses the manifests and the lock of a workspace, and does nothing else: what `bench/` holds the commands of a team
//! against. With `shelf` it also looks at each package's folder, with `files` at all that lies in them, and with the folder of
//! a registry it reads all its histories.

use std::fs;
use std::path::Path;

use toml_edit::DocumentMut;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let root = words.next().ok_or("which folder?")?;
    let root = Path::new(&root);
    let mut read = 0;
    for project in fs::read_dir(root)? {
        let Ok(text) = fs::read_to_string(project?.path().join("bibliotax.toml")) else { continue };
        read += text.parse::<DocumentMut>()?.len();
    }
    read += fs::read_to_string(root.join("bibliotax.toml"))?.parse::<DocumentMut>()?.len();
    let lock: serde_json::Value = serde_json::from_str(&fs::read_to_string(root.join("bibliotax.lock"))?)?;
    read += lock["packages"].as_array().map_or(0, Vec::len);
    for word in words {
        match word.as_str() {
            "shelf" => read += looked_at(&root.join("shelf"), false)?,
            "files" => read += looked_at(&root.join("shelf"), true)?,
            registry => read += histories(Path::new(registry))?,
        }
    }
    if read == 0 { Err("there is nothing to read".into()) } else { Ok(()) }
}

/// How many things a folder holds, with what is in its folders or without.
fn looked_at(folder: &Path, whole: bool) -> std::io::Result<usize> {
    let mut seen = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        seen += 1;
        if entry.metadata()?.is_dir() && whole {
            seen += looked_at(&entry.path(), true)?;
        }
    }
    Ok(seen)
}

fn histories(registry: &Path) -> Result<usize, Box<dyn std::error::Error>> {
    let mut lines = 0;
    for bin in fs::read_dir(registry.join("packages"))? {
        for history in fs::read_dir(bin?.path())? {
            for line in fs::read_to_string(history?.path())?.lines() {
                let event: serde_json::Value = serde_json::from_str(line)?;
                lines += usize::from(event.is_object());
            }
        }
    }
    Ok(lines)
}
