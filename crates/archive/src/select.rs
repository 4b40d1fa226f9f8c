//! Which files of a folder go into a package, and which requested files are left out.
//!
//! A pattern such as `**` asks for more than its author has in mind. What belongs to version control, what may hold a secret
//! and what version control ignores goes along only where it is named itself, without a wildcard.

use std::collections::BTreeSet;
use std::fs::{self, DirEntry, FileType};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::inner_path::{InnerPath, PathClash, PathSet, clashing};
use bibliotax_core::{lock, manifest};
use bibliotax_disk::error::At;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use ignore::gitignore::{Gitignore, GitignoreBuilder};

use crate::error::PackError;
use crate::secrets::is_secret_name;

/// What version control keeps for itself.
const VERSION_CONTROL: [&str; 7] = [".git", ".hg", ".svn", ".bzr", ".jj", "CVS", "_darcs"];

/// How many entries of a folder that is left out are checked to see whether anything in it was selected.
const MAX_LOOKED_AT: usize = 2000;

/// A file that goes into a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackFile {
    /// Its path inside the package.
    pub path: InnerPath,
    /// Where it is now.
    pub from: PathBuf,
    /// Its size in bytes.
    pub size: u64,
    /// Whether it can be run.
    pub executable: bool,
}

/// Something that was selected and isn't packed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct LeftOut {
    /// Its path seen from the folder, a folder's with `/` at the end.
    pub path: String,
    /// Why it is left out.
    pub why: Why,
}

/// Why something is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Why {
    /// Its name begins with a point.
    Hidden,
    /// Version control ignores it.
    Ignored,
    /// It may hold a secret.
    Secret,
    /// Version control keeps it for itself.
    VersionControl,
}

impl Why {
    /// The reason in words.
    pub fn in_words(self) -> &'static str {
        match self {
            Self::Hidden => "hidden",
            Self::Ignored => "ignored by version control",
            Self::Secret => "may hold a secret",
            Self::VersionControl => "version control's own",
        }
    }
}

/// The first few of what was left out, each with its reason, and how many more there are.
pub fn in_words(left_out: &[LeftOut]) -> String {
    const SHOWN: usize = 6;
    let one = |left: &LeftOut| format!("{} ({})", left.path, left.why.in_words());
    let mut sentence: Vec<String> = left_out.iter().take(SHOWN).map(one).collect();
    if left_out.len() > SHOWN {
        sentence.push(format!("{} more", left_out.len() - SHOWN));
    }
    sentence.join(", ")
}

/// What was selected in a folder.
#[derive(Debug, Default)]
pub struct Selection {
    /// The files that go along, sorted by path.
    pub files: Vec<PackFile>,
    /// What was selected and isn't packed, sorted by path.
    pub left_out: Vec<LeftOut>,
}

/// Selects the files of a package's folder.
///
/// Without `patterns` these are all that are not hidden; with them, what they match. The shelf, the lock and the folders in
/// `apart` never go along, and the manifest only where a pattern is its name: what others need of it stands in the card.
pub fn select(
    folder: &Path,
    patterns: Option<&[String]>,
    apart: &[&InnerPath],
) -> Result<Selection, PackError> {
    let named = named_in(patterns);
    let mut apart: BTreeSet<String> = apart.iter().map(|path| path.as_str().to_owned()).collect();
    apart.extend(["shelf", lock::FILE_NAME, manifest::FILE_NAME].map(str::to_owned));
    let skips_hidden = patterns.is_none();
    let (wanted, within, found) = (wanted(patterns)?, PathBuf::new(), Selection::default());
    Walk { folder, within, wanted, named, apart, skips_hidden, found }.go()
}

/// Selects the files of a folder that is published as a part: all there are, or what the patterns match.
pub fn select_part(folder: &Path, patterns: Option<&[String]>) -> Result<Selection, PackError> {
    let (wanted, named, apart) = (wanted(patterns)?, named_in(patterns), BTreeSet::new());
    let within = PathBuf::from(folder.file_name().unwrap_or_default());
    Walk { folder, within, wanted, named, apart, skips_hidden: false, found: Selection::default() }.go()
}

fn inside(pattern: &str) -> &str {
    pattern.trim_start_matches("./")
}

