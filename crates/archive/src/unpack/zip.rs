//! ZIP archives. Their directory is at the end, so the bytes go to a temporary file until their digest is checked.

use std::collections::BTreeSet;
use std::io::{self, Read, Seek, Write};

use bibliotax_core::card::ArchiveFormat;
use bibliotax_disk::error::At;
use zip::ZipArchive;
use zip::extra_fields::ExtraField;
use zip::read::ZipFile;
use zip::result::ZipError;

use super::directory::{FILE, KIND, at_end, set_user};
use super::source::Checked;
use super::times::EntryTime;
use super::tree::{FileFacts, TreeWriter};
use crate::entry_visitor::Visit;
use crate::error::{ArchiveError, EntryProblem, shown};
use crate::limits::{Counted, MAX_DIRECTORY, exceeded};

/// Longest target of a link, in bytes.
const MAX_TARGET_LEN: u64 = 4096;

/// Most entries: the library holds all of them in memory, beside what is remembered of files here.
const MAX_ENTRIES: u64 = 120_000;

/// The kind of file that is in a Unix mode for a folder, and for a link.
const FOLDER: u32 = 0o040_000;
const LINK: u32 = 0o120_000;

pub fn unpack<R: Read>(source: &mut Checked<'_, R>, tree: &mut TreeWriter) -> Result<(), ArchiveError> {
    let mut aside = tempfile::tempfile().at("write in", std::env::temp_dir())?;
    let mut piece = vec![0; 64 << 10];
    // What goes wrong with the source is reported by its end, for then it is known what was wrong.
    while let Ok(read @ 1..) = source.read(&mut piece) {
        aside.write_all(&piece[..read]).at("write in", std::env::temp_dir())?;
    }
    source.finish()?;
    let size = source.expected_size();
    let (mut archive, set_user) = opened(io::BufReader::new(aside))?;
    let mut read = 0;
    for index in 0..archive.len() {
        let entry = archive.by_index(index).map_err(|error| unreadable(&error))?;
        if !set_user.contains(entry.name_raw()) {
            read = add(entry, size, read, tree)?;
        } else if let Some(name) = tree.name(entry.name_raw()) {
            tree.refuse(&name, EntryProblem::SetUser)?;
        }
    }
    Ok(())
}

/// Opens an archive whose directory is no larger than any should be and says each name once; with the names of files that would run
/// with the rights of their owner.
fn opened<R: Read + Seek>(mut file: R) -> Result<(ZipArchive<R>, BTreeSet<Vec<u8>>), ArchiveError> {
    let directory = at_end(&mut file).map_err(|error| unreadable(&ZipError::Io(error)))?;
    let directory = directory.ok_or_else(|| broken("its structure is broken"))?;
    if directory.entries > MAX_ENTRIES || directory.bytes > MAX_DIRECTORY {
        let limit = format!("{MAX_ENTRIES} entries or {} MiB in its directory", MAX_DIRECTORY >> 20);
        return Err(ArchiveError::TooMuch { entry: "its directory".to_owned(), limit });
    }
    let set_user = set_user(&mut file, directory).map_err(|_| broken("its directory is broken"))?;
    let archive = ZipArchive::new(file).map_err(|error| unreadable(&error))?;
    if archive.len() as u64 != directory.entries {
        // The library keeps one of several entries of a name, and readers differ in which.
        return Err(broken("two of its entries have one name, or its directory is wrong"));
    }
    Ok((archive, set_user))
}

/// Shows each file of a ZIP archive to `visit`.
pub fn look(file: impl Read + Seek, visit: &mut Visit<'_>) -> Result<(), ArchiveError> {
    let (mut archive, _) = opened(file)?;
    for index in 0..archive.len() {
        let mut entry = archive.by_index(index).map_err(|error| unreadable(&error))?;
        let (name, size) = (String::from_utf8_lossy(entry.name_raw()).into_owned(), entry.size());
        if entry.is_file() && visit(&name, size, &mut entry).is_break() {
            break;
        }
    }
    Ok(())
}

/// Adds an entry of an archive of this size, after so many bytes that came out of others; how many they are then.
fn add(
    entry: ZipFile<'_, impl Read>,
    size: u64,
    read: u64,
    tree: &mut TreeWriter,
) -> Result<u64, ArchiveError> {
    let Some(name) = tree.name(entry.name_raw()) else { return Ok(read) };
    let mode = entry.unix_mode().unwrap_or(0);
    let time = time_of(&entry);
    let mut contents = Counted::new(entry, size).after(read);
    let unreadable = |error: &io::Error| match exceeded(error) {
        Some(exceeded) => {
            ArchiveError::TooMuch { entry: shown(name.as_bytes()), limit: exceeded.limit.clone() }
        }
        None => broken("an entry is broken"),
    };
    match mode & KIND {
        LINK => {
            let mut target = Vec::new();
            let read = contents.by_ref().take(MAX_TARGET_LEN).read_to_end(&mut target);
            read.map_err(|error| unreadable(&error))?;
            tree.add_link(&name, &target)?;
        }
        _ if name.ends_with('/') => tree.add_folder(&name)?,
        FOLDER => tree.add_folder(&name)?,
        0 | FILE => {
            let of = FileFacts { executable: mode & 0o100 != 0, time };
            tree.add_file(&name, of, &mut contents, unreadable)?;
        }
        _ => tree.refuse(&name, EntryProblem::Special)?,
    }
    Ok(contents.read_so_far())
}

/// When an entry was changed: as Unix writes it, or else by its date and time of day, as if they were UTC.
fn time_of(entry: &ZipFile<'_, impl Read>) -> EntryTime {
    let extended = entry.extra_data_fields().find_map(|field| match field {
        ExtraField::ExtendedTimestamp(times) => times.mod_time(),
        _ => None,
    });
    let by_clock = || {
        let time = entry.last_modified()?;
        let [month, day, hour, minute, second] =
            [time.month(), time.day(), time.hour(), time.minute(), time.second()].map(|part| part as i8);
        let date = jiff::civil::Date::new(i16::try_from(time.year()).ok()?, month, day).ok()?;
        // A minute can't have 61 seconds here; some archives say so.
        let clock = jiff::civil::Time::new(hour, minute, second.min(59), 0).ok()?;
        date.to_datetime(clock).to_zoned(jiff::tz::TimeZone::UTC).ok().map(|at| at.timestamp().as_second())
    };
    let seconds = extended.map(i64::from).or_else(by_clock);
    EntryTime { seconds: seconds.unwrap_or_default(), nanoseconds: 0 }
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
