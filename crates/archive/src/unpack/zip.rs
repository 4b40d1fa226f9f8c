//! ZIP archives. Their directory stands at the end, so the bytes are kept aside until their digest is known.

use std::io::{self, Read, Seek, Write};

use bibliotax_core::card::ArchiveFormat;
use bibliotax_disk::error::At;
use zip::ZipArchive;
use zip::read::ZipFile;
use zip::result::ZipError;

use super::source::Checked;
use super::tree::TreeWriter;
use crate::error::ArchiveError;
use crate::visit::Visit;

/// Longest target of a link, in bytes.
const LONGEST_TARGET: u64 = 4096;

/// The kind of file that is in a Unix mode, and its bits for a file, a folder, a link, and "none said".
const KIND: u32 = 0o170_000;
const FILE: u32 = 0o100_000;
const FOLDER: u32 = 0o040_000;
const LINK: u32 = 0o120_000;

pub fn unpack<R: Read>(source: &mut Checked<'_, R>, tree: &mut TreeWriter) -> Result<(), ArchiveError> {
    let mut aside = tempfile::tempfile().at("write in", std::env::temp_dir())?;
    let mut piece = vec![0; 64 << 10];
    // What goes wrong with the source is told by its end, for then it is known what was wrong.
    while let Ok(read @ 1..) = source.read(&mut piece) {
        aside.write_all(&piece[..read]).at("write in", std::env::temp_dir())?;
    }
    source.finish()?;
    aside.rewind().at("read in", std::env::temp_dir())?;
    let mut archive = ZipArchive::new(io::BufReader::new(aside)).map_err(|error| unreadable(&error))?;
    for index in 0..archive.len() {
        add(archive.by_index(index).map_err(|error| unreadable(&error))?, tree)?;
    }
    Ok(())
}

/// Shows each file of a ZIP archive to `visit`.
pub fn look(file: impl Read + Seek, visit: &mut Visit<'_>) -> Result<(), ArchiveError> {
    let mut archive = ZipArchive::new(file).map_err(|error| unreadable(&error))?;
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index).map_err(|error| unreadable(&error))?;
        let (name, size) = (String::from_utf8_lossy(entry.name_raw()).into_owned(), entry.size());
        if entry.is_file() && visit(&name, size, &mut entry).is_break() {
            break;
        }
    }
    Ok(())
}

fn add(mut entry: ZipFile<'_, impl Read>, tree: &mut TreeWriter) -> Result<(), ArchiveError> {
    let no_text = |_| ArchiveError::NoText { entry: String::from_utf8_lossy(entry.name_raw()).into_owned() };
    let name = std::str::from_utf8(entry.name_raw()).map_err(no_text)?.to_owned();
    let mode = entry.unix_mode().unwrap_or(0);
    match mode & KIND {
        LINK => {
            let mut target = String::new();
            let read = entry.by_ref().take(LONGEST_TARGET).read_to_string(&mut target);
            read.map_err(|error| unreadable(&ZipError::Io(error)))?;
            tree.add_link(&name, &target)
        }
        _ if name.ends_with('/') => tree.add_folder(&name),
        0 | FILE if mode & 0o6000 == 0 => {
            tree.add_file(&name, mode & 0o100 != 0, &mut entry, |_| broken("an entry is broken"))
        }
        0 | FILE => Err(ArchiveError::SetUser { entry: name }),
        FOLDER => tree.add_folder(&name),
        _ => Err(ArchiveError::Special { entry: name }),
    }
}

fn unreadable(error: &ZipError) -> ArchiveError {
    broken(match error {
        ZipError::UnsupportedArchive(_) => "it is encrypted or packed in a way that is not supported",
        _ => "its structure is broken",
    })
}

fn broken(message: &str) -> ArchiveError {
    ArchiveError::Unreadable { format: ArchiveFormat::Zip, message: message.into() }
}