/// The patterns that name one file.
fn named_in(patterns: Option<&[String]>) -> BTreeSet<String> {
    let patterns = patterns.unwrap_or_default().iter().map(|pattern| inside(pattern));
    patterns.filter(|pattern| !pattern.contains(['*', '?', '[', '{', '\\'])).map(str::to_owned).collect()
}

fn wanted(patterns: Option<&[String]>) -> Result<Option<GlobSet>, PackError> {
    let Some(patterns) = patterns else { return Ok(None) };
    let bad = |pattern: &str| PackError::BadPattern { pattern: pattern.to_owned() };
    let mut set = GlobSetBuilder::new();
    for pattern in patterns {
        let glob = GlobBuilder::new(inside(pattern)).literal_separator(true).build();
        set.add(glob.map_err(|_| bad(pattern))?);
    }
    set.build().map(Some).map_err(|_| bad(&patterns.join(", ")))
}

/// A walk through a folder.
struct Walk<'w> {
    folder: &'w Path,
    /// The folder's own name, where that says something of the files in it.
    within: PathBuf,
    /// What is asked for; everything without it.
    wanted: Option<GlobSet>,
    /// Files that are named themselves.
    named: BTreeSet<String>,
    /// What goes elsewhere or nowhere.
    apart: BTreeSet<String>,
    skips_hidden: bool,
    found: Selection,
}

impl Walk<'_> {
    fn go(mut self) -> Result<Selection, PackError> {
        for name in self.named.clone() {
            // A folder can't be named like that, and where there is no such file, nothing goes along.
            let from = self.folder.join(&name);
            if fs::symlink_metadata(&from).is_ok_and(|found| !found.is_dir()) {
                self.take(Path::new(&name), &from)?;
            }
        }
        self.enter(Path::new(""), &Ignored::above(self.folder))?;
        self.found.left_out.sort();
        self.found.files = sorted(self.found.files)?;
        Ok(self.found)
    }

    fn leave_out(&mut self, path: String, why: Why) {
        self.found.left_out.push(LeftOut { path, why });
    }

    fn enter(&mut self, inside: &Path, ignored: &Ignored) -> Result<(), PackError> {
        let folder = self.folder.join(inside);
        let ignored = ignored.and_in(&folder);
        for entry in fs::read_dir(&folder).at("read", &folder)? {
            let entry = entry.at("read", &folder)?;
            let kind = entry.file_type().at("read", entry.path())?;
            let path = inside.join(entry.file_name());
            let shown = shown(&path);
            if self.apart.contains(&shown) || self.named.contains(&shown) {
                continue;
            }
            match self.reason_against(&path, &entry, kind, &ignored) {
                Some(why) if kind.is_dir() && self.has_wanted(&path) => self.leave_out(shown + "/", why),
                Some(why) if !kind.is_dir() && self.is_wanted(&path) => self.leave_out(shown, why),
                None if kind.is_dir() => self.enter(&path, &ignored)?,
                None if self.is_wanted(&path) => self.take(&path, &entry.path())?,
                _ => {}
            }
        }
        Ok(())
    }

    fn reason_against(
        &self,
        path: &Path,
        entry: &DirEntry,
        kind: FileType,
        ignored: &Ignored,
    ) -> Option<Why> {
        let name = entry.file_name().to_string_lossy().into_owned();
        if VERSION_CONTROL.contains(&name.as_str()) {
            Some(Why::VersionControl)
        } else if is_secret_name(&self.within.join(path)) {
            Some(Why::Secret)
        } else if ignored.has(&entry.path(), kind.is_dir()) {
            Some(Why::Ignored)
        } else {
            (self.skips_hidden && name.starts_with('.')).then_some(Why::Hidden)
        }
    }

    fn is_wanted(&self, path: &Path) -> bool {
        self.wanted.as_ref().is_none_or(|wanted| wanted.is_match(path))
    }

    /// Whether anything in a folder was selected; assumed for a large folder.
    fn has_wanted(&self, folder: &Path) -> bool {
        let Some(wanted) = &self.wanted else { return true };
        let (mut open, mut looked_at) = (vec![folder.to_owned()], 0);
        while let Some(inside) = open.pop() {
            for entry in fs::read_dir(self.folder.join(&inside)).into_iter().flatten().flatten() {
                let path = inside.join(entry.file_name());
                looked_at += 1;
                if looked_at > MAX_LOOKED_AT || wanted.is_match(&path) && !self.named.contains(&shown(&path))
                {
                    return true;
                }
                if entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                    open.push(path);
                }
            }
        }
        false
    }

    fn take(&mut self, path: &Path, from: &Path) -> Result<(), PackError> {
        let shown = shown(path);
        let metadata = fs::symlink_metadata(from).at("read", from)?;
        if !metadata.is_file() {
            return Err(PackError::Link { file: shown });
        }
        let path =
            InnerPath::new(&shown).map_err(|problem| PackError::Unpackable { file: shown, problem })?;
        let executable = is_executable(&metadata);
        self.found.files.push(PackFile { path, from: from.to_owned(), size: metadata.len(), executable });
        Ok(())
    }
}

