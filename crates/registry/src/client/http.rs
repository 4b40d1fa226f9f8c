//! A registry behind HTTP: histories through a cache with validators, files as they arrive.
//!
//! Nothing that comes is trusted: answers are bounded in size and time, files are checked by the code that
//! unpacks them against the digest of the lock or entry, redirects lead to no other scheme, and the token goes to the
//! registry's own host alone.

pub(crate) mod authentication;
pub(crate) mod cache;
mod cards;
pub(crate) mod client;
mod connection_error;
pub(crate) mod download;
mod min_rate;
mod prefetched;
pub(crate) mod publishing;
pub(crate) mod request_error;
mod retry;
mod search;
pub(crate) mod uploading;

use std::collections::BTreeMap;
use std::io::Read;
use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::history::History;
use bibliotax_core::manifest::Allowed;
use bibliotax_core::name::{FacetName, PackageName, RegistryName};
use reqwest::Url;

use self::cache::Cache;
pub use self::cards::Cards;
use self::client::{Answer, Client, Part};
pub use self::connection_error::out_of_time;
use self::download::Download;
use self::prefetched::PrefetchedHistories;
use crate::client::network::Network;
use crate::client::origin::Origin;
use crate::model::description::{DESCRIPTION, Description};
use crate::model::error::{Asked, RegistryError};
use crate::model::history_limits::MAX_HISTORY_SIZE;
use crate::model::layout::{file_path, history_path};
use crate::model::names::{NAMES, Named, read_lines};
use crate::model::private_hosts::{is_loopback, leads_inside};
use crate::model::storage::{MAX_CARD_SIZE, read_history};

/// What the cache has for the validator of something that is not there; no validator is without quotes.
const MISSING: &str = "missing";

/// Largest description that is read, in bytes.
const MAX_DESCRIPTION_SIZE: u64 = 4 << 20;

/// Largest list of names that is read, in bytes.
const MAX_LIST_SIZE: u64 = 1 << 30;

/// A registry behind HTTP.
#[derive(Clone)]
pub struct Remote {
    name: RegistryName,
    base: Url,
    client: Client,
    cache: Option<Cache>,
    cards: Option<Cards>,
    description: Arc<Description>,
    longest_list: u64,
    /// What was foreseen, and needs no question any more.
    prefetched: PrefetchedHistories,
}

/// Where a registry is, checked for what may not be.
pub fn checked_url(name: &RegistryName, url: &str, allow_plain: bool) -> Result<Url, RegistryError> {
    let slashed = if url.ends_with('/') { url.to_owned() } else { format!("{url}/") };
    let asked = Asked::Registry(name.clone());
    let base = checked(&asked, &slashed, allow_plain)?;
    if base.query().is_some() {
        return Err(RegistryError::Scheme { asked, url: url.to_owned() });
    }
    Ok(base)
}

/// A URL that may be asked: encrypted, unless it leads to this machine or that is allowed, and without a user in it.
pub(crate) fn checked(asked: &Asked, url: &str, allow_plain: bool) -> Result<Url, RegistryError> {
    let wrong = || RegistryError::Scheme { asked: asked.clone(), url: url.to_owned() };
    let base = Url::parse(url).map_err(|_| wrong())?;
    let is_clean = base.username().is_empty() && base.password().is_none();
    match base.scheme() {
        _ if !is_clean || base.host().is_none() => Err(wrong()),
        "https" => Ok(base),
        "http" if allow_plain || is_loopback(&base) => Ok(base),
        "http" => Err(RegistryError::PlainHttp { asked: asked.clone(), url: url.to_owned() }),
        _ => Err(wrong()),
    }
}

