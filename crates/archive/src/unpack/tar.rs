//! Tar archives: plain, or packed with Zstandard, gzip, xz, bzip2 or LZ4.

use std::io::Read;

use bibliotax_core::card::ArchiveFormat;
use tar::{Entry, EntryType};

use super::headers::{Header, for_each};
use super::source::Checked;
use super::tree::{FileFacts, TreeWriter};
use crate::decoding::{decoded, unreadable};
use crate::entry_visitor::Visit;
use crate::error::{ArchiveError, EntryProblem, shown};
use crate::limits::Counted;

/// Mode bits that let a program run with the rights of its owner or group.
pub const SET_USER_OR_GROUP: u32 = 0o6000;

pub fn unpack<R: Read>(
    source: &mut Checked<'_, R>,
    format: ArchiveFormat,
    tree: &mut TreeWriter,
) -> Result<(), ArchiveError> {
    let size = source.expected_size();
    let decoded = Counted::new(decoded(source, format)?, size);
    let mut last = Vec::new();
    let added = for_each(
        decoded,
        |error| unreadable(format, error),
        |header, entry| {
            last.clone_from(&header.name);
            add(&header, entry, format, tree).map(|()| true)
        },
    );
    // What was too much is reported with the entry at which it was.
    added.map_err(|error| match error {
        ArchiveError::TooMuch { entry, limit } if entry.is_empty() => {
            ArchiveError::TooMuch { entry: shown(&last), limit }
        }
        error => error,
    })
}

/// Shows each file of a tar to `visit`.
pub fn look(tar: impl Read, format: ArchiveFormat, visit: &mut Visit<'_>) -> Result<(), ArchiveError> {
    for_each(
        tar,
        |error| unreadable(format, error),
        |header, entry| {
            if !matches!(header.kind, EntryType::Regular | EntryType::Continuous) {
                return Ok(true);
            }
            let name = String::from_utf8_lossy(&header.name);
            Ok(visit(&name, header.size, entry).is_continue())
        },
    )
}

fn add(
    header: &Header,
    entry: &mut Entry<'_, impl Read>,
    format: ArchiveFormat,
    tree: &mut TreeWriter,
) -> Result<(), ArchiveError> {
    let Some(name) = tree.name(&header.name) else { return Ok(()) };
    if header.is_sparse {
        tree.refuse(&name, EntryProblem::Sparse)?;
        // Nobody knows where the old form's map ends, and with it the entry.
        return if header.kind == EntryType::GNUSparse { Err(tree.all_refused()) } else { Ok(()) };
    }
    match header.kind {
        EntryType::Directory => tree.add_folder(&name),
        EntryType::Symlink => tree.add_link(&name, &header.link),
        EntryType::Link => tree.add_second_name(&name, &header.link),
        EntryType::Regular | EntryType::Continuous => {
            if header.mode & SET_USER_OR_GROUP != 0 {
                return tree.refuse(&name, EntryProblem::SetUser);
            }
            let of = FileFacts { executable: header.mode & 0o100 != 0, time: header.time };
            tree.add_file(&name, of, entry, |error| unreadable(format, error))
        }
        _ => tree.refuse(&name, EntryProblem::Special),
    }
}
