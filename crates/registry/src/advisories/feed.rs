//! A feed: where it is, the copy of it on this machine, and whether its index is still right.

use std::fs::{self, Metadata};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::UNIX_EPOCH;

use bibliotax_core::digest::Digest;
use bibliotax_core::location::Location;
use bibliotax_disk::error::At;
use bibliotax_disk::temporary::TEMPORARY;
use bibliotax_disk::write::{make_folder, write_whole};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::index::{Index, IndexError, RecordFault};
use super::records;
use crate::client::http::checked;
use crate::client::http::client::{Answer, Client};
use crate::client::network::Network;
use crate::model::error::{Asked, RegistryError};
use crate::model::mutex::lock;

/// How long a server's answer is good for without asking it again.
const FRESH: SignedDuration = SignedDuration::from_mins(15);

/// The largest feed that is fetched, in bytes.
const MAX_SIZE: u64 = 4 << 30;

/// Folders with more records than this are looked at as a whole once an hour; in between, only whether files came or went.
const MANY: usize = 2_000;
const LOOK_INTERVAL: SignedDuration = SignedDuration::from_hours(1);

/// How a feed stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FeedStatus {
    /// Where it is, as the manifest says.
    pub place: String,
    /// How many records it has.
    pub records: usize,
    /// The records that can't be read.
    pub faults: Vec<RecordFault>,
    /// When its server confirmed last what is known of it; `None` where it is on this machine.
    pub fetched: Option<Timestamp>,
    /// Why it can't be reached now.
    pub away: Option<String>,
    /// Whether anything of it is known.
    pub is_known: bool,
}

/// A feed.
pub struct Feed {
    place: String,
    path: Option<PathBuf>,
    /// Where its copy and its index are.
    folder: Option<PathBuf>,
    network: Network,
    trouble: Mutex<Option<String>>,
}

/// What is known of the copy of a feed that is elsewhere.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Kept {
    /// When the server confirmed it last.
    pub confirmed: Timestamp,
    /// The server's validator: an entity tag, or a date.
    tag: Option<String>,
}

impl Feed {
    /// The feed at a place, seen from `root`.
    pub fn new(place: &str, root: &Path, network: &Network) -> Self {
        let path = Location::of(place).path().map(|path| root.join(path));
        let named = path.as_ref().map_or(place.to_owned(), |path| path.to_string_lossy().into_owned());
        let name = Digest::of(named.as_bytes()).to_string();
        let folder = network.cache.as_ref().map(|cache| cache.join("advisories").join(name));
        Self { place: place.to_owned(), path, folder, network: network.clone(), trouble: Mutex::default() }
    }

    /// Where it is, as the manifest says.
    pub fn place(&self) -> &str {
        &self.place
    }

    /// Why it couldn't be reached, where an older copy is used.
    pub fn trouble(&self) -> Option<String> {
        lock(&self.trouble).clone()
    }

    /// What is known of the copy of it; `None` where it is on this machine, or nothing was fetched yet.
    pub fn kept(&self) -> Option<Kept> {
        if self.path.is_some() {
            return None;
        }
        serde_json::from_str(&fs::read_to_string(self.folder.as_ref()?.join("state.json")).ok()?).ok()
    }

    /// The error that its index can't be used.
    pub fn broken(&self, error: &IndexError) -> RegistryError {
        RegistryError::Feed { place: self.place.clone(), message: error.to_string() }
    }

    /// Its index, made anew where the feed changed; `None` where nothing of it is known.
    pub fn index(&self) -> Result<Option<Index>, RegistryError> {
        let Some(folder) = &self.folder else { return Ok(None) };
        let place = folder.join("index.sqlite");
        let path = match &self.path {
            Some(path) => path.clone(),
            None => {
                if let Err(error) = self.refresh(folder) {
                    *lock(&self.trouble) = Some(super::reason(&error));
                }
                folder.join("feed")
            }
        };
        if !path.exists() {
            let message = "there is no such file or folder".to_owned();
            return match &self.path {
                Some(_) => Err(RegistryError::Feed { place: self.place.clone(), message }),
                None => Ok(None),
            };
        }
        let broken = |error: io::Error| self.broken(&error.into());
        if path.is_dir() {
            let quick = folder_stamp(&path).map_err(broken)?;
            let looked = Index::looked(&place);
            let is_recent = |at: &Timestamp| self.network.now.duration_since(*at) < LOOK_INTERVAL;
            // A stamp of a large folder is that of its folders, a bar, and that of its files.
            if let Some((_, stamp)) = looked.filter(|(at, _)| is_recent(at))
                && stamp.strip_prefix(&quick).is_some_and(|rest| rest.starts_with("|many"))
                && let Some(index) = Index::open(&place, &path, &stamp)
            {
                return Ok(Some(index));
            }
            let stamp = files_stamp(&path, &quick).map_err(broken)?;
            return self.opened_or_made(&place, &path, &stamp).map(Some);
        }
        let stamp = stamp_of(&fs::metadata(&path).map_err(broken)?);
        self.opened_or_made(&place, &path, &stamp).map(Some)
    }

