//! The objects of a bucket below one prefix: read, listed, and written so that no change is lost.
//!
//! Everything above waits for its answers; what waits here is a runtime of its own, one for all buckets of the process.

use std::io::{self, Read};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, OnceLock};
use std::thread;
use std::time::Duration;

use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt};
use object_store::aws::{AmazonS3Builder, AmazonS3ConfigKey};
use object_store::path::Path;
use object_store::{
    Attributes, Error, GetOptions, GetRange, GetResult, ObjectMeta, ObjectStore, ObjectStoreExt, PutMode,
    PutOptions, RetryConfig, UpdateVersion, WriteMultipart,
};
use tokio::runtime::{Builder, Runtime};
use url::Url;

use crate::model::error::RegistryError;
use crate::model::jitter::share_of;
use crate::model::private_hosts::is_loopback;

use super::transport::Transport;

/// Objects up to this size are written in one request, in bytes.
const MAX_IN_MEMORY: u64 = 8 << 20;

/// Most tries to change an object that others change, too.
const MAX_TRIES: u32 = 100;

/// How often in a row a change may be refused though nothing else is there than before: who is quicker may not be seen at once.
const MAX_REFUSALS: u32 = 5;

/// How often in all a change is tried again that a store failed at.
const MAX_FAILURES: u32 = 8;

/// How often a request is tried that may be tried again.
const MAX_REQUESTS: usize = 4;

/// Until a request is given up.
const CONFLICT_TIMEOUT: Duration = Duration::from_secs(30);

/// Longest wait before another try.
const MAX_WAIT: Duration = Duration::from_millis(800);

/// What is made of an object's text, or of there being none; nothing where it is to stay as it is.
pub type Change<'c> = dyn FnMut(Option<&str>) -> Result<Option<String>, RegistryError> + 'c;

/// The objects of a bucket below a prefix.
#[derive(Clone)]
pub struct Objects {
    store: Arc<dyn ObjectStore>,
    prefix: Path,
    place: String,
    /// How the store wants conditions; found out before the first change.
    conditions: Arc<OnceLock<Conditions>>,
}

/// How a store reads the entity tag of a condition (`If-Match`; RFC 9110, section 13.1.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Conditions {
    /// In quotes, as it gives it.
    Quoted,
    /// Without the quotes that belong to it.
    Bare,
}

/// An object with what tells its state.
pub struct Object {
    /// Its bytes.
    pub bytes: Bytes,
    /// What tells whether it changed.
    pub version: UpdateVersion,
}

/// The text of an object, or that there is none, with what tells its state.
#[derive(Debug, Clone)]
pub struct Text {
    /// The text; nothing of an object that is not there.
    pub text: Option<Arc<str>>,
    /// What tells whether it changed; nothing of an object that is not there.
    pub version: Option<UpdateVersion>,
}

