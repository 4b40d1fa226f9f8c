//! The requests of the OCI Distribution Specification 1.1 that packages need.

use std::collections::BTreeSet;
use std::io::{Cursor, Read};

use bibliotax_core::digest::Digest;
use bibliotax_core::progress::{NoProgress, ProgressListener};
use reqwest::Method;
use reqwest::blocking::RequestBuilder;
use reqwest::header::{CONTENT_LENGTH, CONTENT_TYPE, LOCATION};
use serde::Deserialize;

use super::artifact::{Descriptor, EMPTY_TEXT, MANIFEST, Manifest, in_full};
use crate::client::http::cache::Cache;
use crate::client::http::client::{Answer, Client};
use crate::client::http::download::Download;
use crate::client::http::read_through;
use crate::client::http::request_error::RequestError;
use crate::client::http::uploading::Watch;
use crate::model::error::RegistryError;

/// Largest manifest that is read, in bytes; the specification wants registries to take those of 4 MiB.
const MAX_MANIFEST_SIZE: u64 = 4 << 20;

/// Largest page of a list that is read, in bytes.
const MAX_PAGE_SIZE: u64 = 16 << 20;

/// How many names are asked for at once.
const PAGE: usize = 1000;

/// Most pages of a list that are read.
const MAX_PAGES: usize = 10_000;

/// Asks one registry of containers.
#[derive(Clone)]
pub struct Distribution {
    client: Client,
    cache: Option<Cache>,
}

/// A page of a list: of repositories, or of tags.
#[derive(Deserialize)]
struct Page {
    #[serde(alias = "repositories")]
    tags: Option<Vec<String>>,
}

impl Distribution {
    pub fn new(client: Client, cache: Option<Cache>) -> Self {
        Self { client, cache }
    }

    pub fn client(&self) -> &Client {
        &self.client
    }

    /// What a tag names, asked for only if it changed; `None` if there is none.
    pub fn artifact(&self, repository: &str, tag: &str) -> Result<Option<Manifest>, RegistryError> {
        let path = manifest_path(repository, tag);
        let ask = |validator: Option<&str>| self.ask(&path, validator);
        read_through(&self.client, self.cache.as_ref(), &path, ask)?.map(|text| self.read(&text)).transpose()
    }

    /// What a tag names now, past the cache.
    pub fn artifact_now(&self, repository: &str, tag: &str) -> Result<Option<Manifest>, RegistryError> {
        let path = manifest_path(repository, tag);
        match self.ask(&path, None)? {
            Answer::Found { content: text, .. } => self.read(&text).map(Some),
            Answer::Missing | Answer::Same => Ok(None),
        }
    }

    fn ask(&self, path: &str, validator: Option<&str>) -> Result<Answer, RegistryError> {
        self.client.get_as(MANIFEST, path, validator, MAX_MANIFEST_SIZE)
    }

    fn read(&self, text: &str) -> Result<Manifest, RegistryError> {
        serde_json::from_str(text).map_err(|_| self.client.wrong("it has a manifest that can't be read"))
    }

    /// Makes a tag name this artifact, whose blobs have to be there.
    pub fn put_artifact(
        &self,
        repository: &str,
        tag: &str,
        manifest: &Manifest,
    ) -> Result<(), RegistryError> {
        // Texts and lists: nothing that could fail to be JSON.
        let text = serde_json::to_string(manifest).unwrap_or_default();
        let path = manifest_path(repository, tag);
        self.client.trying(|| {
            let with =
                |request: RequestBuilder| Ok(request.header(CONTENT_TYPE, MANIFEST).body(text.clone()));
            match self.client.send_now(&Method::PUT, &path, with) {
                // Where somebody else just puts the very same, a registry may see half of it and blame us.
                Err(RequestError { error, .. })
                    if matches!(*error, RegistryError::Refused { status: 400, .. }) =>
                {
                    Err(RequestError::transient(*error, None))
                }
                sent => sent.map(drop),
            }
        })
    }

    /// Makes a tag name an artifact that is a text, and puts its blobs.
    pub fn put_text_artifact(
        &self,
        repository: &str,
        tag: &str,
        kind: &str,
        text: &str,
    ) -> Result<(), RegistryError> {
        self.put_text(repository, text)?;
        self.put_text(repository, EMPTY_TEXT)?;
        self.put_artifact(repository, tag, &Manifest::of_text(kind, text))
    }

    /// A blob that is a text, checked, of at most `limit` bytes; from its manifest where that holds it.
    pub fn text(&self, repository: &str, blob: &Descriptor, limit: u64) -> Result<String, RegistryError> {
        if let Some(text) = blob.held() {
            return Ok(text);
        }
        let digest = blob.digest().ok_or_else(|| self.client.wrong("it has a digest of an unknown kind"))?;
        let text = self.text_of(repository, &digest, limit)?;
        let text = text.filter(|text| Digest::of(text.as_bytes()) == digest);
        text.ok_or_else(|| self.client.wrong(&format!("its file {digest} doesn't match the digest")))
    }

