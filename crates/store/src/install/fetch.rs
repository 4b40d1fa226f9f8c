//! Fetches many archives at once: hashed, unpacked and written while they arrive.
//!
//! An archive is never in memory as such, so what this takes doesn't grow with archives; on disk only what came of a large one is, until
//! all of it has come, for a run that goes on where this one may end. Some wait for the network while others unpack, which is why there
//! are more at once than there are processors.

use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use bibliotax_core::card::Archive;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};

use super::{InstallError, MissingArchive, OpenedArchive, Supplier, Wanted};
use crate::error::StoreError;
use crate::partial_download::Partial;
use crate::store::{Incoming, Store};

/// How many archives are on their way at once.
const MAX_CONCURRENT_DOWNLOADS: usize = 8;

/// What came is made durable and kept when this long has passed, or this much has come: a run that is killed has to fetch
/// no more than that again.
const COMMIT_INTERVAL: Duration = Duration::from_secs(2);
const MAX_UNCOMMITTED_BYTES: u64 = 256 << 20;

/// How much arrives between two notices.
const PROGRESS_STEP: u64 = 64 << 10;

/// Why an archive is not here.
enum FetchError<E> {
    /// It could not be had.
    Supply(E),
    /// Another one could not be had, so this one was not asked for.
    NotAsked,
    /// It came, and can't be used.
    Store(StoreError),
}

/// Fetches these archives into the store. What did come is kept even where something else failed.
pub(super) fn fetch<S: Supplier>(
    missing: &[Wanted<'_>],
    store: &Store,
    supplier: &S,
    listener: &dyn ProgressListener,
) -> Result<(), InstallError<S::Error>> {
    let bytes = missing.iter().map(|(_, file)| file.size).sum();
    listener.on_event(&ProgressEvent::Fetching { archives: missing.len(), bytes });
    let (next, in_vain) = (AtomicUsize::new(0), AtomicBool::new(false));
    let (done, receive) = mpsc::channel();
    let work = |done: &mpsc::Sender<_>| {
        while let Some((package, file)) = missing.get(next.fetch_add(1, Ordering::Relaxed)) {
            let result = if in_vain.load(Ordering::Relaxed) {
                Err(FetchError::NotAsked)
            } else {
                fetch_one(package, file, store, supplier, listener)
            };
            if let Err(FetchError::Supply(error)) = &result {
                in_vain.fetch_or(supplier.is_hopeless_after(error), Ordering::Relaxed);
            }
            // The collector ends early only if the disk refused, and then nothing counts any more.
            if done.send((*package, file.clone(), result)).is_err() {
                return;
            }
        }
    };
    thread::scope(|scope| {
        let concurrency = supplier.concurrency().unwrap_or(MAX_CONCURRENT_DOWNLOADS);
        for _ in 0..missing.len().min(concurrency) {
            let (work, done) = (&work, done.clone());
            scope.spawn(move || work(&done));
        }
        drop(done);
        Collected::default().collect(&receive, store)
    })
}

fn fetch_one<S: Supplier>(
    package: &LockedPackage,
    file: &Archive,
    store: &Store,
    supplier: &S,
    listener: &dyn ProgressListener,
) -> Result<Incoming, FetchError<S::Error>> {
    listener.on_event(&ProgressEvent::Asked { package: package.name.clone() });
    let partial = if supplier.is_resumable(package, file) { store.partial(file) } else { None };
    let mut fetching = Fetching { package, file, store, listener, partial };
    let mut missed = None;
    for place in 0..supplier.places(package, file) {
        match fetching.fetch_at(supplier, place) {
            Ok(received) => {
                fetching.partial.into_iter().for_each(Partial::remove);
                listener
                    .on_event(&ProgressEvent::Unpacked { package: package.name.clone(), bytes: file.size });
                return Ok(received);
            }
            Err(FetchError::Supply(error)) => missed = missed.or(Some(FetchError::Supply(error))),
            Err(other) => {
                // Bytes that were wrong say more than that there are no others.
                let may_be_right_elsewhere = matches!(&other, FetchError::Store(StoreError::Archive { source, .. }) if source.is_about_bytes());
                missed = Some(other);
                if !may_be_right_elsewhere {
                    break;
                }
            }
        }
    }
    Err(missed.unwrap_or(FetchError::NotAsked))
}

/// An archive that is fetched, with what came of it before.
struct Fetching<'f> {
    package: &'f LockedPackage,
    file: &'f Archive,
    store: &'f Store,
    listener: &'f dyn ProgressListener,
    partial: Option<Partial>,
}

