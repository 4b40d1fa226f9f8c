//! Goes through the records of a feed, whatever it is: a folder, an archive, or one file.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::advisory::{Brief, MAX_RECORD_SIZE, read_brief};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use zip::{CompressionMethod, ZipArchive};

/// The most records that a feed may have.
pub const MAX_RECORDS: usize = 2_000_000;

/// How deep folders of a feed are looked into.
pub const MAX_DEPTH: usize = 8;

/// How many bytes all records of an archive may come to, and how many times its own size.
const MAX_TOTAL: u64 = 32 << 30;
const MAX_RATIO: u64 = 200;

/// How many records are read at a time.
const BATCH: usize = 2_048;

/// The first bytes of an archive (ZIP application note, section 4.3.7).
const ZIP_MAGIC: &[u8] = b"PK\x03\x04";

/// Where a record lies in its feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum RecordPlace {
    /// A file of a folder, by its path inside.
    File(String),
    /// A piece of an archive: where its bytes begin, how many there are, packed and unpacked, and whether they are packed.
    Piece {
        /// Where they begin.
        at: u64,
        /// How many there are.
        packed: u64,
        /// How many they are unpacked.
        size: u64,
        /// Whether they are packed (RFC 1951), and not as they are.
        is_deflated: bool,
    },
    /// The whole file.
    Whole,
}

/// A record that was found, or what is wrong with it.
pub struct Found {
    /// Where it lies.
    pub place: RecordPlace,
    /// Its name in its feed.
    pub name: String,
    /// What an index has of it, or the reason if it can't be read.
    pub brief: Result<Brief, String>,
}

/// Goes through all records of a feed, in batches; `take` is given each.
pub fn each(path: &Path, take: &mut dyn FnMut(Vec<Found>) -> io::Result<()>) -> io::Result<()> {
    if path.is_dir() {
        return each_file(path, take);
    }
    let mut file = File::open(path)?;
    let mut magic = [0; ZIP_MAGIC.len()];
    let is_archive = file.read_exact(&mut magic).is_ok() && magic == ZIP_MAGIC;
    if is_archive { each_piece(&file, take) } else { take(vec![whole(path)?]) }
}

