//! Publishes to a registry behind HTTP: files first, then the event.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::thread;
use std::time::{Duration, Instant};

use bibliotax_core::card::FileRecord;
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_disk::error::At;
use reqwest::blocking::RequestBuilder;
use reqwest::header::{CONTENT_LENGTH, CONTENT_RANGE};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::Remote;
use super::request_error::{RequestError, is_let_in};
use super::uploading::Watch;
use crate::model::error::RegistryError;
use crate::model::jitter::with_jitter;
use crate::model::partial_upload::UploadPiece;
use crate::model::release::{Published, Release};
use crate::model::release_status::Change;
use bibliotax_archive::pack;
use bibliotax_archive::select::PackFile;

/// How often in a row an upload may fail without any of it having arrived; twice where nothing is heard at all.
const MAX_FAILURES: u32 = 5;

/// The pieces of a file that come over a slow line, in bytes.
const MIN_PIECE_SIZE: u64 = 64 << 10;
const MAX_PIECE_SIZE: u64 = 16 << 20;

/// What is waited before an upload goes on, if the server says nothing else, doubled with each failure, and at most.
const RETRY_DELAY: Duration = Duration::from_millis(150);
const MAX_PAUSE: Duration = Duration::from_secs(20);

impl Remote {
    /// Packs a release, uploads what the registry lacks of it, and asks to make it a release.
    pub fn publish(
        &self,
        release: Release,
        listener: &dyn ProgressListener,
    ) -> Result<Published, RegistryError> {
        self.has_to_be_open()?;
        let Release { mut card, parts, .. } = release;
        for (record, contents) in card.files.iter_mut().zip(&parts) {
            let packed = packed(contents, record)?;
            self.upload(record, &packed, listener)?;
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
            Change::Undeprecate { range } => {
                self.post("undeprecations", &json!({ "name": name, "range": range }))
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
        let path = self.service(&format!("files/{}", Digest::of(b"bibliotax")))?;
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
        let path = self.service(what)?;
        let response = self.client.send(&Method::POST, &path, |request| {
            Ok(request.header("content-type", "application/json").body(body.to_string()))
        })?;
        let answer = self.client.json(response)?;
        Ok(answer["already"].as_bool().unwrap_or(false))
    }

    /// Uploads a file unless it is there, going on where an earlier upload ended. A line may be so slow that it looks silent:
    /// as long as more of the file arrives, it goes on, in pieces that such a line brings over in time.
    fn upload(
        &self,
        record: &FileRecord,
        packed: &File,
        listener: &dyn ProgressListener,
    ) -> Result<(), RegistryError> {
        let path = self.service(&format!("files/{}", record.sha256))?;
        let whole = record.size;
        let Some(mut from) = self.missing_from(&path, whole)? else { return Ok(()) };
        listener.on_event(&ProgressEvent::Uploading { bytes: whole - from });
        let (mut largest, mut failures, mut silence) = (whole.max(1), 0, self.client.silence());
        loop {
            let begun = Instant::now();
            let piece = UploadPiece { from, to: whole.min(from + largest), whole };
            let watch = Watch { silence, is_blind: false, listener };
            let Err(trouble) = self.upload_piece(&path, packed, piece, &watch) else {
                if piece.is_last() {
                    return Ok(());
                }
                (from, failures) = (piece.to, 0);
                continue;
            };
            if !trouble.is_passing {
                return Err(*trouble.error);
            }
            let there = self.missing_from(&path, whole)?;
            let Some(there) = there else { return Ok(()) };
            if there > from {
                (failures, silence) = (0, self.client.silence());
            } else {
                failures += if trouble.is_silence { MAX_FAILURES.div_ceil(2) } else { 1 };
                // Both together are as long as a server is waited for.
                silence = if trouble.is_silence { self.client.silence() / 2 } else { silence };
            }
            if failures >= MAX_FAILURES {
                return Err(*trouble.error);
            }
            if trouble.is_silence {
                largest = piece_for(there.saturating_sub(from), begun.elapsed());
            }
            let pause = trouble.wait.unwrap_or_else(|| with_jitter(RETRY_DELAY * 2_u32.pow(failures)));
            thread::sleep(pause.min(MAX_PAUSE));
            from = there;
        }
    }

    /// Uploads a piece of a file once.
    fn upload_piece(
        &self,
        path: &str,
        packed: &File,
        piece: UploadPiece,
        watch: &Watch<'_>,
    ) -> Result<(), RequestError> {
        let UploadPiece { from, to, whole } = piece;
        let length = to - from;
        let prepare = |request: RequestBuilder| {
            // The length of a file of nothing isn't said otherwise.
            let request = request.header(CONTENT_LENGTH, length);
            if length == whole {
                return request;
            }
            request.header(CONTENT_RANGE, format!("bytes {from}-{}/{whole}", to - 1))
        };
        let body = || Ok(opened_at(packed, from)?.take(length));
        self.client.upload_now(path, length, body, prepare, watch)
    }

    /// From where on a file of this length is missing; `None` if it is there.
    fn missing_from(&self, path: &str, whole: u64) -> Result<Option<u64>, RegistryError> {
        let with_length = |request: RequestBuilder| Ok(request.header("upload-length", whole));
        let response = self.client.send(&Method::HEAD, path, with_length)?;
        if response.status() != StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let offset =
            response.headers().get("upload-offset").and_then(|offset| offset.to_str().ok()?.parse().ok());
        Ok(Some(offset.filter(|from| *from < whole).unwrap_or(0)))
    }

    pub(super) fn service(&self, what: &str) -> Result<String, RegistryError> {
        let service = self.description.service.as_ref();
        let service = service.ok_or_else(|| RegistryError::OnlyFiles { registry: self.name.clone() })?;
        Ok(format!("{}/{what}", service.trim_matches('/')))
    }
}

/// Packs an archive into a file of no name, and notes its digest and size.
pub(crate) fn packed(contents: &[PackFile], record: &mut FileRecord) -> Result<File, RegistryError> {
    let staged = tempfile::tempfile().at("write in", std::env::temp_dir())?;
    let mut packed = pack::write_archive(contents, staged)?;
    (record.sha256, record.size) = measured(&mut packed)?;
    Ok(packed)
}

/// The size of a piece that a line brings over in a small part of the time that is waited, by what it brought just now.
fn piece_for(came: u64, within: Duration) -> u64 {
    let each_second = came * 1000 / u64::try_from(within.as_millis()).unwrap_or(u64::MAX).max(1);
    (each_second * 4).clamp(MIN_PIECE_SIZE, MAX_PIECE_SIZE)
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