    fn opened_or_made(&self, place: &Path, path: &Path, stamp: &str) -> Result<Index, RegistryError> {
        match Index::open(place, path, stamp) {
            Some(index) => Ok(index),
            None => Index::make(place, path, stamp, self.network.now).map_err(|error| self.broken(&error)),
        }
    }

    /// Brings the copy of it up to date, where it is time to ask.
    fn refresh(&self, folder: &Path) -> Result<(), RegistryError> {
        let kept = self.kept().filter(|_| folder.join("feed").is_file());
        let age = kept.as_ref().map(|kept| self.network.now.duration_since(kept.confirmed));
        let is_fresh = age.is_some_and(|age| !age.is_negative() && age < FRESH) && !self.network.asks_anew;
        if is_fresh || self.network.offline && kept.is_some() {
            return Ok(());
        }
        let asked = Asked::Feed(self.place.clone());
        let base = checked(&asked, &self.place, false)?;
        let client = Client::new(asked, base, &self.network);
        let tag = kept.as_ref().and_then(|kept| kept.tag.clone());
        let tag = match client.fresh("", tag.as_deref())? {
            Answer::Same => tag,
            Answer::Missing => {
                let message = "the server has no such file".to_owned();
                return Err(RegistryError::Feed { place: self.place.clone(), message });
            }
            Answer::Found { content, tag } => {
                self.keep(folder, content)?;
                tag
            }
        };
        let kept = Kept { confirmed: self.network.now, tag };
        // A time and a text: nothing in it can fail to be JSON.
        let text = serde_json::to_string(&kept).unwrap_or_default();
        Ok(write_whole(&folder.join("state.json"), text.as_bytes())?)
    }

    fn keep(&self, folder: &Path, body: impl Read) -> Result<(), RegistryError> {
        make_folder(folder)?;
        let place = folder.join("feed");
        let broken = |error: io::Error| self.broken(&error.into());
        let mut written =
            tempfile::Builder::new().prefix(TEMPORARY).tempfile_in(folder).at("write", folder)?;
        let size = io::copy(&mut body.take(MAX_SIZE + 1), &mut written).map_err(broken)?;
        if size > MAX_SIZE {
            return Err(broken(io::Error::other(format!("it is larger than {MAX_SIZE} bytes"))));
        }
        written.persist(&place).map_err(|error| error.error).at("write", &place)?;
        Ok(())
    }
}

/// What tells a file from what it was.
fn stamp_of(metadata: &Metadata) -> String {
    let since = metadata.modified().ok().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    format!("{}:{}", since.unwrap_or_default().as_nanos(), metadata.len())
}

/// What tells whether files came into the folders of a feed, or left them.
fn folder_stamp(root: &Path) -> io::Result<String> {
    let mut stamps = String::new();
    let mut open = vec![(root.to_owned(), 0)];
    while let Some((folder, depth)) = open.pop() {
        let metadata = fs::metadata(&folder)?;
        stamps.push_str(&format!("{}\n{}\n", folder.display(), stamp_of(&metadata)));
        // A folder without folders inside has two links, where the disk counts them so.
        if depth < records::MAX_DEPTH && has_folders(&metadata) {
            for entry in fs::read_dir(&folder)? {
                let entry = entry?;
                if entry.file_type()?.is_dir() {
                    open.push((entry.path(), depth + 1));
                }
            }
        }
    }
    Ok(blake3::hash(stamps.as_bytes()).to_hex().to_string())
}

#[cfg(unix)]
fn has_folders(metadata: &Metadata) -> bool {
    std::os::unix::fs::MetadataExt::nlink(metadata) != 2
}

#[cfg(not(unix))]
fn has_folders(_: &Metadata) -> bool {
    true
}

/// What tells whether any file of a feed changed.
fn files_stamp(root: &Path, folders: &str) -> io::Result<String> {
    let files = records::listed(root)?;
    let mut hasher = blake3::Hasher::new();
    for name in &files {
        hasher.update(name.as_bytes());
        hasher.update(stamp_of(&fs::metadata(root.join(name))?).as_bytes());
    }
    let many = if files.len() > MANY { "|many" } else { "|few" };
    Ok(format!("{folders}{many}|{}", hasher.finalize().to_hex()))
}
