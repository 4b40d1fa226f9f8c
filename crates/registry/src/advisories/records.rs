//! Goes through the records of a feed, which is a folder, an archive, or one file.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::ops;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::mpsc::sync_channel;
use std::thread;

use bibliotax_core::advisory::{Brief, MAX_RECORD_SIZE, read_brief};
use flate2::{Decompress, FlushDecompress, Status};
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
const BATCH: usize = 1_024;

/// How many bytes of an archive are read at a time.
const READ_AHEAD: usize = 32 << 10;

/// The first bytes of an archive (ZIP application note, section 4.3.7).
const ZIP_MAGIC: &[u8] = b"PK\x03\x04";

/// Where a record lies in its feed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum RecordPlace {
    /// A file of a folder, by its path inside.
    File(String),
    /// A piece of an archive.
    Piece(Piece),
    /// The whole file.
    Whole,
}

/// Where a record lies in an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Piece {
    /// Where its bytes begin.
    pub at: u64,
    /// How many there are.
    pub packed: u64,
    /// How many they are unpacked.
    pub size: u64,
    /// Whether they are packed (RFC 1951), and not as they are.
    pub is_deflated: bool,
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
    if is_archive { each_piece(file, take) } else { take(vec![whole(path)?]) }
}

/// The text of a record of a feed: of a folder, or of a file that is open.
pub fn text(path: &Path, file: Option<&Positioned>, place: &RecordPlace) -> io::Result<Vec<u8>> {
    match (place, file) {
        (RecordPlace::File(name), _) => bounded(File::open(path.join(name))?),
        (RecordPlace::Piece(piece), Some(file)) => {
            Unpacker::default().text(&mut file.clone(), piece).map(<[u8]>::to_vec)
        }
        (RecordPlace::Whole | RecordPlace::Piece(_), _) => bounded(File::open(path)?),
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

/// The records of a folder by their paths inside it. Links are not followed.
pub fn listed(root: &Path) -> io::Result<Vec<String>> {
    let mut files = Vec::new();
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
    }
    files.sort_unstable();
    Ok(files)
}

fn each_file(root: &Path, take: &mut dyn FnMut(Vec<Found>) -> io::Result<()>) -> io::Result<()> {
    let files = listed(root)?;
    let found = |name: &String| {
        let text = File::open(root.join(name)).and_then(bounded).map_err(|error| error.to_string());
        let brief = text.and_then(|text| read_brief(&text));
        Found { place: RecordPlace::File(name.clone()), name: name.clone(), brief }
    };
    let read = || |batch: usize| Ok(files[within(batch, files.len())].iter().map(found).collect());
    in_batches(files.len(), read, take)
}

fn each_piece(file: File, take: &mut dyn FnMut(Vec<Found>) -> io::Result<()>) -> io::Result<()> {
    let file = Positioned::new(file, READ_AHEAD)?;
    let archive = ZipArchive::new(file.clone()).map_err(io::Error::other)?;
    if archive.len() > MAX_RECORDS {
        return Err(io::Error::other(format!("it has more than {MAX_RECORDS} records")));
    }
    let most = MAX_TOTAL.min(file.length.saturating_mul(MAX_RATIO));
    let total = AtomicU64::new(0);
    let count = |place: &Result<Piece, String>| {
        let size = place.as_ref().map_or(0, |piece| piece.size);
        let is_too_much = total.fetch_add(size, Ordering::Relaxed).saturating_add(size) > most;
        if is_too_much {
            Err(io::Error::other("its records are far larger than the archive"))
        } else {
            Ok(())
        }
    };
    let read = || {
        // Each thread has its own place in the file, and its own unpacker.
        let (mut archive, mut file, mut unpacker) = (archive.clone(), file.clone(), Unpacker::default());
        let numbers = archive.len();
        move |batch: usize| {
            let found = within(batch, numbers).map(|number| {
                let Some((name, place)) = piece(&mut archive, number)? else { return Ok(None) };
                // Before anything is unpacked.
                count(&place)?;
                Ok(Some(unpacker.found(&mut file, name, place)))
            });
            Ok(found.collect::<io::Result<Vec<_>>>()?.into_iter().flatten().collect())
        }
    };
    in_batches(archive.len(), read, take)
}

/// The numbers of a batch.
fn within(batch: usize, all: usize) -> ops::Range<usize> {
    batch * BATCH..((batch + 1) * BATCH).min(all)
}

/// Reads many records batch by batch on all processors, and hands each batch on as it comes.
///
/// These are threads of their own: whoever waits for an index may be one of a pool that would otherwise be given the work of those
/// that wait for it.
fn in_batches<R: FnMut(usize) -> io::Result<Vec<Found>>>(
    all: usize,
    reader: impl Fn() -> R + Sync,
    take: &mut dyn FnMut(Vec<Found>) -> io::Result<()>,
) -> io::Result<()> {
    let batches = all.div_ceil(BATCH);
    let threads = thread::available_parallelism().map_or(1, usize::from).min(batches.max(1));
    let next = AtomicUsize::new(0);
    let (send, receive) = sync_channel(threads * 2);
    thread::scope(|scope| {
        for _ in 0..threads {
            let (send, next, reader) = (send.clone(), &next, &reader);
            scope.spawn(move || {
                let mut read = reader();
                loop {
                    let batch = next.fetch_add(1, Ordering::Relaxed);
                    // Where nobody takes it any more, something went wrong already.
                    if batch >= batches || send.send(read(batch)).is_err() {
                        return;
                    }
                }
            });
        }
        drop(send);
        let taken = receive.iter().try_for_each(|found| take(found?));
        drop(receive);
        taken
    })
}

/// The name of a record in an archive, and where it lies or why it can't be read.
type NamedPiece = (String, Result<Piece, String>);

/// The record of a number in an archive; `None` for what is none.
fn piece(archive: &mut ZipArchive<Positioned>, number: usize) -> io::Result<Option<NamedPiece>> {
    let entry = archive.by_index_raw(number).map_err(io::Error::other)?;
    let name = entry.name().map_err(io::Error::other)?.into_owned();
    if entry.is_dir() || !name.ends_with(".json") {
        return Ok(None);
    }
    let is_deflated = match entry.compression() {
        CompressionMethod::Stored => Some(false),
        CompressionMethod::Deflated => Some(true),
        _ => None,
    };
    let place = match (entry.data_start(), is_deflated, entry.encrypted()) {
        (Some(at), Some(is_deflated), false) => {
            Ok(Piece { at, packed: entry.compressed_size(), size: entry.size(), is_deflated })
        }
        _ => Err("it is packed in a way that isn't read here".to_owned()),
    };
    Ok(Some((name, place)))
}

/// Unpacks records, one after the other, without making anything anew for each.
pub struct Unpacker {
    packed: Vec<u8>,
    text: Vec<u8>,
    inflater: Decompress,
}

impl Default for Unpacker {
    fn default() -> Self {
        Self { packed: Vec::new(), text: Vec::new(), inflater: Decompress::new(false) }
    }
}

impl Unpacker {
    fn found(&mut self, file: &mut Positioned, name: String, place: Result<Piece, String>) -> Found {
        match place {
            Ok(piece) => {
                let text = self.text(file, &piece).map_err(|error| error.to_string());
                Found { place: RecordPlace::Piece(piece), name, brief: text.and_then(read_brief) }
            }
            Err(why) => Found { place: RecordPlace::Whole, name, brief: Err(why) },
        }
    }

    /// The text of a record in an archive, of just the size that the archive says.
    pub fn text(&mut self, file: &mut Positioned, piece: &Piece) -> io::Result<&[u8]> {
        let Piece { at, packed, size, is_deflated } = *piece;
        let most = MAX_RECORD_SIZE as u64;
        if packed > most || size > most {
            return Err(io::Error::other(format!("it is larger than {most} bytes")));
        }
        // Both were just compared with what fits.
        self.packed.resize(packed as usize, 0);
        file.seek(SeekFrom::Start(at))?;
        file.read_exact(&mut self.packed)?;
        if !is_deflated {
            return Ok(&self.packed);
        }
        self.inflater.reset(false);
        self.text.clear();
        // A byte more than it should be shows that it is more.
        self.text.reserve(size as usize + 1);
        let done = self.inflater.decompress_vec(&self.packed, &mut self.text, FlushDecompress::Finish);
        let is_whole = matches!(done, Ok(Status::StreamEnd)) && self.text.len() as u64 == size;
        if is_whole { Ok(&self.text) } else { Err(io::Error::other("it isn't what its archive says")) }
    }
}

/// A file that several readers share, each at its own place.
#[derive(Clone)]
pub struct Positioned {
    file: Arc<File>,
    at: u64,
    length: u64,
    /// How many bytes are read at least, for those after what is asked are asked next.
    ahead_by: usize,
    /// What was read ahead, and where it begins.
    ahead: (u64, Vec<u8>),
}

impl Positioned {
    fn new(file: File, ahead_by: usize) -> io::Result<Self> {
        let length = file.metadata()?.len();
        Ok(Self { file: Arc::new(file), at: 0, length, ahead_by, ahead: (0, Vec::new()) })
    }

    /// Opens a file of which single pieces are read.
    pub fn open(path: &Path) -> io::Result<Self> {
        Self::new(File::open(path)?, 0)
    }

    fn read_at(&self, buffer: &mut [u8]) -> io::Result<usize> {
        #[cfg(unix)]
        return std::os::unix::fs::FileExt::read_at(&*self.file, buffer, self.at);
        #[cfg(windows)]
        return std::os::windows::fs::FileExt::seek_read(&*self.file, buffer, self.at);
    }
}

impl Read for Positioned {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let (begin, ahead) = &self.ahead;
        let inside = self.at.checked_sub(*begin).and_then(|at| usize::try_from(at).ok());
        let known = inside.and_then(|at| ahead.get(at..)).filter(|known| !known.is_empty());
        let read = match known {
            Some(known) => {
                let count = known.len().min(buffer.len());
                buffer[..count].copy_from_slice(&known[..count]);
                count
            }
            None if buffer.len() >= self.ahead_by => self.read_at(buffer)?,
            None => {
                let mut ahead = std::mem::take(&mut self.ahead.1);
                ahead.resize(self.ahead_by, 0);
                let count = self.read_at(&mut ahead)?;
                ahead.truncate(count);
                let read = count.min(buffer.len());
                buffer[..read].copy_from_slice(&ahead[..read]);
                self.ahead = (self.at, ahead);
                read
            }
        };
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
