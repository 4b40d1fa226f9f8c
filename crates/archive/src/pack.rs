//! A package folder as a list of files, and as an archive that comes out the same wherever it is made.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use bibliotax_core::inner_path::{InnerPath, PathSet, clashing};
use bibliotax_core::{lock, manifest};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};
use ignore::{DirEntry, WalkBuilder};

use crate::error::PackError;

/// Compression level: small archives at a speed that publishing can wait for.
const LEVEL: i32 = 9;

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

/// The files of a package folder, sorted by path.
///
/// Without `patterns` these are all that are neither hidden nor named in a `.gitignore` inside the folder;
/// with them, just what they match and the manifest. The shelf, the lock and the folders in `apart` never go along.
pub fn list(
    folder: &Path,
    patterns: Option<&[String]>,
    apart: &[&InnerPath],
) -> Result<Vec<PackFile>, PackError> {
    let wanted = patterns.map(|patterns| glob_set(patterns, Some(manifest::FILE_NAME))).transpose()?;
    let is_apart = |path: &Path| apart.iter().any(|apart| path.starts_with(apart.as_str()));
    let is_wanted =
        |path: &Path| wanted.as_ref().is_none_or(|wanted| wanted.is_match(path)) && !is_apart(path);
    sorted(walked(walk(folder, wanted.is_some()), folder, is_wanted)?)
}

/// The files of a folder that is published as a part, sorted by path inside it: all there are, or what the patterns
/// match.
pub fn list_part(folder: &Path, patterns: Option<&[String]>) -> Result<Vec<PackFile>, PackError> {
    let wanted = patterns.map(|patterns| glob_set(patterns, None)).transpose()?;
    let all = WalkBuilder::new(folder).standard_filters(false).build();
    let is_wanted = |path: &Path| wanted.as_ref().is_none_or(|wanted| wanted.is_match(path));
    sorted(walked(all, folder, is_wanted)?)
}

fn walked(
    walk: ignore::Walk,
    folder: &Path,
    is_wanted: impl Fn(&Path) -> bool,
) -> Result<Vec<PackFile>, PackError> {
    let mut files = Vec::new();
    for entry in walk {
        let entry = entry.map_err(|error| disk_error(folder, error))?;
        if entry.file_type().is_none_or(|kind| kind.is_dir()) {
            continue;
        }
        let relative = entry.path().strip_prefix(folder).unwrap_or(entry.path());
        if is_wanted(relative) {
            files.push(pack_file(&entry, relative)?);
        }
    }
    Ok(files)
}

/// The files sorted by path, none of which clash on any system.
fn sorted(mut files: Vec<PackFile>) -> Result<Vec<PackFile>, PackError> {
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let mut paths = PathSet::default();
    for (at, file) in files.iter().enumerate() {
        let clash = |clash: &str| {
            let before = files[..at].iter().map(|file| &file.path);
            let other = clashing(clash, before).unwrap_or(clash).to_owned();
            PackError::Clash { file: file.path.to_string(), other }
        };
        paths.add_file(&file.path).map_err(clash)?;
    }
    Ok(files)
}

fn walk(folder: &Path, everything: bool) -> ignore::Walk {
    let stays = |entry: &DirEntry| {
        let name = entry.file_name().to_string_lossy();
        entry.depth() != 1 || !matches!(&*name, "shelf" | lock::FILE_NAME)
    };
    let mut builder = WalkBuilder::new(folder);
    builder.standard_filters(false).hidden(!everything).git_ignore(!everything).require_git(false);
    builder.filter_entry(stays).build()
}

fn pack_file(entry: &DirEntry, relative: &Path) -> Result<PackFile, PackError> {
    let shown = relative.to_string_lossy().replace('\\', "/");
    let metadata = fs::symlink_metadata(entry.path()).at("read", entry.path())?;
    if !metadata.is_file() {
        return Err(PackError::Link { file: shown });
    }
    let path = InnerPath::new(&shown).map_err(|problem| PackError::Unpackable { file: shown, problem })?;
    let executable = is_executable(&metadata);
    Ok(PackFile { path, from: entry.path().to_owned(), size: metadata.len(), executable })
}

#[cfg(unix)]
fn is_executable(metadata: &fs::Metadata) -> bool {
    std::os::unix::fs::PermissionsExt::mode(&metadata.permissions()) & 0o100 != 0
}

#[cfg(not(unix))]
fn is_executable(_: &fs::Metadata) -> bool {
    false
}

fn glob_set(patterns: &[String], also: Option<&str>) -> Result<GlobSet, PackError> {
    let bad = |pattern: &String| PackError::BadPattern { pattern: pattern.clone() };
    let mut set = GlobSetBuilder::new();
    let patterns_inside = patterns.iter().map(|pattern| pattern.trim_start_matches("./").to_owned());
    for pattern in patterns_inside.chain(also.map(str::to_owned)) {
        let glob = GlobBuilder::new(&pattern).literal_separator(true).build().map_err(|_| bad(&pattern))?;
        set.add(glob);
    }
    set.build().map_err(|_| bad(&patterns.join(", ")))
}

