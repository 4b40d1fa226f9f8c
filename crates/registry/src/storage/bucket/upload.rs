//! Uploads in pieces to a bucket: each piece is an object, so another server can take the next one.
//!
//! Below `private/uploads/DIGEST` are the pieces (`FROM-TO`) and, once all of it is a file, the mark that no release names it yet
//! (`whole-SIZE`).

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, SystemTime};

use bibliotax_core::digest::Digest;
use bibliotax_disk::error::At;
use object_store::ObjectMeta;

use super::Bucket;
use super::objects::Objects;
use crate::model::error::RegistryError;
use crate::model::layout::file_path;
use crate::model::mutex::lock;
use crate::model::partial_upload::{MAX_SINGLE_UPLOAD, UploadPiece, UploadProblem};
use crate::model::storage::pending::{FileStatus, Pending};
use crate::model::storage::{ReadRegistry, WriteRegistry, WriteRegistryExt};

/// Where the pieces of half files, and the marks of whole ones, are.
const UPLOADS: &str = "private/uploads";

/// How the name of a mark begins.
const WHOLE_PREFIX: &str = "whole-";

/// How long marks that are of no use wait for others that go with them.
const BATCH_TIME: Duration = Duration::from_millis(500);

impl Bucket {
    /// The pieces of a file that follow each other from its beginning: first byte and the one behind the last.
    pub(super) fn pieces(&self, digest: &Digest) -> Result<Vec<(u64, u64)>, RegistryError> {
        Ok(pieces_of(&self.objects.below(&uploads_of(digest))?))
    }

    /// How a file stands. Of one that is missing and short no pieces are looked for.
    pub(super) fn standing(&self, digest: &Digest, length: Option<u64>) -> Result<FileStatus, RegistryError> {
        let (path, uploads) = (file_path(digest), uploads_of(digest));
        let is_short = length.is_some_and(|length| length <= MAX_SINGLE_UPLOAD);
        let (found, listed) = if is_short {
            let found = self.objects.look(&path)?;
            let listed = if found.is_some() { self.objects.below(&uploads)? } else { Vec::new() };
            (found, listed)
        } else {
            self.objects.look_and_below(&path, &uploads)?
        };
        let is_there = found.is_some();
        let mark = listed.iter().find_map(|object| self.mark_in(object)).filter(|_| is_there);
        let came = pieces_of(&listed).last().map_or(0, |(_, to)| *to);
        if is_there || !listed.is_empty() {
            self.recent.forget_missing(digest);
        } else {
            self.recent.put_missing(*digest);
        }
        Ok(FileStatus { is_there, mark, came: if is_there { 0 } else { came } })
    }

    /// How a file stood a moment ago, as far as that is known.
    pub(super) fn standing_a_moment_ago(&self, digest: &Digest) -> Result<FileStatus, RegistryError> {
        if self.recent.is_missing(digest) {
            return Ok(FileStatus { is_there: false, mark: None, came: 0 });
        }
        match (self.recent.file(digest), self.recent.mark(digest)) {
            (Some(_), mark @ Some(_)) => Ok(FileStatus { is_there: true, mark, came: 0 }),
            _ => self.standing(digest, None),
        }
    }

    /// Takes a piece in; what came of one that broke off is kept, too.
    pub(super) fn add_piece(
        &self,
        digest: &Digest,
        piece: UploadPiece,
        source: &mut dyn Read,
    ) -> Result<(), UploadProblem> {
        let before = if piece.from == 0 { Vec::new() } else { self.pieces(digest)? };
        let there = before.last().map_or(0, |(_, to)| *to);
        if piece.from != there {
            return Err(UploadProblem::Gap { there });
        }
        let mut came = tempfile::tempfile_in(self.scratch()?).at("write in", self.scratch()?)?;
        let copied = piece.copy(source, &mut came);
        let length = came.metadata().at("read", self.scratch()?)?.len().min(piece.to - piece.from);
        came.seek(SeekFrom::Start(0)).at("read", self.scratch()?)?;
        if copied.is_ok() && piece.is_last() {
            return self.keep_whole(digest, &before, &mut came);
        }
        if length > 0 && !matches!(copied, Err(UploadProblem::Length { came, announced }) if came > announced)
        {
            if piece.from == 0 {
                self.forget_pieces(digest)?;
            }
            self.recent.forget_missing(digest);
            let name = format!("{}/{}-{}", uploads_of(digest), piece.from, piece.from + length);
            self.objects.write(&name, length, &mut came)?;
        }
        copied
    }

