//! Histories that were asked for lately, ready to be sent: read, given their validator and compressed once, not for each
//! request. Whether a history is still the same is seen by its stamp.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use bibliotax_core::name::PackageName;
use bibliotax_registry::model::storage::{ReadRegistry, Since, Stamp};
use bytes::Bytes;

use crate::blocking::blocking;
use crate::problem::Problem;

/// Most bytes of histories that are kept; with more, all are forgotten and those that are asked for come back.
const MAX_BYTES: usize = 128 << 20;

/// How hard texts are compressed.
const LEVEL: i32 = 3;

/// Texts below this length aren't worth compressing, in bytes.
const MIN_COMPRESSED_SIZE: usize = 300;

/// Texts above this length aren't compressed while others wait for an answer, in bytes.
const MAX_SERVED_WHOLE: usize = 64 << 10;

/// A text, ready to be sent.
pub struct Prepared {
    plain: Bytes,
    tag: String,
    compressed: OnceLock<Option<Bytes>>,
}

impl Prepared {
    /// Gives a text its validator.
    pub fn new(text: String) -> Self {
        let tag = tag_of(&text);
        Self { plain: text.into(), tag, compressed: OnceLock::new() }
    }

    /// The same on a thread that may work for a while: a long text is compressed there as well, which nearly everybody wants.
    pub fn at_work(text: String) -> Self {
        let prepared = Self::new(text);
        if prepared.plain.len() > MAX_SERVED_WHOLE {
            prepared.compressed();
        }
        prepared
    }

    /// The text as it is.
    pub fn plain(&self) -> &Bytes {
        &self.plain
    }

    /// The validator of the text as it is.
    pub fn tag(&self) -> &str {
        &self.tag
    }

    /// The text in Zstandard, where that is worth it.
    pub fn compressed(&self) -> Option<&Bytes> {
        let compress = || {
            let is_long = self.plain.len() >= MIN_COMPRESSED_SIZE;
            is_long.then(|| zstd::encode_all(&self.plain[..], LEVEL).ok().map(Bytes::from)).flatten()
        };
        self.compressed.get_or_init(compress).as_ref()
    }
}

/// The validator of a text that is not encoded.
pub fn tag_of(text: &str) -> String {
    format!("\"{}\"", &blake3::hash(text.as_bytes()).to_hex()[..32])
}

/// Histories that were asked for lately.
#[derive(Default)]
pub struct Hot {
    kept: Mutex<Kept>,
}

#[derive(Default)]
struct Kept {
    histories: HashMap<PackageName, (Stamp, Arc<Prepared>)>,
    bytes: usize,
}

impl Hot {
    /// The history of a package, ready to be sent; `None` if the registry doesn't hold the name.
    pub async fn history(
        &self,
        registry: &Arc<dyn ReadRegistry>,
        name: PackageName,
    ) -> Result<Option<Arc<Prepared>>, Problem> {
        let known = self.lock().histories.get(&name).cloned();
        // One look at a near file that is asked for again and again waits for no disk.
        if let Some((stamp, prepared)) = &known
            && registry.is_on_this_machine()
            && registry.history_stamp(&name)?.as_ref() == Some(stamp)
        {
            return Ok(Some(Arc::clone(prepared)));
        }
        let (stamp, before) = known.unzip();
        let (kept, wanted) = (Arc::clone(registry), name.clone());
        let read = move || match kept.history_since(&wanted, stamp.as_ref())? {
            Since::Missing => Ok::<_, Problem>(None),
            Since::Same => Ok(before.map(|before| (None, before))),
            Since::New(stamp, text) => Ok(Some((Some(stamp), Arc::new(Prepared::at_work(text))))),
        };
        let Some((stamp, prepared)) = blocking(read).await?? else { return Ok(None) };
        if let Some(stamp) = stamp {
            self.keep(name, stamp, &prepared);
        }
        Ok(Some(prepared))
    }

    fn keep(&self, name: PackageName, stamp: Stamp, prepared: &Arc<Prepared>) {
        let mut kept = self.lock();
        kept.bytes += prepared.plain.len();
        if kept.bytes > MAX_BYTES {
            *kept = Kept { bytes: prepared.plain.len(), ..Kept::default() };
        }
        if let Some((_, old)) = kept.histories.insert(name, (stamp, Arc::clone(prepared))) {
            kept.bytes -= old.plain.len().min(kept.bytes);
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Kept> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
