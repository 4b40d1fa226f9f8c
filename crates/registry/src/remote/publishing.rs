//! Publishing to a registry behind HTTP: files first, then what makes them a release.

use std::fs::File;
use std::io::{self, Seek, SeekFrom};

use bibliotax_core::card::FileRecord;
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::name::PackageName;
use bibliotax_disk::error::At;
use reqwest::blocking::Body;
use reqwest::header::{CONTENT_LENGTH, CONTENT_RANGE};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::Remote;
use super::client::is_let_in;
use crate::error::RegistryError;
use crate::publish::{Published, Release};
use crate::standing::Change;
use bibliotax_archive::pack;
use bibliotax_archive::select::PackFile;

impl Remote {
    /// Packs a release, uploads what the registry lacks of it, and asks to make it a release.
    pub fn publish(&self, release: Release) -> Result<Published, RegistryError> {
        self.has_to_be_open()?;
        let Release { mut card, parts, .. } = release;
        for (record, contents) in card.files.iter_mut().zip(&parts) {
            let packed = packed(contents, record)?;
            self.upload(record, &packed)?;
        }
        let files = card.files.clone();
        let already = self.post("releases", &json!(card))?;
        Ok(Published { files, already })
    }

    /// Changes how releases of a package stand; whether it was so already.
    pub fn change(&self, name: &PackageName, change: &Change) -> Result<bool, RegistryError> {
        self.has_to_be_open()?;
        match change {
            Change::Withdraw { version, reason } => {
                self.post("withdrawals", &json!({ "name": name, "version": version, "reason": reason }))
            }
            Change::Restore { version } => {
                self.post("restorations", &json!({ "name": name, "version": version }))
            }
            Change::Deprecate { range, reason, instead } => self.post(
                "deprecations",
                &json!({ "name": name, "range": range, "reason": reason, "instead": instead }),
            ),
        }
    }

    /// What would open the registry for publishing, and whether it does; `None` where there is nothing.
    pub fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        let Some(credential) = self.client.credential()? else { return Ok(None) };
        // A file that nobody has: who may not publish may not ask for it either.
        let path = self.api(&format!("files/{}", Digest::of(b"bibliotax")))?;
        let is_let_in = is_let_in(self.client.send(&Method::HEAD, &path, Ok))?;
        Ok(Some((credential.found_in.clone(), is_let_in)))
    }

    fn has_to_be_open(&self) -> Result<(), RegistryError> {
        match self.client.credential()? {
            Some(_) => Ok(()),
            None => Err(RegistryError::NoToken {
                registry: self.name.clone(),
                origin: self.client.origin().map(ToString::to_string).unwrap_or_default(),
            }),
        }
    }

    /// Asks for something to be done; whether it was so already.
    fn post(&self, what: &str, body: &Value) -> Result<bool, RegistryError> {
        let path = self.api(what)?;
        let response = self.client.send(&Method::POST, &path, |request| {
            Ok(request.header("content-type", "application/json").body(body.to_string()))
        })?;
        let answer = self.client.json(response)?;
        Ok(answer["already"].as_bool().unwrap_or(false))
    }

    /// Uploads a file unless it is there, going on where an earlier upload ended.
    fn upload(&self, record: &FileRecord, packed: &File) -> Result<(), RegistryError> {
        let path = self.api(&format!("files/{}", record.sha256))?;
        let whole = record.size;
        if self.missing_from(&path)?.is_none() {
            return Ok(());
        }
        self.client.send(&Method::PUT, &path, |request| {
            // Asked before each try: the last one may have brought part of it.
            let Some(from) = self.missing_from(&path)?.map(|from| if from < whole { from } else { 0 }) else {
                return Ok(request.header(CONTENT_LENGTH, whole).body(body_of(packed, 0, whole)?));
            };
            let request = match from {
                0 => request,
                from => request.header(CONTENT_RANGE, format!("bytes {from}-{}/{whole}", whole - 1)),
            };
            Ok(request.body(body_of(packed, from, whole)?))
        })?;
        Ok(())
    }

    /// From where on a file is missing; `None` if it is there.
    fn missing_from(&self, path: &str) -> Result<Option<u64>, RegistryError> {
        let response = self.client.send(&Method::HEAD, path, Ok)?;
        if response.status() != StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let offset =
            response.headers().get("upload-offset").and_then(|offset| offset.to_str().ok()?.parse().ok());
        Ok(Some(offset.unwrap_or(0)))
    }

    pub(super) fn api(&self, what: &str) -> Result<String, RegistryError> {
        let api = self.description.api.as_ref();
        let api = api.ok_or_else(|| RegistryError::OnlyFiles { registry: self.name.clone() })?;
        Ok(format!("{}/{what}", api.trim_matches('/')))
    }
}

/// Packs an archive into a file of no name, and notes its digest and size.
pub(crate) fn packed(contents: &[PackFile], record: &mut FileRecord) -> Result<File, RegistryError> {
    let staged = tempfile::tempfile().at("write in", std::env::temp_dir())?;
    let mut packed = pack::write_archive(contents, staged)?;
    (record.sha256, record.size) = measured(&mut packed)?;
    Ok(packed)
}

/// The bytes of a packed archive from some place on.
pub(crate) fn body_of(packed: &File, from: u64, whole: u64) -> Result<Body, RegistryError> {
    Ok(Body::sized(opened_at(packed, from)?, whole - from))
}

/// A packed archive, to be read from some place on.
pub(crate) fn opened_at(packed: &File, from: u64) -> Result<File, RegistryError> {
    let mut packed = packed.try_clone().at("read", "the packed archive")?;
    packed.seek(SeekFrom::Start(from)).at("read", "the packed archive")?;
    Ok(packed)
}

/// The digest and the size of a packed archive.
fn measured(packed: &mut File) -> Result<(Digest, u64), RegistryError> {
    packed.seek(SeekFrom::Start(0)).at("read", "the packed archive")?;
    let mut hasher = Hasher::default();
    let size = io::copy(packed, &mut hasher).at("read", "the packed archive")?;
    Ok((hasher.finish(), size))
}