fn shown(path: &Path) -> String {
    path.to_string_lossy().replace('\\', "/")
}

/// What version control ignores: rules from the outermost folder to the innermost, of which the last one that says something
/// counts.
#[derive(Clone, Default)]
struct Ignored(Vec<Arc<Gitignore>>);

impl Ignored {
    /// The rules that hold in a folder because of the folders above it, up to the repository's own. Where they ignore the folder
    /// itself, it was selected anyway, and they don't apply inside it.
    fn above(folder: &Path) -> Self {
        let Ok(folder) = std::path::absolute(folder) else { return Self::default() };
        let Some(root) = folder.ancestors().find(|above| above.join(".git").exists()) else {
            return Self::default();
        };
        let of_person = GitignoreBuilder::new(root).build_global().0;
        let exclude = root.join(".git").join("info").join("exclude");
        let mut of_clone = GitignoreBuilder::new(root);
        // Where there is no such file, there are no such rules.
        let _ = of_clone.add(exclude);
        let mut rules = Self(vec![Arc::new(of_person)]);
        rules.0.extend(of_clone.build().ok().map(Arc::new));
        let mut below: Vec<&Path> = folder.ancestors().take_while(|above| above.starts_with(root)).collect();
        below.reverse();
        for pair in below.windows(2) {
            rules = rules.and_in(pair[0]);
            if rules.has(pair[1], true) {
                return Self::default();
            }
        }
        rules
    }

    /// With the rules that a folder has of its own.
    fn and_in(&self, folder: &Path) -> Self {
        let file = folder.join(".gitignore");
        let mut rules = self.clone();
        if file.is_file() {
            rules.0.push(Arc::new(Gitignore::new(file).0));
        }
        rules
    }

    fn has(&self, path: &Path, is_folder: bool) -> bool {
        let Ok(path) = std::path::absolute(path) else { return false };
        let said = self.0.iter().rev().map(|rules| rules.matched(&path, is_folder));
        said.into_iter().find(|said| !said.is_none()).is_some_and(|said| said.is_ignore())
    }
}

/// The files sorted by path, none of which clash on any system.
fn sorted(mut files: Vec<PackFile>) -> Result<Vec<PackFile>, PackError> {
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut paths = PathSet::default();
    for (at, file) in files.iter().enumerate() {
        let clash = |clash: PathClash<'_>| {
            let before = files[..at].iter().map(|file| &file.path);
            let other = clashing(clash.path, before).unwrap_or(clash.path).to_owned();
            PackError::Clash { file: file.path.to_string(), other }
        };
        paths.add_file(&file.path).map_err(clash)?;
    }
    Ok(files)
}

#[cfg(unix)]
fn is_executable(metadata: &fs::Metadata) -> bool {
    std::os::unix::fs::PermissionsExt::mode(&metadata.permissions()) & 0o100 != 0
}

