//! A file that arrives in a read-through copy: several readers read it while it arrives.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

use bibliotax_core::digest::Digest;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, make_folder};

use crate::client::http::Remote;
use crate::model::error::RegistryError;
use crate::model::staging::Staged;

/// Bytes that are copied at a time.
const CHUNK_SIZE: usize = 64 << 10;

/// Largest file that is taken, in bytes.
const MAX_SIZE: u64 = 16 << 30;

/// A file on its way.
pub struct IncomingFile {
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    /// Where it is until it is whole.
    path: Option<PathBuf>,
    /// Its length, where the registry says it.
    length: Option<u64>,
    /// How much of it is here, in bytes.
    came: u64,
    end: Option<End>,
}

/// How it ended.
#[derive(Clone, Copy, PartialEq, Eq)]
enum End {
    /// It is here, whole, with the bytes that its name says.
    Whole,
    /// The registry hasn't it.
    Missing,
    /// It is not here.
    Failed,
}

impl IncomingFile {
    /// A file that nobody has asked for yet.
    pub fn new() -> Self {
        Self { state: Mutex::default(), changed: Condvar::new() }
    }

    /// Waits until its length is known; `None` where there is no such file.
    pub fn length(&self, remote: &Remote) -> Result<Option<u64>, RegistryError> {
        let mut state = self.state();
        loop {
            match (state.end, state.length) {
                (Some(End::Missing), _) => return Ok(None),
                (Some(End::Failed), _) => return Err(remote.broke_off()),
                (Some(End::Whole), _) => return Ok(Some(state.came)),
                (None, Some(length)) => return Ok(Some(length)),
                (None, None) => state = self.wait(state),
            }
        }
    }

    /// Fetches the file to its place, checked against its name. Who waits hears of each piece.
    pub fn fetch(&self, remote: &Remote, digest: &Digest, place: &PathBuf) -> Result<(), RegistryError> {
        let fetched = self.fetch_staged(remote, digest, place);
        let end = match &fetched {
            Ok(true) => End::Whole,
            Ok(false) => End::Missing,
            Err(_) => End::Failed,
        };
        self.change(|state| state.end = Some(end));
        fetched.map(drop)
    }

    /// Whether there is such a file.
    fn fetch_staged(&self, remote: &Remote, digest: &Digest, place: &PathBuf) -> Result<bool, RegistryError> {
        let Some((length, mut source)) = remote.open_file(digest)? else { return Ok(false) };
        make_folder(folder_of(place))?;
        let mut staged = Staged::in_folder(folder_of(place))?;
        let path = staged.path().to_owned();
        self.change(|state| (state.path, state.length) = (Some(path), length));
        let mut piece = vec![0; CHUNK_SIZE];
        loop {
            match source.read(&mut piece).map_err(|_| remote.broke_off())? {
                0 => break,
                _ if staged.size() > MAX_SIZE => return Err(remote.wrong_file(digest)),
                read => staged.write_all(&piece[..read]).at("write", place)?,
            }
            self.change(|state| state.came = staged.size());
        }
        if staged.digest() != *digest || length.is_some_and(|length| length != staged.size()) {
            return Err(remote.wrong_file(digest));
        }
        let file = staged.into_file();
        file.as_file().sync_all().at("write", place)?;
        file.persist(place).map_err(|error| error.error).at("write", place)?;
        Ok(true)
    }

    fn change(&self, change: impl FnOnce(&mut State)) {
        change(&mut self.state());
        self.changed.notify_all();
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait<'s>(&self, state: MutexGuard<'s, State>) -> MutexGuard<'s, State> {
        self.changed.wait(state).unwrap_or_else(PoisonError::into_inner)
    }
}

/// Reads a file while it comes. The last byte is given only once all bytes are known to be right, so that nobody gets a whole
/// file that is another.
pub struct Following {
    incoming: Arc<IncomingFile>,
    place: PathBuf,
    file: Option<File>,
    at: u64,
    end: u64,
}

impl Following {
    /// Reads these bytes of a file on its way to its place.
    pub fn new(incoming: Arc<IncomingFile>, place: PathBuf, bytes: &Range<u64>) -> Self {
        Self { incoming, place, file: None, at: bytes.start, end: bytes.end }
    }

    /// Waits until there is something to read; how much, at most.
    fn there(&self) -> io::Result<u64> {
        let mut state = self.incoming.state();
        loop {
            let known = match state.end {
                Some(End::Whole) => self.end,
                Some(End::Missing | End::Failed) => return Err(io::ErrorKind::ConnectionAborted.into()),
                None => state.came.saturating_sub(1),
            };
            if known.min(self.end) > self.at {
                return Ok(known.min(self.end) - self.at);
            }
            state = self.incoming.wait(state);
        }
    }

    fn opened(&mut self) -> io::Result<&mut File> {
        if self.file.is_none() {
            let on_its_way = self.incoming.state().path.clone();
            // It may have come to its place meanwhile.
            let opened = on_its_way.and_then(|path| File::open(path).ok());
            let mut file = opened.map_or_else(|| File::open(&self.place), Ok)?;
            file.seek(SeekFrom::Start(self.at))?;
            self.file = Some(file);
        }
        self.file.as_mut().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

impl Read for Following {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.end || buffer.is_empty() {
            return Ok(0);
        }
        let there = usize::try_from(self.there()?).unwrap_or(usize::MAX).min(buffer.len());
        let read = self.opened()?.read(&mut buffer[..there])?;
        self.at += read as u64;
        Ok(read)
    }
}