impl Objects {
    /// Opens a place such as `s3://bucket/prefix`; `settings` are those of the usual variables (`AWS_ACCESS_KEY_ID`, …).
    pub fn open(
        place: &str,
        settings: impl IntoIterator<Item = (String, String)>,
    ) -> Result<Self, RegistryError> {
        let wrong = |what: &str| RegistryError::Bucket {
            place: place.to_owned(),
            what: what.to_owned(),
            cause: None,
        };
        let url = Url::parse(place).map_err(|_| wrong("this isn't a valid place of a bucket"))?;
        let bucket = url.host_str().ok_or_else(|| wrong("it names no bucket"))?;
        let prefix =
            Path::parse(url.path().trim_matches('/')).map_err(|_| wrong("its prefix can't be one"))?;
        // The first caller installs it; it is the same for all.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let patience = RetryConfig {
            max_retries: MAX_REQUESTS,
            retry_timeout: CONFLICT_TIMEOUT,
            ..RetryConfig::default()
        };
        let mut builder = AmazonS3Builder::new()
            .with_bucket_name(bucket)
            .with_retry(patience)
            .with_http_connector(Transport::default());
        for (key, value) in settings {
            if let Ok(key) = key.to_ascii_lowercase().parse::<AmazonS3ConfigKey>() {
                let is_plain = key == AmazonS3ConfigKey::Endpoint
                    && Url::parse(&value).is_ok_and(|url| is_loopback(&url));
                builder = builder.with_config(key, value);
                builder = if is_plain { builder.with_allow_http(true) } else { builder };
            }
        }
        let store = builder.build().map_err(|_| wrong("its settings (AWS_…) can't be used"))?;
        Ok(Self { store: Arc::new(store), prefix, place: place.to_owned(), conditions: Arc::default() })
    }

    /// Objects of a store in memory.
    #[cfg(test)]
    pub fn on(store: Arc<dyn ObjectStore>) -> Self {
        let (prefix, place) = (Path::from("seedhouse"), "s3://garden/seedhouse".to_owned());
        Self { store, prefix, place, conditions: Arc::default() }
    }

    /// The same objects of a store that is known to take conditions as it gives entity tags.
    #[cfg(test)]
    pub fn with_conditions(self) -> Self {
        Self { conditions: Arc::new(OnceLock::from(Conditions::Quoted)), ..self }
    }

    /// Where it is, for messages.
    pub fn place(&self) -> PathBuf {
        self.place.clone().into()
    }

    /// An object; `None` if it is not there.
    pub fn read(&self, path: &str) -> Result<Option<Object>, RegistryError> {
        let read = wait(async {
            let found = self.store.get(&self.at(path)).await?;
            let version =
                UpdateVersion { e_tag: found.meta.e_tag.clone(), version: found.meta.version.clone() };
            Ok(Object { bytes: found.bytes().await?, version })
        });
        self.unless_missing(read)
    }

    /// The text of an object; `None` if it is not there.
    pub fn read_text(&self, path: &str) -> Result<Option<(String, UpdateVersion)>, RegistryError> {
        let Some(Object { bytes, version }) = self.read(path)? else { return Ok(None) };
        let text = String::from_utf8(bytes.into()).map_err(|_| self.wrong("what it holds is no text"))?;
        Ok(Some((text, version)))
    }

    /// The text of an object as it is now; it isn't sent again where it still is as it was `known`.
    pub fn read_on(&self, path: &str, known: Option<Text>) -> Result<Text, RegistryError> {
        let tag = known.as_ref().and_then(|known| known.version.as_ref()?.e_tag.clone());
        let options = GetOptions { if_none_match: tag, ..GetOptions::default() };
        let read = wait(async {
            let found = self.store.get_opts(&self.at(path), options).await?;
            let version =
                UpdateVersion { e_tag: found.meta.e_tag.clone(), version: found.meta.version.clone() };
            Ok(Object { bytes: found.bytes().await?, version })
        });
        match (read, known) {
            (Err(Error::NotModified { .. }), Some(known)) => Ok(known),
            (Err(Error::NotFound { .. }), _) => Ok(Text { text: None, version: None }),
            (Err(error), _) => Err(self.shown(error)),
            (Ok(Object { bytes, version }), _) => {
                let text = std::str::from_utf8(&bytes).map_err(|_| self.wrong("what it holds is no text"))?;
                Ok(Text { text: Some(text.into()), version: Some(version) })
            }
        }
    }

    /// What is known of an object; `None` if it is not there.
    pub fn look(&self, path: &str) -> Result<Option<ObjectMeta>, RegistryError> {
        self.unless_missing(wait(async { self.store.head(&self.at(path)).await }))
    }

    /// Reads these bytes of an object as they arrive.
    pub fn open_range(
        &self,
        path: &str,
        bytes: Range<u64>,
    ) -> Result<Option<impl Read + use<>>, RegistryError> {
        let options = GetOptions { range: Some(GetRange::Bounded(bytes.clone())), ..GetOptions::default() };
        let options = if bytes.is_empty() { GetOptions::default() } else { options };
        let opened = wait(async { self.store.get_opts(&self.at(path), options).await });
        let stream = self.unless_missing(opened)?.map(GetResult::into_stream);
        Ok(stream.map(|stream| IncomingFile { stream, piece: Bytes::new(), left: bytes.end - bytes.start }))
    }

    /// Reads an object from its beginning to its end as it arrives.
    pub fn open_whole(&self, path: &str) -> Result<Option<impl Read + use<>>, RegistryError> {
        let opened = wait(async { self.store.get(&self.at(path)).await });
        Ok(self.unless_missing(opened)?.map(|found| {
            let left = found.meta.size;
            IncomingFile { stream: found.into_stream(), piece: Bytes::new(), left }
        }))
    }

    /// What is known of all objects below a path.
    pub fn below(&self, path: &str) -> Result<Vec<ObjectMeta>, RegistryError> {
        let listed = wait(async { self.store.list(Some(&self.at(path))).try_collect().await });
        listed.map_err(|error| self.shown(error))
    }

    /// What is known of the objects in a folder whose names come after a name, which has to be in that folder.
    pub fn after(&self, folder: &str, name: &str) -> Result<Vec<ObjectMeta>, RegistryError> {
        let (prefix, offset) = (self.at(folder), self.at(&format!("{folder}/{name}")));
        let listed = wait(async { self.store.list_with_offset(Some(&prefix), &offset).try_collect().await });
        listed.map_err(|error| self.shown(error))
    }

    /// What is known of an object and of all objects below another path, asked for side by side.
    pub fn look_and_below(
        &self,
        path: &str,
        folder: &str,
    ) -> Result<(Option<ObjectMeta>, Vec<ObjectMeta>), RegistryError> {
        let (at, prefix) = (self.at(path), self.at(folder));
        let (found, listed) = wait(async {
            futures_util::join!(self.store.head(&at), self.store.list(Some(&prefix)).try_collect())
        });
        Ok((self.unless_missing(found)?, listed.map_err(|error| self.shown(error))?))
    }

    /// The path of an object as seen from the prefix.
    pub fn inside<'m>(&self, object: &'m ObjectMeta) -> &'m str {
        object.location.as_ref().trim_start_matches(self.prefix.as_ref()).trim_start_matches('/')
    }

    /// Makes an object, unless there is one.
    pub fn create(&self, path: &str, bytes: &Bytes) -> Result<bool, RegistryError> {
        let mut failed = 0;
        loop {
            match self.put(path, bytes.clone(), PutMode::Create) {
                Ok(made) => return Ok(made.is_some()),
                // Stores fail so at those who come second, too.
                Err(error) if is_passing(&error) && failed < MAX_FAILURES => failed += 1,
                Err(error) => return Err(self.shown(error)),
            }
            thread::sleep(pause(failed));
        }
    }

    /// How the store wants conditions, tried out once on an object of its own; an error where it doesn't keep them, for then two
    /// publishers would undo each other's changes.
    pub fn conditions(&self) -> Result<Conditions, RegistryError> {
        if let Some(known) = self.conditions.get() {
            return Ok(*known);
        }
        let found = self.try_conditions()?;
        Ok(*self.conditions.get_or_init(|| found))
    }

    fn try_conditions(&self) -> Result<Conditions, RegistryError> {
        let path = format!("private/probe/{:016x}", fastrand::u64(..));
        let found = self.try_conditions_on(&path);
        self.remove(&path)?;
        found
    }

    fn try_conditions_on(&self, path: &str) -> Result<Conditions, RegistryError> {
        let put = |text: &'static str, mode| {
            let bytes = Bytes::from_static(text.as_bytes());
            self.put(path, bytes, mode).map(|made| made.is_some()).map_err(|error| self.shown(error))
        };
        if !put("one", PutMode::Create)? || put("other", PutMode::Create)? {
            return Err(
                self.wrong("it overwrites what is only to be made where there is nothing (`If-None-Match`)")
            );
        }
        let Some((_, first)) = self.read_text(path)? else {
            return Err(self.wrong("what was just written can't be read"));
        };
        for found in [Conditions::Quoted, Conditions::Bare] {
            if put("two", PutMode::Update(found.version(first.clone())))? {
                // The tag of what isn't there any more.
                if put("three", PutMode::Update(found.version(first)))? {
                    break;
                }
                return Ok(found);
            }
        }
        Err(self.wrong(
            "it doesn't keep conditions on changes (`If-Match`), so publishers would undo each other's",
        ))
    }

    /// Changes an object to what `change` makes of it, again where somebody else changed it meanwhile; not at all where that
    /// is nothing. How it is then.
    ///
    /// Where it is `known` how the object was, that is taken first. What is written is then right all the same, for the condition
    /// holds only as long as that is true; to write nothing is decided by nothing but the object as it is.
    pub fn change(
        &self,
        path: &str,
        mut known: Option<Text>,
        change: &mut Change<'_>,
    ) -> Result<Text, RegistryError> {
        let conditions = self.conditions()?;
        let (mut refused, mut times, mut failed) = (None, 0, 0);
        for tried in 0..MAX_TRIES {
            let at_once = known.take().map(|known| (change(known.text.as_deref()), known));
            let (text, there) = if let Some((Ok(Some(text)), known)) = at_once {
                (text, known)
            } else {
                let there = self.read_on(path, at_once.map(|(_, known)| known))?;
                let Some(text) = change(there.text.as_deref())? else { return Ok(there) };
                (text, there)
            };
            let version = there.version;
            let is_as_it_was =
                refused.is_some() && refused == version.as_ref().map(|version| version.e_tag.clone());
            times = if is_as_it_was { times + 1 } else { 0 };
            if times == MAX_REFUSALS {
                return Err(self.wrong("it refuses a change of an unchanged object (412)"));
            }
            let mode = version
                .clone()
                .map_or(PutMode::Create, |version| PutMode::Update(conditions.version(version)));
            let text: Arc<str> = text.into();
            match self.put(path, Bytes::copy_from_slice(text.as_bytes()), mode) {
                Ok(Some(version)) => return Ok(Text { text: Some(text), version: Some(version) }),
                Ok(None) => refused = version.map(|version| version.e_tag),
                // Stores fail so at those who come second, too. What became of it shows when it is read again.
                Err(error) if is_passing(&error) && failed < MAX_FAILURES => {
                    (refused, failed) = (None, failed + 1);
                }
                Err(error) => return Err(self.shown(error)),
            }
            thread::sleep(pause(tried));
        }
        Err(self.wrong("too many others change the same at once"))
    }

    /// Writes an object that is named by its digest: concurrent writers write the same bytes.
    pub fn write(&self, path: &str, size: u64, source: &mut dyn Read) -> Result<(), RegistryError> {
        if size <= MAX_IN_MEMORY {
            let mut bytes = Vec::new();
            source
                .read_to_end(&mut bytes)
                .map_err(|_| self.wrong("a file on its way there can't be read"))?;
            let written = self.put(path, bytes.into(), PutMode::Overwrite);
            return written.map(drop).map_err(|error| self.shown(error));
        }
        let begun = wait(async { self.store.put_multipart(&self.at(path)).await });
        let mut writing = WriteMultipart::new(begun.map_err(|error| self.shown(error))?);
        let mut piece = vec![0; MAX_IN_MEMORY as usize / 4];
        loop {
            match source.read(&mut piece) {
                Ok(0) => break,
                Ok(read) => {
                    let waited = wait(async {
                        writing.wait_for_capacity(4).await?;
                        writing.write(&piece[..read]);
                        Ok(())
                    });
                    waited.map_err(|error| self.shown(error))?;
                }
                Err(_) => {
                    // What was sent goes when the bucket tidies up, if not now.
                    let _ = wait(writing.abort());
                    return Err(self.wrong("a file on its way there can't be read"));
                }
            }
        }
        wait(writing.finish()).map(drop).map_err(|error| self.shown(error))
    }

    /// Removes objects, in as few requests as the store lets it be.
    pub fn remove_all(&self, paths: &[String]) -> Result<(), RegistryError> {
        let all = paths.iter().map(|path| Ok(self.at(path))).collect::<Vec<_>>();
        let removed = self.store.delete_stream(futures_util::stream::iter(all).boxed());
        let removed: Vec<_> = wait(removed.collect());
        removed.into_iter().try_for_each(|removed| self.unless_missing(removed).map(drop))
    }

    /// Removes an object, if it is there.
    pub fn remove(&self, path: &str) -> Result<(), RegistryError> {
        self.unless_missing(wait(async { self.store.delete(&self.at(path)).await })).map(drop)
    }

    /// What tells the state of what was written; nothing was where somebody else was quicker.
    fn put(&self, path: &str, bytes: Bytes, mode: PutMode) -> Result<Option<UpdateVersion>, Error> {
        let options = PutOptions { mode, attributes: Attributes::new(), ..PutOptions::default() };
        match wait(async { self.store.put_opts(&self.at(path), bytes.into(), options).await }) {
            Ok(written) => Ok(Some(written.into())),
            Err(Error::AlreadyExists { .. } | Error::Precondition { .. }) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn at(&self, path: &str) -> Path {
        let parts = path.split('/').filter(|part| !part.is_empty());
        parts.fold(self.prefix.clone(), Path::join)
    }

    fn unless_missing<T>(&self, result: Result<T, Error>) -> Result<Option<T>, RegistryError> {
        match result {
            Ok(found) => Ok(Some(found)),
            Err(Error::NotFound { .. }) => Ok(None),
            Err(error) => Err(self.shown(error)),
        }
    }

    fn shown(&self, error: Error) -> RegistryError {
        let what = match &error {
            Error::PermissionDenied { .. } | Error::Unauthenticated { .. } => {
                "it refuses; check that AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY have the permission"
            }
            Error::NotFound { .. } => "there is no such bucket",
            _ => "it can't be reached, or breaks off",
        };
        let (place, what) = (self.place.clone(), what.to_owned());
        RegistryError::Bucket { place, what, cause: Some(Box::new(error)) }
    }

    fn wrong(&self, what: &str) -> RegistryError {
        RegistryError::Bucket { place: self.place.clone(), what: what.to_owned(), cause: None }
    }
}

impl Conditions {
    /// What tells an object's state, as the store wants to have it told.
    fn version(self, version: UpdateVersion) -> UpdateVersion {
        let bare = |tag: &String| Some(tag.strip_prefix('"')?.strip_suffix('"')?.to_owned());
        match self {
            Self::Quoted => version,
            Self::Bare => {
                let e_tag = version.e_tag.map(|tag| bare(&tag).unwrap_or(tag));
                UpdateVersion { e_tag, ..version }
            }
        }
    }
}

/// Whether a write that failed may work at another try.
fn is_passing(error: &Error) -> bool {
    matches!(error, Error::Generic { .. })
}

/// Bytes of an object as they arrive.
struct IncomingFile<S> {
    stream: S,
    piece: Bytes,
    left: u64,
}

impl<S: futures_util::Stream<Item = object_store::Result<Bytes>> + Unpin> Read for IncomingFile<S> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.piece.is_empty() && self.left > 0 {
            match wait(self.stream.next()) {
                Some(piece) => self.piece = piece.map_err(io::Error::other)?,
                None => return Err(io::ErrorKind::UnexpectedEof.into()),
            }
        }
        let most = usize::try_from(self.left).unwrap_or(usize::MAX);
        let read = self.piece.len().min(buffer.len()).min(most);
        buffer[..read].copy_from_slice(&self.piece.split_to(read));
        self.left -= read as u64;
        Ok(read)
    }
}

/// A time before another try, longer with each and never the same for two who failed together.
fn pause(tried: u32) -> Duration {
    share_of(MAX_WAIT.min(Duration::from_millis(10) * 2_u32.pow(tried.min(10))))
}

/// Waits for an answer, on a thread that may wait.
fn wait<T>(answer: impl Future<Output = T>) -> T {
    static RUNTIME: OnceLock<Option<Runtime>> = OnceLock::new();
    let runtime =
        RUNTIME.get_or_init(|| Builder::new_multi_thread().worker_threads(2).enable_all().build().ok());
    match runtime {
        Some(runtime) => runtime.block_on(answer),
        // A system that gives no threads can't do anything of what follows either.
        None => panic!("this system gives no threads to ask a bucket with"),
    }
}
