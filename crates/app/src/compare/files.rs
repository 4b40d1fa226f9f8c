//! Which files of packages differ between two locks, and how their texts do.

use std::collections::BTreeMap;
use std::path::Path;

use bibliotax_core::compare::{Change, compare};
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_disk::read::read_text;
use bibliotax_store::store::Store;
use similar::TextDiff;

use crate::context::Context;
use crate::failure::Failure;
use crate::shelf::{ShelfOptions, ShelfWork};
use crate::stored_files::{StoredFile, StoredFiles};
use crate::workspace::WorkspaceFolder;

/// Largest text that is compared, in bytes.
const MAX_TEXT: usize = 1 << 20;

/// Most lines of differences that are shown of a package.
const MAX_LINES: usize = 5_000;

/// Lines that are shown around a difference.
const CONTEXT_LINES: usize = 3;

/// The files of a package that differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageFiles {
    /// The package.
    pub name: PackageName,
    /// The files, by their paths.
    pub files: Vec<FileChange>,
    /// How their texts differ, where that was asked.
    pub texts: Vec<TextChange>,
    /// Whether there is more than is shown.
    pub is_cut: bool,
}

/// A file that differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileChange {
    /// Its path in the package.
    pub path: String,
    /// Its size before, in bytes; `None` where it is new.
    pub old: Option<u64>,
    /// Its size after; `None` where it is gone.
    pub new: Option<u64>,
}

/// How the text of a file differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextChange {
    /// Its path in the package.
    pub path: String,
    /// The difference, in the unified format; nothing where it is no text, or too large.
    pub text: Option<String>,
}

/// The files that differ of all packages that do, or only of some; with their texts, where packages are named. What the store lacks is
/// fetched.
pub fn changed_files(
    old: &Lock,
    new: &Lock,
    texts_of: &[String],
    context: &Context<'_>,
) -> Result<Vec<PackageFiles>, Failure> {
    let named: Vec<PackageName> =
        texts_of.iter().map(|word| Failure::read_word(word)).collect::<Result<_, Failure>>()?;
    let changes = compare(Some(old), new);
    if let Some(name) =
        named.iter().find(|name| !changes.iter().any(|change| change.package().name == **name))
    {
        return Err(Failure::new("compare.unknown", format!("{name} is the same in both locks"))
            .advice("`bibliotax compare` lists the packages that differ"));
    }
    let workspace = WorkspaceFolder::find(context.folder)?;
    let options = ShelfOptions::default();
    for lock in [old, new] {
        ShelfWork::new(&workspace, lock, &options, context).fetch()?;
    }
    let store = context.environment.open_store()?;
    let wanted = changes.iter().filter(|change| named.is_empty() || named.contains(&change.package().name));
    let with_texts = !named.is_empty();
    let of_change = |change: &Change<'_>| of_package(change, with_texts, &store);
    let found = wanted.map(of_change).collect::<Result<Vec<_>, Failure>>()?;
    Ok(found.into_iter().filter(|package| !package.files.is_empty()).collect())
}

fn of_package(change: &Change<'_>, with_texts: bool, store: &Store) -> Result<PackageFiles, Failure> {
    let (before, after) = (files_of(change.old, store)?, files_of(change.new, store)?);
    let name = change.package().name.clone();
    let mut found = PackageFiles { name, files: Vec::new(), texts: Vec::new(), is_cut: false };
    let mut lines = 0;
    let mut paths: Vec<&String> = before.keys().chain(after.keys()).collect();
    paths.sort();
    paths.dedup();
    for path in paths {
        let (old, new) = (before.get(path), after.get(path));
        if old.map(|file| file.contents) == new.map(|file| file.contents) {
            continue;
        }
        let size = |file: Option<&StoredFile>| file.map(|file| file.size);
        found.files.push(FileChange { path: path.clone(), old: size(old), new: size(new) });
        if with_texts && lines < MAX_LINES {
            let text =
                difference(path, old.map(|file| file.place.as_path()), new.map(|file| file.place.as_path()))?;
            lines += text.as_ref().map_or(1, |text| text.lines().count());
            found.texts.push(TextChange { path: path.clone(), text });
        } else if with_texts {
            found.is_cut = true;
        }
    }
    Ok(found)
}

/// The files of a locked package, as far as this machine has them.
fn files_of(package: Option<&LockedPackage>, store: &Store) -> Result<BTreeMap<String, StoredFile>, Failure> {
    let files = package.map(|package| StoredFiles::of(package, store)).transpose()?;
    Ok(files.map(|found| found.files).unwrap_or_default())
}

/// How a text differs from another, in the unified format; nothing where one of them is no text, or too large.
fn difference(path: &str, old: Option<&Path>, new: Option<&Path>) -> Result<Option<String>, Failure> {
    let text = |place: Option<&Path>| match place {
        None => Some(String::new()),
        // Of what is no text, or too large, only the sizes are shown.
        Some(place) => read_text(place, MAX_TEXT).ok().flatten(),
    };
    let (Some(before), Some(after)) = (text(old), text(new)) else { return Ok(None) };
    let diff = TextDiff::from_lines(&before, &after);
    let name = |place: Option<&Path>, side: &str| {
        place.map_or_else(|| "/dev/null".to_owned(), |_| format!("{side}/{path}"))
    };
    let (from, to) = (name(old, "a"), name(new, "b"));
    Ok(Some(diff.unified_diff().context_radius(CONTEXT_LINES).header(&from, &to).to_string()))
}
