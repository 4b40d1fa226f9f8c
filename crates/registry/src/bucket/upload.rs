//! Files that come in pieces into a bucket: each piece an object, so that another server can take the next one.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::time::SystemTime;

use bibliotax_core::digest::Digest;
use bibliotax_disk::error::At;

use super::Bucket;
use crate::error::RegistryError;
use crate::keep::Keep;
use crate::layout::file_path;
use crate::pending::Pending;
use crate::piece::{Piece, UploadProblem};

impl Bucket {
    /// The pieces of a file that follow each other from its beginning: first byte and the one behind the last.
    pub(super) fn pieces(&self, digest: &Digest) -> Result<Vec<(u64, u64)>, RegistryError> {
        let mut pieces: Vec<(u64, u64)> = Vec::new();
        for object in self.objects.below(&incoming(digest))? {
            let name = object.location.filename().unwrap_or_default();
            let piece =
                name.split_once('-').and_then(|(from, to)| Some((from.parse().ok()?, to.parse().ok()?)));
            pieces.extend(piece);
        }
        pieces.sort_unstable();
        let mut end = 0;
        pieces.retain(|(from, to)| {
            let follows = *from == end;
            end = if follows { *to } else { end };
            follows
        });
        Ok(pieces)
    }

    /// Takes a piece in; what came of one that broke off is kept, too.
    pub(super) fn add_piece(
        &self,
        digest: &Digest,
        piece: Piece,
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
            let name = format!("{}/{}-{}", incoming(digest), piece.from, piece.from + length);
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
        let mut staged = (self as &dyn Keep).stage()?;
        for (from, to) in before {
            let name = format!("{}/{from}-{to}", incoming(digest));
            let mut piece =
                self.objects.open_range(&name, 0..to - from)?.ok_or(UploadProblem::Gap { there: *from })?;
            io::copy(&mut piece, &mut staged).at("copy", self.place())?;
        }
        io::copy(last, &mut staged).at("copy", self.place())?;
        let found = staged.digest();
        let (is_there, mark) = ((self as &dyn Keep).has_file(digest)?, self.mark_of(digest)?);
        // With a file that is there and not marked a release has come meanwhile.
        if found == *digest && (!is_there || mark.is_some()) {
            self.set_mark(digest)?;
            self.keep(staged)?;
        }
        self.forget_pieces(digest)?;
        if found == *digest { Ok(()) } else { Err(UploadProblem::WrongDigest { found }) }
    }

    fn forget_pieces(&self, digest: &Digest) -> Result<(), RegistryError> {
        let pieces = self.objects.below(&incoming(digest))?;
        pieces.iter().try_for_each(|object| self.objects.remove(self.objects.inside(object)))
    }

    /// Uploads that no release has named: pieces of each file, and marks of whole ones.
    pub(super) fn all_pending(&self) -> Result<Vec<Pending>, RegistryError> {
        let mut halves: BTreeMap<Digest, Pending> = BTreeMap::new();
        for object in self.objects.below(INCOMING)? {
            let path = self.objects.inside(&object);
            let digest = path.strip_prefix(INCOMING).and_then(|path| path.split('/').nth(1)?.parse().ok());
            let Some(digest) = digest else { continue };
            let since: SystemTime = object.last_modified.into();
            let half = Pending { digest, bytes: 0, since, is_whole: false };
            let half = halves.entry(digest).or_insert(half);
            half.bytes += object.size;
            half.since = half.since.max(since);
        }
        let mut pending: Vec<Pending> = halves.into_values().collect();
        for object in self.objects.below(MARKS)? {
            let digest = object.location.filename().and_then(|name| name.parse().ok());
            let Some(digest) = digest else { continue };
            pending.push(self.marked_since(digest, object.last_modified.into())?);
        }
        Ok(pending)
    }

    pub(super) fn mark_of(&self, digest: &Digest) -> Result<Option<Pending>, RegistryError> {
        let Some(mark) = self.objects.look(&mark_path(digest))? else { return Ok(None) };
        self.marked_since(*digest, mark.last_modified.into()).map(Some)
    }

    fn marked_since(&self, digest: Digest, since: SystemTime) -> Result<Pending, RegistryError> {
        let bytes = self.file_size(&digest)?.unwrap_or(0);
        Ok(Pending { digest, bytes, since, is_whole: true })
    }

    pub(super) fn set_mark(&self, digest: &Digest) -> Result<(), RegistryError> {
        self.objects.write(&mark_path(digest), 0, &mut io::empty())
    }

    pub(super) fn forget(&self, pending: &Pending, with_file: bool) -> Result<(), RegistryError> {
        let digest = &pending.digest;
        if !pending.is_whole {
            return self.forget_pieces(digest);
        }
        if with_file {
            self.objects.remove(&file_path(digest))?;
        }
        self.objects.remove(&mark_path(digest))
    }
}

/// Where the pieces of half files are.
const INCOMING: &str = "private/incoming";

/// Where whole files that wait for their release are marked.
const MARKS: &str = "private/uploaded";

fn mark_path(digest: &Digest) -> String {
    format!("{MARKS}/{digest}")
}

fn incoming(digest: &Digest) -> String {
    format!("{INCOMING}/{digest}")
}