    /// Keeps a file whose last piece has come. One whose bytes are wrong is thrown away.
    fn keep_whole(
        &self,
        digest: &Digest,
        before: &[(u64, u64)],
        last: &mut dyn Read,
    ) -> Result<(), UploadProblem> {
        let mut staged = self.stage()?;
        for (from, to) in before {
            let name = format!("{}/{from}-{to}", uploads_of(digest));
            let mut piece =
                self.objects.open_range(&name, 0..to - from)?.ok_or(UploadProblem::Gap { there: *from })?;
            io::copy(&mut piece, &mut staged).at("copy", self.place())?;
        }
        io::copy(last, &mut staged).at("copy", self.place())?;
        let found = staged.digest();
        let has_no_pieces = before.is_empty() && self.recent.is_missing(digest);
        let standing = self.standing_a_moment_ago(digest)?;
        // With a file that is there and not marked a release has come meanwhile.
        if found == *digest && (!standing.is_there || standing.mark.is_some()) {
            self.set_mark(digest, staged.size())?;
            self.keep(staged)?;
        }
        if !has_no_pieces {
            self.forget_pieces(digest)?;
        }
        if found == *digest { Ok(()) } else { Err(UploadProblem::WrongDigest { found }) }
    }

    fn forget_pieces(&self, digest: &Digest) -> Result<(), RegistryError> {
        let mut objects = self.objects.below(&uploads_of(digest))?;
        objects.retain(|object| self.mark_in(object).is_none());
        self.remove_all(&objects)
    }

    fn remove_all(&self, objects: &[ObjectMeta]) -> Result<(), RegistryError> {
        let paths: Vec<String> =
            objects.iter().map(|object| self.objects.inside(object).to_owned()).collect();
        self.objects.remove_all(&paths)
    }

    /// Uploads that no release has named: pieces of each file, and marks of whole ones.
    pub(super) fn all_pending(&self) -> Result<Vec<Pending>, RegistryError> {
        let mut halves: BTreeMap<Digest, Pending> = BTreeMap::new();
        let mut pending = Vec::new();
        for object in self.objects.below(UPLOADS)? {
            if let Some(whole) = self.mark_in(&object) {
                if !self.old_marks.has(self.objects.inside(&object)) {
                    pending.push(whole);
                }
                continue;
            }
            let Some(digest) = self.digest_in(&object) else { continue };
            let since: SystemTime = object.last_modified.into();
            let half = Pending { digest, bytes: 0, since, is_whole: false };
            let half = halves.entry(digest).or_insert(half);
            half.bytes += object.size;
            half.since = half.since.max(since);
        }
        pending.extend(halves.into_values());
        Ok(pending)
    }

    /// How many bytes waited for their release a moment ago, or do now.
    pub(super) fn bytes_that_wait(&self) -> Result<u64, RegistryError> {
        if let Some(known) = self.recent.waiting() {
            return Ok(known);
        }
        let bytes = self.all_pending()?.iter().map(|pending| pending.bytes).sum();
        self.recent.put_waiting(bytes);
        Ok(bytes)
    }

    /// The file that an object below the uploads is about.
    fn digest_in(&self, object: &ObjectMeta) -> Option<Digest> {
        let path = self.objects.inside(object).strip_prefix(UPLOADS)?;
        path.trim_start_matches('/').split('/').next()?.parse().ok()
    }