#[cfg(not(unix))]
fn is_executable(_: &fs::Metadata) -> bool {
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(files: &[&str]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for path in files {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(&path, path.file_name().unwrap().as_encoded_bytes()).unwrap();
        }
        folder
    }

    fn sentence(selection: Result<Selection, PackError>) -> (Vec<String>, Vec<String>) {
        let Selection { files, left_out } = selection.unwrap();
        let files = files.iter().map(|file| file.path.to_string()).collect();
        (files, left_out.iter().map(|left| format!("{}: {:?}", left.path, left.why)).collect())
    }

    fn patterns(patterns: &[&str]) -> Vec<String> {
        patterns.iter().map(|pattern| (*pattern).to_owned()).collect()
    }

    const PROJECT: [&str; 12] = [
        "bibliotax.toml",
        "bibliotax.lock",
        "shelf/a/x",
        "src/shelf/y",
        ".git/config",
        "out/z.o",
        "out/deep/y.o",
        "a.c",
        ".env",
        ".ssh/id_rsa",
        ".hidden",
        "src/.git/HEAD",
    ];

    #[test]
    fn takes_what_is_neither_hidden_nor_ignored_nor_our_own() {
        let folder = tree(&PROJECT);
        fs::write(folder.path().join(".gitignore"), "out/\n").unwrap();
        let (files, left_out) = sentence(select(folder.path(), None, &[]));
        assert_eq!(files, ["a.c", "src/shelf/y"]);
        let expected = [
            ".env: Secret",
            ".git/: VersionControl",
            ".gitignore: Hidden",
            ".hidden: Hidden",
            ".ssh/: Secret",
            "out/: Ignored",
            "src/.git/: VersionControl",
        ];
        assert_eq!(left_out, expected);
        assert!(matches!(
            select(folder.path(), Some(&patterns(&["["])), &[]),
            Err(PackError::BadPattern { .. })
        ));
    }

    #[test]
    fn a_pattern_never_takes_what_has_to_be_named() {
        let folder = tree(&PROJECT);
        fs::write(folder.path().join(".gitignore"), "out/\n").unwrap();
        let (files, left_out) = sentence(select(folder.path(), Some(&patterns(&["**"])), &[]));
        assert_eq!(files, [".gitignore", ".hidden", "a.c", "src/shelf/y"]);
        assert_eq!(left_out.len(), 5, "{left_out:?}");
        let named = patterns(&["out/z.o", "./.env", ".ssh/id_rsa", ".ssh/*", "src/**", "none"]);
        let (files, left_out) = sentence(select(folder.path(), Some(&named), &[]));
        assert_eq!(files, [".env", ".ssh/id_rsa", "out/z.o", "src/shelf/y"]);
        assert_eq!(left_out, ["src/.git/: VersionControl"]);
        let (files, left_out) = sentence(select(folder.path(), Some(&patterns(&["*.c"])), &[]));
        assert_eq!((files.len(), left_out.len()), (1, 0), "what wasn't asked for is not left out");
    }

    #[test]
    fn a_part_follows_rules_that_do_not_ignore_all_of_it() {
        let folder = tree(&[
            "build/moss.o",
            "build/.env",
            "build/log.txt",
            "lib/moss.o",
            "lib/x",
            ".git/HEAD",
            ".git/info/exclude",
        ]);
        fs::write(folder.path().join(".gitignore"), "build/\n*.o\n").unwrap();
        fs::write(folder.path().join(".git/info/exclude"), "x\n").unwrap();
        fs::write(folder.path().join("build/.gitignore"), "log.*\n").unwrap();
        let part =
            |name: &str, asked: Option<&[String]>| sentence(select_part(&folder.path().join(name), asked));
        let (files, left_out) = part("build", None);
        assert_eq!(files, [".gitignore", "moss.o"], "the folder is ignored as such and was selected");
        assert_eq!(left_out, [".env: Secret", "log.txt: Ignored"]);
        let (files, left_out) = part("lib", None);
        assert_eq!(files, [""; 0]);
        assert_eq!(left_out, ["moss.o: Ignored", "x: Ignored"]);
        assert_eq!(part("lib", Some(&patterns(&["moss.o"]))).0, ["moss.o"]);
    }

    #[cfg(unix)]
    #[test]
    fn refuses_links_and_names_that_some_system_can_not_have() {
        let folder = tree(&["a"]);
        std::os::unix::fs::symlink("a", folder.path().join("b")).unwrap();
        assert!(matches!(select(folder.path(), None, &[]), Err(PackError::Link { .. })));
        assert!(matches!(select(tree(&["nul.h"]).path(), None, &[]), Err(PackError::Unpackable { .. })));
        assert!(matches!(select(tree(&["A", "a"]).path(), None, &[]), Err(PackError::Clash { .. })));
    }
}
