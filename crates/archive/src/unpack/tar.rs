//! Tar archives: plain, in Zstandard, in gzip or in xz.

use std::io::{self, Read};

use bibliotax_core::card::ArchiveFormat;
use liblzma::read::XzDecoder;
use liblzma::stream::{CONCATENATED, Stream};
use tar::{Archive, Entry, EntryType};

use super::source::Checked;
use super::tree::TreeWriter;
use crate::error::ArchiveError;
use crate::visit::Visit;

/// Largest window of a Zstandard frame, as a power of two: 128 MiB of memory.
const LARGEST_WINDOW: u32 = 27;

/// Most memory that unpacking xz may take, in bytes: what its strongest usual setting wants.
const MOST_XZ_MEMORY: u64 = 128 << 20;

/// Mode bits that let a program run with the rights of its owner or group.
const SET_USER_OR_GROUP: u32 = 0o6000;

pub fn unpack<R: Read>(
    source: &mut Checked<'_, R>,
    format: ArchiveFormat,
    tree: &mut TreeWriter,
) -> Result<(), ArchiveError> {
    entries(decoded(source, format)?, format, tree)
}

/// The tar inside an archive.
pub fn decoded<'s>(
    source: impl Read + 's,
    format: ArchiveFormat,
) -> Result<Box<dyn Read + 's>, ArchiveError> {
    Ok(match format {
        ArchiveFormat::TarZst => {
            let mut decoder = zstd::Decoder::new(source).map_err(|error| unreadable(format, &error))?;
            decoder.window_log_max(LARGEST_WINDOW).map_err(|error| unreadable(format, &error))?;
            Box::new(decoder)
        }
        ArchiveFormat::TarGz => Box::new(flate2::read::MultiGzDecoder::new(source)),
        ArchiveFormat::TarXz => {
            let stream = Stream::new_stream_decoder(MOST_XZ_MEMORY, CONCATENATED);
            let stream = stream.map_err(|error| unreadable(format, &error.into()))?;
            Box::new(XzDecoder::new_stream(source, stream))
        }
        ArchiveFormat::Tar | ArchiveFormat::Zip => Box::new(source),
    })
}

/// Shows each file of a tar to `visit`.
pub fn look(tar: impl Read, format: ArchiveFormat, visit: &mut Visit<'_>) -> Result<(), ArchiveError> {
    let mut archive = Archive::new(tar);
    for entry in archive.entries().map_err(|error| unreadable(format, &error))? {
        let mut entry = entry.map_err(|error| unreadable(format, &error))?;
        if !matches!(entry.header().entry_type(), EntryType::Regular | EntryType::Continuous) {
            continue;
        }
        let (name, size) = (text(&entry.path_bytes())?, entry.size());
        if visit(&name, size, &mut entry).is_break() {
            break;
        }
    }
    Ok(())
}

fn entries(tar: impl Read, format: ArchiveFormat, tree: &mut TreeWriter) -> Result<(), ArchiveError> {
    let mut archive = Archive::new(tar);
    for entry in archive.entries().map_err(|error| unreadable(format, &error))? {
        add(entry.map_err(|error| unreadable(format, &error))?, format, tree)?;
    }
    Ok(())
}

fn add(
    mut entry: Entry<'_, impl Read>,
    format: ArchiveFormat,
    tree: &mut TreeWriter,
) -> Result<(), ArchiveError> {
    let name = text(&entry.path_bytes())?;
    let mode = entry.header().mode().map_err(|error| unreadable(format, &error))?;
    match entry.header().entry_type() {
        EntryType::Directory => tree.add_folder(&name),
        EntryType::Symlink => tree.add_link(&name, &link_target(&entry)?),
        EntryType::Link => tree.add_second_name(&name, &link_target(&entry)?),
        EntryType::Regular | EntryType::Continuous | EntryType::GNUSparse => {
            if mode & SET_USER_OR_GROUP != 0 {
                return Err(ArchiveError::SetUser { entry: name });
            }
            tree.add_file(&name, mode & 0o100 != 0, &mut entry, |error| unreadable(format, error))
        }
        EntryType::XGlobalHeader => Ok(()),
        _ => Err(ArchiveError::Special { entry: name }),
    }
}

fn link_target(entry: &Entry<'_, impl Read>) -> Result<String, ArchiveError> {
    text(&entry.link_name_bytes().unwrap_or_default())
}

fn text(bytes: &[u8]) -> Result<String, ArchiveError> {
    let no_text = |_| ArchiveError::NoText { entry: String::from_utf8_lossy(bytes).into_owned() };
    std::str::from_utf8(bytes).map(str::to_owned).map_err(no_text)
}

fn unreadable(format: ArchiveFormat, error: &io::Error) -> ArchiveError {
    let message = match error.kind() {
        io::ErrorKind::UnexpectedEof => "it ends too early",
        _ => "its structure is broken",
    };
    ArchiveError::Unreadable { format, message: message.into() }
}
