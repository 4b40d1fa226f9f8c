//! How the files of two releases differ, together and role by role.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_archive::error::ArchiveError;
use bibliotax_archive::inspect::digests;
use bibliotax_core::card::{Card, FileRecord};
use bibliotax_core::digest::Digest;
use bibliotax_core::exposes::Exposed;
use bibliotax_core::file_selection::{CompiledSelection, FileSelection, SelectsFiles as _};
use bibliotax_core::name::RoleName;

/// Files that differ between two releases, by their paths in the package.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FileChanges {
    /// New ones.
    pub added: Vec<String>,
    /// Those that are no more.
    pub gone: Vec<String>,
    /// Those with other contents.
    pub changed: Vec<String>,
}

impl FileChanges {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.added.is_empty() && self.gone.is_empty() && self.changed.is_empty()
    }

    fn between(old: &Files, new: &Files, is_in: impl Fn(&str) -> bool) -> Self {
        let only = |one: &Files, other: &Files| {
            one.keys().filter(|path| is_in(path) && !other.contains_key(*path)).cloned().collect()
        };
        let differs = |(path, digest): &(&String, &Digest)| old.get(*path).is_some_and(|old| old != *digest);
        let changed = new.iter().filter(|file| is_in(file.0) && differs(file)).map(|(path, _)| path.clone());
        Self { added: only(new, old), gone: only(old, new), changed: changed.collect() }
    }
}

/// Files of a package by their paths, with the digests of their contents.
type Files = BTreeMap<String, Digest>;

/// How the files of a release differ from those of another: all, and those of the roles of both that differ.
pub fn file_changes(
    (old, old_archives): (&Card, &[PathBuf]),
    (new, new_archives): (&Card, &[PathBuf]),
) -> Result<(FileChanges, BTreeMap<RoleName, FileChanges>), ArchiveError> {
    let [before, after] = [files(old, old_archives)?, files(new, new_archives)?];
    let all = FileChanges::between(&before, &after, |_| true);
    let roles = old.exposes.keys().chain(new.exposes.keys());
    let of_role = |role: &RoleName| {
        let exposed = [old, new].into_iter().filter_map(|card| card.exposes.get(role));
        let inside: Vec<Role> = exposed.map(|exposed| Role::of(exposed)).collect();
        let changes = FileChanges::between(&before, &after, |path| inside.iter().any(|role| role.has(path)));
        (role.clone(), changes)
    };
    let roles: BTreeMap<RoleName, FileChanges> = roles.map(of_role).collect();
    Ok((all, roles.into_iter().filter(|(_, changes)| !changes.is_empty()).collect()))
}

/// The files of a release: what its archives hold, without what is left out of them.
fn files(card: &Card, archives: &[PathBuf]) -> Result<Files, ArchiveError> {
    let mut files = Files::new();
    for (file, archive) in card.files.iter().zip(archives) {
        files.extend(files_of(file, archive)?);
    }
    Ok(files)
}

fn files_of(file: &FileRecord, archive: &Path) -> Result<Files, ArchiveError> {
    let selection = file.selection().compiled();
    let inside = |path: &str| -> Option<String> {
        let path = file.path_inside(path.trim_start_matches("./"))?;
        selection.takes(path).then(|| path.to_owned())
    };
    let all = digests(archive, file.format)?;
    Ok(all.into_iter().filter_map(|(path, digest)| Some((inside(&path)?, digest))).collect())
}

/// What belongs to a role.
struct Role {
    places: Vec<String>,
    is_all: bool,
    patterns: Option<CompiledSelection>,
}

impl Role {
    fn of(exposed: &[Exposed]) -> Self {
        let (mut places, mut is_all, mut selection) = (Vec::new(), false, FileSelection::default());
        for one in exposed {
            match one {
                Exposed::Path(path) => match path.inside() {
                    Some(path) => places.push(path.to_string()),
                    None => is_all = true,
                },
                Exposed::Files(pattern) => selection.include.push(pattern.clone()),
                Exposed::Except(pattern) => selection.exclude.push(pattern.clone()),
                Exposed::Value(_) => {}
            }
        }
        let patterns = (!selection.include.is_empty()).then(|| selection.compiled());
        Self { places, is_all, patterns }
    }

    fn has(&self, path: &str) -> bool {
        let is_at = |place: &String| {
            path.strip_prefix(place.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        self.is_all
            || self.places.iter().any(is_at)
            || self.patterns.as_ref().is_some_and(|patterns| patterns.takes(path))
    }
}