impl Fetching<'_> {
    /// Fetches it from one place: from where it broke off before and, where that doesn't lead to the right bytes, all of it.
    fn fetch_at<S: Supplier>(
        &mut self,
        supplier: &S,
        place: usize,
    ) -> Result<Incoming, FetchError<S::Error>> {
        let from = self.partial.as_ref().map_or(0, Partial::there);
        let fetched = self.fetch_from_byte(supplier, place, from);
        let is_wrong = match &fetched {
            Err(FetchError::Supply(error)) => !supplier.is_hopeless_after(error),
            Err(FetchError::Store(StoreError::Archive { source, .. })) => {
                source.is_about_bytes() && !source.broke_off()
            }
            _ => false,
        };
        if is_wrong && let Some(partial) = &mut self.partial {
            partial.clear();
            if from > 0 {
                return self.fetch_from_byte(supplier, place, 0);
            }
        }
        fetched
    }

    fn fetch_from_byte<S: Supplier>(
        &mut self,
        supplier: &S,
        place: usize,
        from: u64,
    ) -> Result<Incoming, FetchError<S::Error>> {
        let (package, file) = (self.package, self.file);
        let OpenedArchive { bytes, from: sender } =
            supplier.open(package, file, place, from).map_err(FetchError::Supply)?;
        let bytes: Box<dyn Read + Send> = match &mut self.partial {
            Some(partial) => partial.followed_by(bytes),
            None => bytes,
        };
        let heard = Heard { inner: bytes, listener: self.listener, untold: 0 };
        let received = self.store.receive(heard, file, package);
        received.map_err(|source| {
            if let Some(from) = sender.filter(|_| source.is_about_bytes()) {
                self.listener.on_event(&ProgressEvent::WrongBytes { package: package.name.clone(), from });
            }
            FetchError::Store(StoreError::Archive { package: package.name.clone(), source })
        })
    }
}

/// What came and what didn't.
struct Collected<E> {
    waiting: Vec<Incoming>,
    waiting_bytes: u64,
    kept: Instant,
    lacking: Vec<MissingArchive>,
    unusable: Option<StoreError>,
    not_had: Option<E>,
}

impl<E> Default for Collected<E> {
    fn default() -> Self {
        let (waiting, lacking) = (Vec::new(), Vec::new());
        Self { waiting, waiting_bytes: 0, kept: Instant::now(), lacking, unusable: None, not_had: None }
    }
}

type Came<'l, E> = (&'l LockedPackage, Archive, Result<Incoming, FetchError<E>>);

impl<E> Collected<E> {
    fn collect(mut self, came: &mpsc::Receiver<Came<'_, E>>, store: &Store) -> Result<(), InstallError<E>> {
        for (package, file, result) in came {
            match result {
                Ok(tree) => self.add(tree, file.size, store)?,
                Err(missed) => self.miss(package, &file, missed),
            }
        }
        store.keep(self.waiting)?;
        // In an order that doesn't depend on who was first.
        self.lacking
            .sort_by(|one, other| other.size.cmp(&one.size).then_with(|| one.package.cmp(&other.package)));
        match (self.unusable, self.not_had) {
            (Some(error), _) => Err(error.into()),
            (None, Some(error)) => Err(InstallError::Supply(error, self.lacking)),
            (None, None) => Ok(()),
        }
    }

    fn add(&mut self, tree: Incoming, bytes: u64, store: &Store) -> Result<(), StoreError> {
        self.waiting.push(tree);
        self.waiting_bytes += bytes;
        if self.kept.elapsed() >= COMMIT_INTERVAL || self.waiting_bytes >= MAX_UNCOMMITTED_BYTES {
            store.keep(std::mem::take(&mut self.waiting))?;
            (self.waiting_bytes, self.kept) = (0, Instant::now());
        }
        Ok(())
    }

    fn miss(&mut self, package: &LockedPackage, file: &Archive, missed: FetchError<E>) {
        let (package, version) = (package.name.clone(), package.version.clone());
        self.lacking.push(MissingArchive { package, version, size: file.size });
        match missed {
            FetchError::Supply(error) => self.not_had = self.not_had.take().or(Some(error)),
            FetchError::Store(error) => self.unusable = self.unusable.take().or(Some(error)),
            FetchError::NotAsked => {}
        }
    }
}

/// Tells how many bytes have come, now and then.
struct Heard<'n, R> {
    inner: R,
    listener: &'n dyn ProgressListener,
    untold: u64,
}