/// Whether the interface that a registry names is at its own host, or at one that the manifest allows: what is needed, and what is
/// published, goes there.
fn check_api(
    name: &RegistryName,
    base: &Url,
    description: &Description,
    allowed: &Allowed,
) -> Result<(), RegistryError> {
    let asked = || Asked::Registry(name.clone());
    let Some(service) = &description.service else { return Ok(()) };
    let url =
        base.join(service).map_err(|_| RegistryError::Scheme { asked: asked(), url: service.clone() })?;
    let (own, named) = (Origin::of(base), Origin::of(&url));
    let by_manifest = allowed.service.as_deref().and_then(|service| service.parse::<Origin>().ok());
    if named.is_some() && (named == own || named == by_manifest) {
        return Ok(());
    }
    let url = named.map_or_else(|| url.to_string(), |origin| origin.to_string());
    Err(RegistryError::OtherHost { asked: asked(), key: "service", url })
}

impl Remote {
    /// Opens the registry at a URL, which is asked for its description.
    pub fn open(
        name: &RegistryName,
        url: &str,
        allowed: &Allowed,
        network: &Network,
    ) -> Result<Self, RegistryError> {
        let base = checked_url(name, url, allowed.plain)?;
        let client = Client::new(Asked::Registry(name.clone()), base.clone(), network);
        let cache = network.cache.as_ref().map(|folder| Cache::of(folder, &base));
        let cards = network.cache.as_deref().map(Cards::of);
        let whose = PathBuf::from(url);
        let text = match read_file(&client, cache.as_ref(), DESCRIPTION, MAX_DESCRIPTION_SIZE) {
            Err(error @ RegistryError::Unreachable { .. }) if network.stale => {
                let kept = cache.as_ref().and_then(|cache| cache.read(DESCRIPTION));
                Some(kept.ok_or(error)?.text)
            }
            answer => answer?,
        };
        let text = text.ok_or_else(|| RegistryError::NoRegistry { path: whose.clone() })?;
        let description = Arc::new(Description::read(&text, &whose)?);
        check_api(name, &base, &description, allowed)?;
        let (name, prefetched) = (name.clone(), PrefetchedHistories::default());
        let longest_list = network.longest_list.unwrap_or(search::MAX_LIST_LEN);
        Ok(Self { name, base, client, cache, cards, description, longest_list, prefetched })
    }

    /// Whether it is at a place that only this machine or its network reaches.
    pub fn is_inside(&self) -> bool {
        leads_inside(&self.base)
    }

    /// The name that the registry gives itself.
    pub fn name(&self) -> &str {
        &self.description.name
    }

