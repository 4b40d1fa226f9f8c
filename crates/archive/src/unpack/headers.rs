//! The entries of a tar, one after the other, with the names that stand in headers of their own: GNU's long names and the extended
//! headers of POSIX.1-2001 ("pax Interchange Format").
//!
//! The library would read such headers whole, however large they say they are. Here each is bounded, and so is the number of
//! entries of every kind.

use std::io::Read;

use tar::{Archive, Entry, EntryType, PaxExtensions};

use super::times::EntryTime;
use crate::error::{ArchiveError, shown};
use crate::limits::{MAX_ENTRIES, MAX_HEADER};

/// An entry of a tar that is a file, a folder, a link or something special.
pub struct Header {
    /// Its name.
    pub name: Vec<u8>,
    /// What it leads to, of a link.
    pub link: Vec<u8>,
    /// Its kind.
    pub kind: EntryType,
    /// Its mode bits.
    pub mode: u32,
    /// Its size in bytes.
    pub size: u64,
    /// When it was changed.
    pub time: EntryTime,
    /// Whether it is a file with holes.
    pub is_sparse: bool,
}

/// What the headers before an entry say of it.
#[derive(Default)]
struct Pending {
    name: Option<Vec<u8>>,
    link: Option<Vec<u8>>,
    size: Option<u64>,
    time: Option<EntryTime>,
    is_sparse: bool,
}

/// Calls `each` for the entries of a tar until it says that it wants no more; errors of the tar are reported by `unreadable`.
pub fn for_each<R: Read>(
    tar: R,
    unreadable: impl Fn(&std::io::Error) -> ArchiveError,
    mut each: impl FnMut(Header, &mut Entry<'_, R>) -> Result<bool, ArchiveError>,
) -> Result<(), ArchiveError> {
    let mut archive = Archive::new(tar);
    let entries = archive.entries().map_err(|error| unreadable(&error))?.raw(true);
    let mut pending = Pending::default();
    for (number, entry) in entries.enumerate() {
        let mut entry = entry.map_err(|error| unreadable(&error))?;
        if number >= MAX_ENTRIES {
            return Err(too_many(&entry));
        }
        match entry.header().entry_type() {
            EntryType::GNULongName => {
                pending.name = Some(without_end(bounded(&mut entry, &unreadable)?));
            }
            EntryType::GNULongLink => {
                pending.link = Some(without_end(bounded(&mut entry, &unreadable)?));
            }
            EntryType::XHeader => pending.read(&bounded(&mut entry, &unreadable)?),
            EntryType::XGlobalHeader => drop(bounded(&mut entry, &unreadable)?),
            _ => {
                let header = std::mem::take(&mut pending).header_of(&entry, &unreadable)?;
                if !each(header, &mut entry)? {
                    return Ok(());
                }
            }
        }
    }
    Ok(())
}

/// The contents of a header that stands as an entry of its own.
fn bounded<R: Read>(
    entry: &mut Entry<'_, R>,
    unreadable: &impl Fn(&std::io::Error) -> ArchiveError,
) -> Result<Vec<u8>, ArchiveError> {
    if entry.size() > MAX_HEADER {
        let limit = format!("{} KiB in one header", MAX_HEADER >> 10);
        return Err(ArchiveError::TooMuch { entry: shown(&entry.path_bytes()), limit });
    }
    let mut bytes = Vec::new();
    entry.read_to_end(&mut bytes).map_err(|error| unreadable(&error))?;
    Ok(bytes)
}

/// A name without the zero byte that ends it.
fn without_end(mut name: Vec<u8>) -> Vec<u8> {
    if name.last() == Some(&0) {
        name.pop();
    }
    name
}

impl Pending {
    /// Takes in what an extended header says.
    fn read(&mut self, records: &[u8]) {
        for record in PaxExtensions::new(records).map_while(Result::ok) {
            let value = record.value_bytes();
            match record.key_bytes() {
                b"path" => self.name = Some(value.to_vec()),
                b"linkpath" => self.link = Some(value.to_vec()),
                b"size" => self.size = std::str::from_utf8(value).ok().and_then(|size| size.parse().ok()),
                b"mtime" => self.time = std::str::from_utf8(value).ok().and_then(EntryTime::parse),
                key if key.starts_with(b"GNU.sparse.") => self.is_sparse = true,
                _ => {}
            }
        }
    }

    /// The entry that these headers stand before.
    fn header_of<R: Read>(
        self,
        entry: &Entry<'_, R>,
        unreadable: &impl Fn(&std::io::Error) -> ArchiveError,
    ) -> Result<Header, ArchiveError> {
        let name = self.name.unwrap_or_else(|| entry.path_bytes().into_owned());
        let link = self.link.or_else(|| entry.link_name_bytes().map(std::borrow::Cow::into_owned));
        let (kind, size) = (entry.header().entry_type(), entry.size());
        // Of two sizes, readers take different ones, and see different archives.
        let is_sparse = self.is_sparse || kind == EntryType::GNUSparse;
        if !is_sparse && self.size.is_some_and(|said| said != size) {
            return Err(ArchiveError::TwoSizes { entry: shown(&name) });
        }
        let mode = entry.header().mode().map_err(|error| unreadable(&error))?;
        let seconds = entry.header().mtime().map(|time| i64::try_from(time).unwrap_or(i64::MAX));
        let time = EntryTime { seconds: seconds.unwrap_or_default(), nanoseconds: 0 };
        let (link, time) = (link.unwrap_or_default(), self.time.unwrap_or(time));
        Ok(Header { name, link, kind, mode, size, time, is_sparse })
    }
}

fn too_many<R: Read>(entry: &Entry<'_, R>) -> ArchiveError {
    ArchiveError::TooMuch { entry: shown(&entry.path_bytes()), limit: format!("{MAX_ENTRIES} entries") }
}