impl<R: Read> Read for Heard<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.untold += read as u64;
        if self.untold >= PROGRESS_STEP || (read == 0 && self.untold > 0) {
            self.listener.on_event(&ProgressEvent::Arrived { bytes: std::mem::take(&mut self.untold) });
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;

    use bibliotax_core::card::ArchiveFormat;
    use bibliotax_core::digest::Digest;
    use bibliotax_core::lock::samples::test_lock;
    use bibliotax_core::progress::NoProgress;

    use super::*;

    #[derive(Debug, thiserror::Error)]
    #[error("nobody answers")]
    struct Away;

    /// Places that give these bytes or are away.
    struct Places {
        bytes: Vec<Option<Vec<u8>>>,
        asked: AtomicUsize,
    }

    impl Supplier for Places {
        type Error = Away;

        fn places(&self, _: &LockedPackage, _: &Archive) -> usize {
            self.bytes.len()
        }

        fn is_resumable(&self, _: &LockedPackage, _: &Archive) -> bool {
            false
        }

        fn open(&self, _: &LockedPackage, _: &Archive, place: usize, _: u64) -> Result<OpenedArchive, Away> {
            self.asked.fetch_add(1, Ordering::Relaxed);
            let bytes = self.bytes[place].clone().ok_or(Away)?;
            Ok(OpenedArchive {
                bytes: Box::new(io::Cursor::new(bytes)),
                from: Some(format!("place {place}")),
            })
        }

        fn is_hopeless_after(&self, _: &Away) -> bool {
            true
        }
    }

    /// Remembers who sent wrong bytes.
    #[derive(Default)]
    struct Wrong(Mutex<Vec<String>>);

    impl ProgressListener for Wrong {
        fn on_event(&self, event: &ProgressEvent) {
            if let ProgressEvent::WrongBytes { from, .. } = event {
                self.0.lock().unwrap().push(from.clone());
            }
        }
    }

    fn tar() -> Vec<u8> {
        let mut header = tar::Header::new_gnu();
        header.set_size(4);
        header.set_mode(0o644);
        let mut archive = tar::Builder::new(Vec::new());
        archive.append_data(&mut header, "moss.txt", &b"moss"[..]).unwrap();
        archive.into_inner().unwrap()
    }

    fn archive_of(bytes: &[u8]) -> Archive {
        Archive {
            sha256: Digest::of(bytes),
            size: bytes.len() as u64,
            format: ArchiveFormat::Tar,
            strip: None,
            selection: Default::default(),
            url: None,
        }
    }

    #[test]
    fn wrong_bytes_of_one_place_are_told_and_another_place_is_asked() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let lock = test_lock(&[("moss-map", "1.0")]);
        let (right, mut wrong) = (tar(), tar());
        wrong[0] ^= 1;
        let places =
            Places { bytes: vec![Some(wrong.clone()), Some(right.clone())], asked: AtomicUsize::new(0) };
        let heard = Wrong::default();
        fetch(&[(&lock.packages[0], archive_of(&right))], &store, &places, &heard).unwrap();
        assert_eq!(*heard.0.lock().unwrap(), ["place 0"]);
        let places = Places { bytes: vec![Some(wrong)], asked: AtomicUsize::new(0) };
        let failed = fetch(&[(&lock.packages[0], archive_of(&right))], &store, &places, &NoProgress);
        assert!(matches!(failed, Err(InstallError::Store(StoreError::Archive { .. }))));
    }

    #[test]
    fn where_nobody_answers_no_more_is_asked_and_all_that_is_missing_is_listed() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let names: Vec<String> = (0..100).map(|number| format!("bed-n{number}")).collect();
        let packages: Vec<(&str, &str)> = names.iter().map(|name| (name.as_str(), "1.0")).collect();
        let lock = test_lock(&packages);
        let missing: Vec<Wanted<'_>> = lock
            .packages
            .iter()
            .map(|package| (package, archive_of(package.name.as_str().as_bytes())))
            .collect();
        let places = Places { bytes: vec![None], asked: AtomicUsize::new(0) };
        let Err(InstallError::Supply(Away, listed)) = fetch(&missing, &store, &places, &NoProgress) else {
            panic!("nobody answers");
        };
        assert_eq!(listed.len(), 100);
        assert!(places.asked.load(Ordering::Relaxed) <= MAX_CONCURRENT_DOWNLOADS * 2);
    }
}