    /// The facets that the registry defines.
    pub fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.description.facets
    }

    /// The history of a package; `None` if the registry doesn't hold the name.
    pub fn history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        let Some(text) = self.current_text(package)? else { return Ok(None) };
        read_history(package, &text, None, || self.place_of(package)).map(Some)
    }

    /// The whole lines of a package's history, as they were asked for a moment ago or are now; `None` if the registry doesn't
    /// hold the name.
    pub fn current_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        match self.prefetched.get(package) {
            Some(text) => Ok(Some(text)),
            None => self.history_text(package),
        }
    }

    /// Where the history of a package is, for messages.
    pub fn place_of(&self, package: &PackageName) -> PathBuf {
        PathBuf::from(self.base.as_str()).join(history_path(package))
    }

    /// The whole lines of a package's history, asked for now; `None` if the registry doesn't hold the name.
    pub fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        read_file(&self.client, self.cache.as_ref(), &history_path(package), MAX_HISTORY_SIZE as u64)
    }

    /// What the registry's list says of each package.
    pub fn listed_names(&self) -> Result<BTreeMap<PackageName, Named>, RegistryError> {
        let packed = self.client.bytes(NAMES, MAX_LIST_SIZE)?;
        let packed = packed.ok_or_else(|| RegistryError::NoList { registry: self.name.to_string() })?;
        let mut names = BTreeMap::new();
        read_lines(&packed, |named| {
            names.insert(named.name.clone(), named);
        });
        Ok(names)
    }

    /// Opens an archive. What is read of it is not checked here, but for its length; a connection that breaks is taken up
    /// again where it broke.
    pub fn open_archive(&self, archive: &Archive, from: u64) -> Result<Box<dyn Read + Send>, RegistryError> {
        let path = file_path(&archive.sha256);
        Ok(Box::new(Download::open(self.client.clone(), path, archive.size, from)?))
    }

    /// Opens an archive or card, with its length where that is said; `None` if it is not there.
    pub fn open_file(
        &self,
        digest: &Digest,
    ) -> Result<Option<(Option<u64>, impl Read + Send + use<>)>, RegistryError> {
        let opened = Download::open_any(self.client.clone(), file_path(digest))?;
        Ok(opened.map(|download| (download.length(), download)))
    }

    /// The list of names from a byte on, or from its beginning where it is not that long, with where it begins; `None` if
    /// there is none.
    pub fn names_from(&self, from: u64) -> Result<Option<(u64, impl Read + Send + use<>)>, RegistryError> {
        let part = self.client.part(NAMES, from)?;
        Ok(part.map(|Part { from, body, .. }| (from, body.take(MAX_LIST_SIZE))))
    }

    /// A package's history as it was in the last answer, however old; `None` if it never was.
    pub fn kept_history(&self, package: &PackageName) -> Option<Option<String>> {
        let kept = self.cache.as_ref()?.read(&history_path(package))?;
        Some((kept.tag != MISSING).then_some(kept.text))
    }

    /// Where it is.
    pub fn url(&self) -> String {
        self.base.to_string()
    }

    /// That an answer of it broke off.
    pub fn broke_off(&self) -> RegistryError {
        self.client.broke_off("its answer broke off")
    }

    /// That a file of it is not what its name says.
    pub fn wrong_file(&self, digest: &Digest) -> RegistryError {
        self.client.wrong(&format!("the file {digest} doesn't match its digest"))
    }

    /// The text of a card.
    pub fn card_text(&self, digest: &Digest) -> Result<String, RegistryError> {
        if let Some(text) = self.cards.as_ref().and_then(|cards| cards.read(digest)) {
            return Ok(text);
        }
        match self.client.get(&file_path(digest), None, MAX_CARD_SIZE)? {
            Answer::Found { content: text, .. } => {
                self.cards.iter().for_each(|cards| cards.keep(digest, &text));
                Ok(text)
            }
            Answer::Missing | Answer::Same => {
                Err(RegistryError::NoFile { digest: *digest, path: PathBuf::from(self.base.as_str()) })
            }
        }
    }
}

/// A text of a registry of our own kind: from the cache if the registry says that it is as it was.
fn read_file(
    client: &Client,
    cache: Option<&Cache>,
    path: &str,
    limit: u64,
) -> Result<Option<String>, RegistryError> {
    read_through(client, cache, path, |tag| client.get(path, tag, limit))
}

/// A text that `ask` asks for, if it is not the one with this validator: from the cache if the registry says that it is as it
/// was.
pub(crate) fn read_through(
    client: &Client,
    cache: Option<&Cache>,
    path: &str,
    ask: impl FnOnce(Option<&str>) -> Result<Answer, RegistryError>,
) -> Result<Option<String>, RegistryError> {
    let kept = cache.and_then(|cache| cache.read(path));
    let is_missing = kept.as_ref().is_some_and(|kept| kept.tag == MISSING);
    if client.is_offline() {
        return match kept {
            Some(kept) => Ok((!is_missing).then_some(kept.text)),
            None => Err(client.offline(path)),
        };
    }
    let tag = kept.as_ref().map(|kept| kept.tag.as_str()).filter(|_| !is_missing);
    match ask(tag)? {
        Answer::Same => Ok(kept.map(|kept| kept.text)),
        Answer::Missing => {
            if let Some(cache) = cache.filter(|_| !is_missing) {
                cache.keep(path, MISSING, "");
            }
            Ok(None)
        }
        Answer::Found { content: text, tag } => {
            if let (Some(cache), Some(tag)) = (cache, tag) {
                cache.keep(path, &tag, &text);
            }
            Ok(Some(text))
        }
    }
}
