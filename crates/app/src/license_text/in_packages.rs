//! The texts that go with packages: of licences, notices and authors, in the packages' own files.

use std::path::PathBuf;

use bibliotax_bill::bill::{LicenseText, TextKind};
use bibliotax_disk::read::read_text;

use super::MAX_TEXT;
use super::known_texts::KnownTexts;
use crate::stored_files::StoredFiles;

/// Most texts that are taken of a package.
const MAX_TEXTS: usize = 200;

/// Beginnings of the names of files, with what they hold.
const NAMES: [(&str, TextKind); 8] = [
    ("licen", TextKind::License),
    ("copying", TextKind::License),
    ("copyright", TextKind::License),
    ("unlicense", TextKind::License),
    ("patents", TextKind::Notice),
    ("notice", TextKind::Notice),
    ("authors", TextKind::Authors),
    ("contributors", TextKind::Authors),
];

/// The folder that holds licence texts alone (REUSE Specification 3.3, "License files").
const LICENSE_FOLDER: &str = "LICENSES";

/// Endings of programs and data, which aren't texts that go with a package even if their names begin so.
const OTHER_ENDINGS: [&str; 32] = [
    "c", "cc", "cpp", "cs", "css", "csv", "go", "h", "hpp", "hs", "java", "jpg", "js", "json", "kt", "lua",
    "m", "mjs", "php", "pl", "png", "py", "rb", "rs", "sh", "spdx", "svg", "swift", "toml", "ts", "xml",
    "yaml",
];

/// The texts that go with a package which has these files.
pub fn license_texts(files: &StoredFiles, known: &KnownTexts) -> Vec<LicenseText> {
    let limit = usize::try_from(MAX_TEXT).unwrap_or(usize::MAX);
    let text = |(kind, path, place): (TextKind, &String, &PathBuf)| {
        // What is no text, or too large for one, is none that goes with a package.
        let text = read_text(place, limit).ok().flatten()?;
        let ids = if kind == TextKind::License { known.ids_of(&text) } else { Vec::new() };
        Some(LicenseText { kind, path: path.clone(), text, ids })
    };
    let texts = files.files.iter().filter_map(|(path, file)| Some((kind_of(path)?, path, &file.place)));
    texts.take(MAX_TEXTS).filter_map(text).collect()
}

/// What a file is for, by its path.
pub fn kind_of(path: &str) -> Option<TextKind> {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    if folder.rsplit('/').next() == Some(LICENSE_FOLDER) {
        return Some(TextKind::License);
    }
    let name = name.to_lowercase();
    let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
    if OTHER_ENDINGS.contains(&ending) {
        return None;
    }
    NAMES.iter().find(|(start, _)| name.starts_with(start)).map(|(_, kind)| *kind)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_known_by_their_names() {
        let all = [
            ("LICENSE", Some(TextKind::License)),
            ("moss/Licence.md", Some(TextKind::License)),
            ("COPYING.LESSER", Some(TextKind::License)),
            ("LICENSE-MIT", Some(TextKind::License)),
            ("LICENSES/Zlib.txt", Some(TextKind::License)),
            ("NOTICE", Some(TextKind::Notice)),
            ("docs/AUTHORS.txt", Some(TextKind::Authors)),
            ("src/license.rs", None),
            ("README.md", None),
            ("include/copyright.h", None),
        ];
        for (path, kind) in all {
            assert_eq!(kind_of(path), kind, "{path}");
        }
    }
}