    /// The blob of this digest as a text, yet to be checked; `None` if it is not there.
    pub fn text_of(
        &self,
        repository: &str,
        digest: &Digest,
        limit: u64,
    ) -> Result<Option<String>, RegistryError> {
        match self.client.get(&blob_path(repository, digest), None, limit)? {
            Answer::Found { content: text, .. } => Ok(Some(text)),
            Answer::Missing | Answer::Same => Ok(None),
        }
    }

    /// Opens a blob of this length from a byte on; its bytes are yet to be checked.
    pub fn open(
        &self,
        repository: &str,
        digest: &Digest,
        size: u64,
        from: u64,
    ) -> Result<Box<dyn Read + Send>, RegistryError> {
        Ok(Box::new(Download::open(self.client.clone(), blob_path(repository, digest), size, from)?))
    }

    /// Uploads a blob in one piece, unless it is there; `body` opens its bytes, for each try again.
    pub fn put_blob<R: Read + Send + 'static>(
        &self,
        repository: &str,
        digest: &Digest,
        size: u64,
        body: impl Fn() -> Result<R, RegistryError>,
        listener: &dyn ProgressListener,
    ) -> Result<(), RegistryError> {
        let watch = Watch { silence: self.client.silence(), is_blind: true, listener };
        let (blob, uploads) = (blob_path(repository, digest), format!("{repository}/blobs/uploads/"));
        // What came of an upload that failed is unknown: each try begins a new one.
        self.client.trying(|| {
            if self.client.send_now(&Method::HEAD, &blob, Ok)?.status().is_success() {
                return Ok(());
            }
            let begun = self.client.send_now(&Method::POST, &uploads, |request| Ok(request.body("")))?;
            let place = begun.headers().get(LOCATION).and_then(|place| place.to_str().ok());
            let place = place.ok_or_else(|| self.client.wrong("it doesn't say where to upload"))?;
            let joint = if place.contains('?') { '&' } else { '?' };
            let place = format!("{place}{joint}digest={}", in_full(digest));
            let prepare = |request: RequestBuilder| {
                request.header(CONTENT_TYPE, "application/octet-stream").header(CONTENT_LENGTH, size)
            };
            self.client.upload_now(&place, size, &body, prepare, &watch)
        })
    }

    /// Uploads a text, unless it is there.
    pub fn put_text(&self, repository: &str, text: &str) -> Result<(), RegistryError> {
        let digest = Digest::of(text.as_bytes());
        let body = || Ok(Cursor::new(text.to_owned()));
        self.put_blob(repository, &digest, text.len() as u64, body, &NoProgress)
    }

    /// The tags of a repository; none if it is not there.
    pub fn tags(&self, repository: &str) -> Result<BTreeSet<String>, RegistryError> {
        Ok(self.list(&format!("{repository}/tags/list?n={PAGE}"))?.unwrap_or_default())
    }

    /// All repositories; `None` where they are not listed.
    pub fn repositories(&self) -> Result<Option<BTreeSet<String>>, RegistryError> {
        match self.list(&format!("_catalog?n={PAGE}")) {
            Err(RegistryError::Refused { status: 401 | 403 | 405, .. }) => Ok(None),
            listed => listed,
        }
    }

    /// All pages of a list; `None` if it is not there.
    fn list(&self, first: &str) -> Result<Option<BTreeSet<String>>, RegistryError> {
        let (mut all, mut next) = (BTreeSet::new(), Some(first.to_owned()));
        let mut read = BTreeSet::new();
        while read.len() < MAX_PAGES {
            let Some(path) = next else { return Ok(Some(all)) };
            if !read.insert(path.clone()) {
                break;
            }
            let Some((text, link)) = self.client.page(&path, MAX_PAGE_SIZE)? else { return Ok(None) };
            let page: Page = serde_json::from_str(&text)
                .map_err(|_| self.client.wrong("it has a list that can't be read"))?;
            all.extend(page.tags.unwrap_or_default());
            next = link.as_deref().and_then(following);
        }
        Err(self.client.wrong("its list has no end"))
    }
}

fn manifest_path(repository: &str, tag: &str) -> String {
    format!("{repository}/manifests/{tag}")
}

fn blob_path(repository: &str, digest: &Digest) -> String {
    format!("{repository}/blobs/{}", in_full(digest))
}

/// The page that a link (RFC 8288) says comes next.
fn following(link: &str) -> Option<String> {
    let (_, rest) = link.split_once('<')?;
    let (target, said) = rest.split_once('>')?;
    said.replace(' ', "").contains("rel=\"next\"").then(|| target.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_next_page_is_where_its_link_leads() {
        let next = following("</v2/_catalog?last=moss%2Fmap&n=2>; rel=\"next\"");
        assert_eq!(next.as_deref(), Some("/v2/_catalog?last=moss%2Fmap&n=2"));
        assert_eq!(following("<https://garden.example/v2/>; rel=\"prev\""), None);
        assert_eq!(following("rel=\"next\""), None);
    }
}