    /// The upload of a whole file that an object marks.
    fn mark_in(&self, object: &ObjectMeta) -> Option<Pending> {
        let bytes = object.location.filename()?.strip_prefix(WHOLE_PREFIX)?.parse().ok()?;
        let (digest, since) = (self.digest_in(object)?, object.last_modified.into());
        Some(Pending { digest, bytes, since, is_whole: true })
    }

    pub(super) fn mark_of(&self, digest: &Digest) -> Result<Option<Pending>, RegistryError> {
        if let Some(known) = self.recent.mark(digest) {
            return Ok(Some(known));
        }
        let listed = self.objects.below(&uploads_of(digest))?;
        Ok(listed.iter().find_map(|object| self.mark_in(object)))
    }

    pub(super) fn set_mark(&self, digest: &Digest, bytes: u64) -> Result<(), RegistryError> {
        let path = mark_path(digest, bytes);
        self.old_marks.keep(&path);
        self.objects.write(&path, 0, &mut io::empty())?;
        self.recent.put_mark(Pending { digest: *digest, bytes, since: SystemTime::now(), is_whole: true });
        Ok(())
    }

    pub(super) fn forget(&self, pending: &Pending, with_file: bool) -> Result<(), RegistryError> {
        let digest = &pending.digest;
        if !pending.is_whole {
            return self.forget_pieces(digest);
        }
        self.recent.forget_mark(digest);
        if with_file {
            self.recent.forget_file(digest);
            self.objects.remove(&file_path(digest))?;
            return self.objects.remove(&mark_path(digest, pending.bytes));
        }
        self.old_marks.remove(mark_path(digest, pending.bytes));
        Ok(())
    }
}

/// The pieces among objects that follow each other from the beginning of a file.
fn pieces_of(objects: &[ObjectMeta]) -> Vec<(u64, u64)> {
    let piece = |object: &ObjectMeta| {
        let (from, to) = object.location.filename()?.split_once('-')?;
        Some((from.parse().ok()?, to.parse().ok()?))
    };
    let mut pieces: Vec<(u64, u64)> = objects.iter().filter_map(piece).collect();
    pieces.sort_unstable();
    let mut end = 0;
    pieces.retain(|(from, to)| {
        let follows = *from == end;
        end = if follows { *to } else { end };
        follows
    });
    pieces
}

fn mark_path(digest: &Digest, size: u64) -> String {
    format!("{}/{WHOLE_PREFIX}{size}", uploads_of(digest))
}

fn uploads_of(digest: &Digest) -> String {
    format!("{UPLOADS}/{digest}")
}

/// Marks of files that releases name by now. They go several at a time, a moment later: a mark that stays does no harm.
pub struct OldMarks {
    objects: Objects,
    paths: Arc<Mutex<Vec<String>>>,
}

impl OldMarks {
    /// None yet.
    pub fn of(objects: Objects) -> Self {
        Self { objects, paths: Arc::default() }
    }

    fn has(&self, path: &str) -> bool {
        lock(&self.paths).iter().any(|known| known == path)
    }

    /// A mark that is set again stays.
    fn keep(&self, path: &str) {
        lock(&self.paths).retain(|known| known != path);
    }

    fn remove(&self, path: String) {
        let is_first = {
            let mut paths = lock(&self.paths);
            paths.push(path);
            paths.len() == 1
        };
        if is_first {
            let (objects, paths) = (self.objects.clone(), Arc::clone(&self.paths));
            thread::spawn(move || {
                thread::sleep(BATCH_TIME);
                remove_marks(&objects, &paths);
            });
        }
    }
}

impl Drop for OldMarks {
    fn drop(&mut self) {
        remove_marks(&self.objects, &self.paths);
    }
}

fn remove_marks(objects: &Objects, paths: &Mutex<Vec<String>>) {
    let paths = std::mem::take(&mut *lock(paths));
    if !paths.is_empty() {
        // What stays goes with what is cleared now and then.
        let _ = objects.remove_all(&paths);
    }
}