fn disk_error(folder: &Path, error: ignore::Error) -> PackError {
    let source = error.into_io_error().unwrap_or_else(|| io::Error::other("a folder leads into itself"));
    DiskError::new("read", folder, source).into()
}

/// Writes the archive of `files`: a tar in Zstandard, sorted, without times, owners or modes of this machine.
pub fn write_archive<W: Write>(files: &[PackFile], into: W) -> Result<W, PackError> {
    let packed = |error: io::Error, path: &Path| DiskError::new("pack", path, error);
    let encoder = zstd::Encoder::new(into, LEVEL).map_err(|error| packed(error, Path::new(".")))?;
    let mut archive = tar::Builder::new(encoder);
    for file in files {
        append(&mut archive, file).map_err(|error| packed(error, &file.from))?;
    }
    let finished = archive.into_inner().and_then(zstd::Encoder::finish);
    Ok(finished.map_err(|error| packed(error, Path::new(".")))?)
}

fn append<W: Write>(archive: &mut tar::Builder<W>, file: &PackFile) -> io::Result<()> {
    let mut header = header(file.size, file.executable);
    let source = io::Read::take(File::open(&file.from)?, file.size);
    let mut source = Counted { source, read: 0 };
    archive.append_data(&mut header, file.path.as_str(), &mut source)?;
    if source.read < file.size {
        return Err(io::Error::other("it became shorter while it was packed"));
    }
    Ok(())
}

/// The header of a file of this size, with nothing in it that could differ.
pub fn header(size: u64, executable: bool) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(tar::EntryType::Regular);
    header.set_mode(if executable { 0o755 } else { 0o644 });
    header.set_uid(0);
    header.set_gid(0);
    header.set_mtime(0);
    header.set_size(size);
    header
}

/// Counts what is read, for a file that shrinks under our hands.
struct Counted<R> {
    source: R,
    read: u64,
}

impl<R: io::Read> io::Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.source.read(buffer)?;
        self.read += read as u64;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(files: &[(&str, &str)]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        folder
    }

    fn names(folder: &tempfile::TempDir, patterns: Option<&[String]>) -> Vec<String> {
        list(folder.path(), patterns, &[]).unwrap().iter().map(|file| file.path.to_string()).collect()
    }

    #[test]
    fn takes_what_is_neither_hidden_nor_ignored_nor_our_own() {
        let files =
            ["bibliotax.toml", "bibliotax.lock", "shelf/a/x", "src/shelf/y", ".git/config", "out/z.o", "a.c"];
        let folder = tree(&files.map(|name| (name, name)));
        fs::write(folder.path().join(".gitignore"), "out/\n").unwrap();
        assert_eq!(names(&folder, None), ["a.c", "bibliotax.toml", "src/shelf/y"]);
        let patterns = ["out/*.o".to_owned()];
        assert_eq!(names(&folder, Some(&patterns)), ["bibliotax.toml", "out/z.o"]);
        assert!(matches!(list(folder.path(), Some(&["[".into()]), &[]), Err(PackError::BadPattern { .. })));
    }

    #[cfg(unix)]
    #[test]
    fn refuses_links_and_names_that_some_system_can_not_have() {
        let folder = tree(&[("a", "")]);
        std::os::unix::fs::symlink("a", folder.path().join("b")).unwrap();
        assert!(matches!(list(folder.path(), None, &[]), Err(PackError::Link { .. })));
        assert!(matches!(list(tree(&[("nul.h", "")]).path(), None, &[]), Err(PackError::Unpackable { .. })));
        assert!(matches!(
            list(tree(&[("A", ""), ("a", "")]).path(), None, &[]),
            Err(PackError::Clash { .. })
        ));
    }

    #[cfg(unix)]
    #[test]
    fn the_same_tree_gives_the_same_archive_whatever_its_times_and_modes() {
        use std::os::unix::fs::PermissionsExt;
        let archive = |mode: u32, at: u64| {
            let folder =
                tree(&[("b/run.sh", "#!/bin/sh"), ("a.txt", "alpha"), (&"long/".repeat(30), "")][..2]);
            for (name, mode) in [("a.txt", mode), ("b/run.sh", mode | 0o100)] {
                let path = folder.path().join(name);
                fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
                let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(at);
                File::options().append(true).open(&path).unwrap().set_modified(time).unwrap();
            }
            write_archive(&list(folder.path(), None, &[]).unwrap(), Vec::new()).unwrap()
        };
        assert_eq!(archive(0o600, 5), archive(0o666, 1_700_000_000));
    }
}
