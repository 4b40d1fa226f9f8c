//! The tokens of a registry, kept for a few seconds.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bibliotax_registry::storage::tokens::{self, Token};
use jiff::Timestamp;

use crate::problem::causes_of;
use crate::served::Served;

/// How long tokens that another machine keeps are not read again. A revoked token ends at most this much later.
const TOKEN_CACHE_TIME: Duration = Duration::from_secs(5);

/// The tokens of a registry, as they were when they were last read.
pub struct TokenCache(Mutex<KnownTokens>);

struct KnownTokens {
    tokens: Vec<Token>,
    since: Instant,
}

impl TokenCache {
    /// The tokens that a server begins with. What can't be read now is read again when a token comes.
    pub fn new(served: &Served) -> Self {
        let tokens = match served {
            Served::Writable(storage) => tokens::list(&**storage).unwrap_or_else(|error| {
                tracing::warn!(cause = causes_of(&error), "the tokens can't be read");
                Vec::new()
            }),
            Served::ReadOnly(_) => Vec::new(),
        };
        Self(Mutex::new(KnownTokens { tokens, since: Instant::now() }))
    }

    /// The token of this text, if it is one of these, and whether they were read just now.
    pub fn find(&self, text: &str) -> (Option<Token>, bool) {
        let known = self.known();
        let found = tokens::find(&known.tokens, text, Timestamp::now()).cloned();
        (found, known.since.elapsed() < TOKEN_CACHE_TIME)
    }

    /// Replaces them by those that were just read.
    pub fn replace(&self, tokens: Vec<Token>) {
        *self.known() = KnownTokens { tokens, since: Instant::now() };
    }

    fn known(&self) -> MutexGuard<'_, KnownTokens> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
