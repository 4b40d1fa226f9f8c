//! Reads a local archive without unpacking it: its list of files, and the text of one.
//!
//! Nothing here is believed: what is to be used is unpacked with all guards.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufReader, Read};
use std::ops::ControlFlow;
use std::path::Path;

use bibliotax_core::card::ArchiveFormat;
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::inner_path::InnerPath;
use bibliotax_disk::error::At;

use crate::decoding::decoded;
use crate::entry_visitor::Visit;
use crate::error::ArchiveError;
use crate::unpack::{tar, zip};

/// Most bytes that are looked through.
const MAX_BYTES: u64 = 16 << 30;

/// Most texts that are read at once.
pub const MAX_TEXTS: usize = 64;

/// A file in an archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArchivedFile {
    /// Its path, as the archive has it.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
}

/// The files in an archive, in its order.
pub fn contents(archive: &Path, format: ArchiveFormat) -> Result<Vec<ArchivedFile>, ArchiveError> {
    let mut found = Vec::new();
    visit(archive, format, &mut |path, size, _| {
        found.push(ArchivedFile { path: path.to_owned(), size });
        ControlFlow::Continue(())
    })?;
    Ok(found)
}

/// The files in an archive by their paths, with the digests of their contents.
pub fn digests(archive: &Path, format: ArchiveFormat) -> Result<BTreeMap<String, Digest>, ArchiveError> {
    let (mut found, mut failed) = (BTreeMap::new(), None);
    visit(archive, format, &mut |path, _, contents| {
        let mut hasher = Hasher::default();
        match io::copy(contents, &mut hasher) {
            Ok(_) => {
                found.insert(path.to_owned(), hasher.finish());
                ControlFlow::Continue(())
            }
            Err(error) => {
                failed = Some(error);
                ControlFlow::Break(())
            }
        }
    })?;
    match failed {
        Some(error) => Err(error).at("read", archive)?,
        None => Ok(found),
    }
}

/// The first files in an archive, in its order: at most so many, and none that lies behind more bytes than that. Whether these are
/// all.
pub fn first_contents(
    archive: &Path,
    format: ArchiveFormat,
    most: usize,
    most_bytes: u64,
) -> Result<(Vec<ArchivedFile>, bool), ArchiveError> {
    let (mut found, mut bytes, mut is_all) = (Vec::new(), 0_u64, true);
    visit(archive, format, &mut |path, size, _| {
        bytes = bytes.saturating_add(size);
        if found.len() == most || bytes > most_bytes {
            is_all = false;
            return ControlFlow::Break(());
        }
        found.push(ArchivedFile { path: path.to_owned(), size });
        ControlFlow::Continue(())
    })?;
    Ok((found, is_all))
}

/// The text of a file in an archive, at most `most` bytes of it; `None` where there is none.
pub fn text_of(
    archive: &Path,
    format: ArchiveFormat,
    wanted: &str,
    most: u64,
) -> Result<Option<String>, ArchiveError> {
    let mut found = None;
    visit(archive, format, &mut |path, _, contents| {
        if path.trim_start_matches("./") != wanted {
            return ControlFlow::Continue(());
        }
        let mut bytes = Vec::new();
        let read = contents.take(most).read_to_end(&mut bytes);
        found = read.ok().and_then(|_| String::from_utf8(bytes).ok());
        ControlFlow::Break(())
    })?;
    Ok(found)
}

/// The texts of those files in an archive that are wanted, by their paths: of each at most so many bytes, and at most [`MAX_TEXTS`].
pub fn texts_of(
    archive: &Path,
    format: ArchiveFormat,
    is_wanted: &dyn Fn(&str) -> bool,
    most: u64,
) -> Result<BTreeMap<String, String>, ArchiveError> {
    let mut found = BTreeMap::new();
    visit(archive, format, &mut |path, _, contents| {
        let path = path.trim_start_matches("./");
        if !is_wanted(path) {
            return ControlFlow::Continue(());
        }
        let mut bytes = Vec::new();
        if contents.take(most).read_to_end(&mut bytes).is_ok() {
            found.insert(path.to_owned(), String::from_utf8_lossy(&bytes).into_owned());
        }
        if found.len() == MAX_TEXTS { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    })?;
    Ok(found)
}

/// The one folder that all files are in; `None` where there is none.
pub fn leading_folder(contents: &[ArchivedFile]) -> Option<InnerPath> {
    let first = |file: &ArchivedFile| {
        let path = InnerPath::on_tolerant_system(&file.path).ok()?;
        Some(path.as_str().split_once('/')?.0.to_owned())
    };
    let folder = first(contents.first()?)?;
    let is_there = |file: &ArchivedFile| first(file).as_deref() == Some(folder.as_str());
    contents.iter().all(is_there).then(|| InnerPath::new(&folder).ok()).flatten()
}

fn visit(archive: &Path, format: ArchiveFormat, visit: &mut Visit<'_>) -> Result<(), ArchiveError> {
    let file = BufReader::new(File::open(archive).at("read", archive)?);
    match format {
        ArchiveFormat::Zip => zip::look(file, visit),
        format => tar::look(decoded(file, format)?.take(MAX_BYTES), format, visit),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_leads_only_where_all_files_are_in_it() {
        let inside = |paths: &[&str]| -> Vec<ArchivedFile> {
            paths.iter().map(|path| ArchivedFile { path: (*path).to_owned(), size: 1 }).collect()
        };
        for (paths, folder) in [
            (&["moss-1.0/map.txt", "./moss-1.0/src/a.c"][..], Some("moss-1.0")),
            (&["moss-1.0/map.txt", "README"], None),
            (&["a/x", "b/x"], None),
            (&["README"], None),
            (&["../x/y"], None),
            (&[], None),
        ] {
            assert_eq!(leading_folder(&inside(paths)).map(|f| f.to_string()).as_deref(), folder, "{paths:?}");
        }
    }

    #[test]
    fn a_file_is_found_in_each_format_and_a_broken_archive_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let source = folder.path().join("package/moss");
        std::fs::create_dir_all(&source).unwrap();
        std::fs::write(source.join("map.txt"), "moss").unwrap();
        let files = crate::select::select(&folder.path().join("package"), None, &[]).unwrap().files;
        let path = folder.path().join("moss.tar.zst");
        crate::pack::write_archive(&files, File::create(&path).unwrap()).unwrap();
        let found = text_of(&path, ArchiveFormat::TarZst, "moss/map.txt", 100).unwrap();
        assert_eq!(found.as_deref(), Some("moss"));
        assert_eq!(text_of(&path, ArchiveFormat::TarZst, "map.txt", 100).unwrap(), None);
        assert_eq!(contents(&path, ArchiveFormat::TarZst).unwrap()[0].path, "moss/map.txt");
        assert!(
            contents(&path, ArchiveFormat::Zip).is_err() && contents(&path, ArchiveFormat::TarGz).is_err()
        );
    }
}
