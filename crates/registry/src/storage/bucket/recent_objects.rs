//! Objects that a process has just read or written, so that it needn't ask for them again.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bytes::Bytes;

use super::objects::Text;
use crate::model::bounded::Bounded;
use crate::model::mutex::lock;
use crate::model::storage::pending::Pending;

/// Most bytes of histories, and of files, that are remembered.
const MAX_BYTES: u64 = 32 << 20;

/// Largest file that is remembered, in bytes.
pub const MAX_FILE_SIZE: u64 = 4 << 20;

/// Most uploads that are remembered; with more, all are forgotten and asked for.
const MAX_MARKS: usize = 10_000;

/// How long a file is taken for being there: uploads that nobody releases go later by far.
const FILE_CACHE_TIME: Duration = Duration::from_mins(10);

/// How long it is taken for right that a file is not there, and how much waits for its release.
const UPLOAD_CACHE_TIME: Duration = Duration::from_secs(10);

/// A moment in the order in which this process asked and was answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct RequestOrder(u64);

/// What a process has just read from a bucket or written there.
pub struct Recent {
    clock: AtomicU64,
    histories: Mutex<Bounded<PackageName, (Text, RequestOrder)>>,
    files: Mutex<Bounded<Digest, (Bytes, Instant)>>,
    uploads: Mutex<Uploads>,
}

/// What is known of uploads.
#[derive(Default)]
struct Uploads {
    /// Whole files that were uploaded here.
    marked: HashMap<Digest, Pending>,
    /// Files that were not there, nor a part of them.
    missing: HashMap<Digest, Instant>,
    /// How many bytes waited for their release.
    waiting: Option<(u64, Instant)>,
}

impl Default for Recent {
    fn default() -> Self {
        Self {
            clock: AtomicU64::default(),
            histories: Mutex::new(Bounded::new(MAX_BYTES)),
            files: Mutex::new(Bounded::new(MAX_BYTES)),
            uploads: Mutex::default(),
        }
    }
}

impl Recent {
    /// A moment after all earlier ones.
    pub fn now(&self) -> RequestOrder {
        RequestOrder(self.clock.fetch_add(1, Ordering::SeqCst))
    }

    /// A package's history as it was read or written last, and when that began.
    pub fn history(&self, package: &PackageName) -> Option<(Text, RequestOrder)> {
        lock(&self.histories).get(package).cloned()
    }

    /// Remembers a package's history, which was read or written since `begun`; not one that is older than what is known.
    pub fn put_history(&self, package: &PackageName, text: &Text, begun: RequestOrder) {
        let mut histories = lock(&self.histories);
        // A history only grows, so that of two the longer one is the later one.
        let length = |text: &Text| text.text.as_ref().map_or(0, |text| text.len());
        let known = histories.get(package).map(|(known, at)| (length(known), *at));
        let new = length(text);
        if known.is_none_or(|known| known <= (new, begun)) {
            histories.put(package.clone(), (text.clone(), begun), new as u64 + 256);
        }
    }

    /// What a file holds that is in the bucket.
    pub fn file(&self, digest: &Digest) -> Option<Bytes> {
        let files = lock(&self.files);
        let (bytes, since) = files.get(digest)?;
        (since.elapsed() < FILE_CACHE_TIME).then(|| bytes.clone())
    }

    /// Remembers a file that is in the bucket now.
    pub fn put_file(&self, digest: Digest, bytes: Bytes) {
        let size = bytes.len() as u64;
        if size <= MAX_FILE_SIZE {
            lock(&self.files).put(digest, (bytes, Instant::now()), size + 256);
        }
    }

    /// Forgets a file that was removed.
    pub fn forget_file(&self, digest: &Digest) {
        lock(&self.files).remove(digest);
    }

    /// The upload of a whole file that was taken in here.
    pub fn mark(&self, digest: &Digest) -> Option<Pending> {
        lock(&self.uploads).marked.get(digest).copied()
    }

    /// Remembers that a file was uploaded here.
    pub fn put_mark(&self, pending: Pending) {
        let mut uploads = lock(&self.uploads);
        if let Some((waiting, _)) = &mut uploads.waiting {
            *waiting += pending.bytes;
        }
        if uploads.marked.len() >= MAX_MARKS {
            uploads.marked.clear();
        }
        uploads.marked.insert(pending.digest, pending);
        uploads.missing.remove(&pending.digest);
    }

    /// Forgets an upload, which was released or goes.
    pub fn forget_mark(&self, digest: &Digest) {
        let mut uploads = lock(&self.uploads);
        let pending = uploads.marked.remove(digest);
        if let (Some(pending), Some((waiting, _))) = (pending, &mut uploads.waiting) {
            *waiting = waiting.saturating_sub(pending.bytes);
        }
    }

    /// Whether a file was not there a moment ago, nor a part of it.
    pub fn is_missing(&self, digest: &Digest) -> bool {
        lock(&self.uploads).missing.get(digest).is_some_and(|since| since.elapsed() < UPLOAD_CACHE_TIME)
    }

    /// Remembers that a file was not there, nor a part of it.
    pub fn put_missing(&self, digest: Digest) {
        let mut uploads = lock(&self.uploads);
        uploads.missing.retain(|_, since| since.elapsed() < UPLOAD_CACHE_TIME);
        uploads.missing.insert(digest, Instant::now());
    }

    /// Forgets that a file was not there: a part of it comes.
    pub fn forget_missing(&self, digest: &Digest) {
        lock(&self.uploads).missing.remove(digest);
    }

    /// How many bytes waited for their release a moment ago.
    pub fn waiting(&self) -> Option<u64> {
        let uploads = lock(&self.uploads);
        uploads.waiting.filter(|(_, since)| since.elapsed() < UPLOAD_CACHE_TIME).map(|(waiting, _)| waiting)
    }

    /// Remembers how many bytes wait for their release.
    pub fn put_waiting(&self, bytes: u64) {
        lock(&self.uploads).waiting = Some((bytes, Instant::now()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(text: &str) -> Text {
        Text { text: Some(text.into()), version: None }
    }

    #[test]
    fn the_later_history_stays_whoever_remembers_it_last() {
        let (recent, moss) = (Recent::default(), "moss-map".parse().unwrap());
        let (first, second) = (recent.now(), recent.now());
        recent.put_history(&moss, &text("one\ntwo\n"), first);
        recent.put_history(&moss, &text("one\n"), second);
        let (known, begun) = recent.history(&moss).unwrap();
        assert_eq!((known.text.as_deref(), begun), (Some("one\ntwo\n"), first));
        recent.put_history(&moss, &text("one\ntwo\n"), second);
        assert_eq!(recent.history(&moss).unwrap().1, second);
    }
}