/// The text of a record.
pub fn text(path: &Path, place: &RecordPlace) -> io::Result<Vec<u8>> {
    match place {
        RecordPlace::File(name) => bounded(File::open(path.join(name))?),
        RecordPlace::Whole => bounded(File::open(path)?),
        RecordPlace::Piece { at, packed, size, is_deflated } => {
            let mut file = File::open(path)?;
            file.seek(SeekFrom::Start(*at))?;
            let bytes = file.take(*packed);
            let text = if *is_deflated {
                bounded(flate2::read::DeflateDecoder::new(bytes))?
            } else {
                bounded(bytes)?
            };
            if text.len() as u64 == *size { Ok(text) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
        }
    }
}

/// All bytes of a record, if they aren't too many.
fn bounded(from: impl Read) -> io::Result<Vec<u8>> {
    let mut text = Vec::new();
    from.take(MAX_RECORD_SIZE as u64 + 1).read_to_end(&mut text)?;
    Ok(text)
}

fn whole(path: &Path) -> io::Result<Found> {
    let brief = read_brief(&bounded(File::open(path)?)?);
    let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    Ok(Found { place: RecordPlace::Whole, name, brief })
}

/// The folders of a feed, from the feed's own on, and its records by their paths inside it. Links are not followed.
pub fn listed(root: &Path) -> io::Result<(Vec<PathBuf>, Vec<String>)> {
    let (mut folders, mut files) = (Vec::new(), Vec::new());
    let mut open = vec![(PathBuf::new(), 0)];
    while let Some((folder, depth)) = open.pop() {
        for entry in fs::read_dir(root.join(&folder))? {
            let entry = entry?;
            let (name, kind) = (entry.file_name(), entry.file_type()?);
            let Some(text) = name.to_str().filter(|name| !name.starts_with('.')) else { continue };
            if kind.is_dir() && depth < MAX_DEPTH {
                open.push((folder.join(text), depth + 1));
            } else if kind.is_file() && text.ends_with(".json") {
                files.extend(folder.join(text).to_str().map(str::to_owned));
            }
        }
        if files.len() > MAX_RECORDS {
            return Err(io::Error::other(format!("it has more than {MAX_RECORDS} records")));
        }
        folders.push(folder);
    }
    files.sort_unstable();
    Ok((folders, files))
}

fn each_file(root: &Path, take: &mut dyn FnMut(Vec<Found>) -> io::Result<()>) -> io::Result<()> {
    let (_, files) = listed(root)?;
    let found = |name: &String| {
        let text = File::open(root.join(name)).and_then(bounded).map_err(|error| error.to_string());
        Found {
            place: RecordPlace::File(name.clone()),
            name: name.clone(),
            brief: text.and_then(|text| read_brief(&text)),
        }
    };
    for names in files.chunks(BATCH) {
        take(names.par_iter().map(found).collect())?;
    }
    Ok(())
}

fn each_piece(file: &File, take: &mut dyn FnMut(Vec<Found>) -> io::Result<()>) -> io::Result<()> {
    let file = Arc::new(file.try_clone()?);
    let length = file.metadata()?.len();
    let archive = ZipArchive::new(Positioned { file, at: 0, length }).map_err(io::Error::other)?;
    if archive.len() > MAX_RECORDS {
        return Err(io::Error::other(format!("it has more than {MAX_RECORDS} records")));
    }
    let most = MAX_TOTAL.min(length.saturating_mul(MAX_RATIO));
    let mut total = 0;
    let numbers: Vec<usize> = (0..archive.len()).collect();
    for numbers in numbers.chunks(BATCH) {
        // Each thread has its own place in the file.
        let found =
            numbers.par_iter().map_init(|| archive.clone(), |archive, number| piece(archive, *number));
        let found: Vec<Found> = found.collect::<io::Result<Vec<_>>>()?.into_iter().flatten().collect();
        total += found.iter().map(Found::size).sum::<u64>();
        if total > most {
            return Err(io::Error::other("its records are far larger than the archive"));
        }
        take(found)?;
    }
    Ok(())
}

impl Found {
    fn size(&self) -> u64 {
        if let RecordPlace::Piece { size, .. } = &self.place { *size } else { 0 }
    }
}

/// The record of a number in an archive; `None` for what is none.
fn piece(archive: &mut ZipArchive<Positioned>, number: usize) -> io::Result<Option<Found>> {
    let mut entry = archive.by_index(number).map_err(io::Error::other)?;
    let name = entry.name().map_err(io::Error::other)?.into_owned();
    if entry.is_dir() || !name.ends_with(".json") {
        return Ok(None);
    }
    let is_deflated = match entry.compression() {
        CompressionMethod::Stored => Some(false),
        CompressionMethod::Deflated => Some(true),
        _ => None,
    };
    let (packed, size) = (entry.compressed_size(), entry.size());
    let (Some(at), Some(is_deflated)) = (entry.data_start(), is_deflated) else {
        let brief = Err("it is packed in a way that isn't read here".to_owned());
        return Ok(Some(Found { place: RecordPlace::Whole, name, brief }));
    };
    let place = RecordPlace::Piece { at, packed, size, is_deflated };
    // What unpacks to more than it says is cut off, and is then no record.
    let brief = bounded(&mut entry).map_err(|error| error.to_string()).and_then(|text| read_brief(&text));
    Ok(Some(Found { place, name, brief }))
}

/// A file that several readers share, each at its own place.
#[derive(Clone)]
struct Positioned {
    file: Arc<File>,
    at: u64,
    length: u64,
}

impl Read for Positioned {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        #[cfg(unix)]
        let read = std::os::unix::fs::FileExt::read_at(&*self.file, buffer, self.at)?;
        #[cfg(windows)]
        let read = std::os::windows::fs::FileExt::seek_read(&*self.file, buffer, self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Seek for Positioned {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.length.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}
