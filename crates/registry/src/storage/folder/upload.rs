//! Uploads in pieces to a folder: one partial file each, continued where it ended.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, make_folder, open_to_change, sync_folder};

use super::Folder;
use crate::model::error::RegistryError;
use crate::model::partial_upload::{UploadPiece, UploadProblem};
use crate::model::storage::pending::Pending;

/// Where whole files that wait for their release are marked, each by an empty file of its digest.
const MARKS: &str = "private/uploaded";

impl Folder {
    pub(super) fn half_size(&self, digest: &Digest) -> u64 {
        fs::metadata(self.half_path(digest)).map_or(0, |metadata| metadata.len())
    }

    /// Takes a piece in; nobody else can add to the file meanwhile.
    pub(super) fn add_piece(
        &self,
        digest: &Digest,
        piece: UploadPiece,
        source: &mut dyn Read,
    ) -> Result<(), UploadProblem> {
        let path = self.half_path(digest);
        let mut file = open_at(&path, piece.from)?;
        piece.copy(source, &mut file)?;
        if piece.is_last() { self.keep_whole(digest, &path, file) } else { Ok(()) }
    }

    /// Keeps a file whose last piece has come. One whose bytes are wrong is thrown away.
    fn keep_whole(&self, digest: &Digest, path: &Path, mut file: File) -> Result<(), UploadProblem> {
        file.seek(SeekFrom::Start(0)).at("read", path)?;
        let mut hasher = Hasher::default();
        io::copy(&mut file, &mut hasher).at("read", path)?;
        let found = hasher.finish();
        if found != *digest {
            fs::remove_file(path).at("remove", path)?;
            return Err(UploadProblem::WrongDigest { found });
        }
        file.sync_all().at("write", path)?;
        let (place, mark) = (self.file_path(digest), self.mark_path(digest));
        let is_released = place.exists() && !mark.exists();
        if is_released {
            // A release has come with it meanwhile.
            return Ok(fs::remove_file(path).at("remove", path)?);
        }
        self.set_mark(digest)?;
        make_folder(folder_of(&place))?;
        fs::rename(path, &place).at("write", &place)?;
        Ok(sync_folder(folder_of(&place))?)
    }

    /// The halves of files.
    pub(super) fn halves(&self) -> impl Iterator<Item = Pending> {
        entries(self.root.join("private/incoming")).filter_map(|entry| {
            let digest = entry.file_name().to_str()?.strip_suffix(".part")?.parse().ok()?;
            let metadata = entry.metadata().ok()?;
            Some(Pending { digest, bytes: metadata.len(), since: metadata.modified().ok()?, is_whole: false })
        })
    }

    /// The whole files that were uploaded and wait for their release.
    pub(super) fn marks(&self) -> impl Iterator<Item = Pending> {
        let marks = entries(self.root.join(MARKS));
        marks.filter_map(|entry| self.mark_of(&entry.file_name().to_str()?.parse().ok()?))
    }

    pub(super) fn mark_of(&self, digest: &Digest) -> Option<Pending> {
        let since = fs::metadata(self.mark_path(digest)).and_then(|mark| mark.modified()).ok()?;
        let bytes = fs::metadata(self.file_path(digest)).map_or(0, |file| file.len());
        Some(Pending { digest: *digest, bytes, since, is_whole: true })
    }

    /// Forgets an upload, and a whole file itself where that is asked.
    pub(super) fn forget(&self, pending: &Pending, with_file: bool) -> Result<(), RegistryError> {
        let digest = &pending.digest;
        if !pending.is_whole {
            return remove(&self.half_path(digest));
        }
        if with_file {
            remove(&self.file_path(digest))?;
        }
        remove(&self.mark_path(digest))
    }

    pub(super) fn set_mark(&self, digest: &Digest) -> Result<(), RegistryError> {
        let mark = self.mark_path(digest);
        make_folder(folder_of(&mark))?;
        let marked = File::create(&mark).and_then(|file| file.set_modified(SystemTime::now()));
        Ok(marked.at("write", &mark)?)
    }

    fn mark_path(&self, digest: &Digest) -> PathBuf {
        self.root.join(MARKS).join(digest.to_string())
    }

    fn half_path(&self, digest: &Digest) -> PathBuf {
        self.root.join("private/incoming").join(format!("{digest}.part"))
    }
}

fn entries(folder: PathBuf) -> impl Iterator<Item = fs::DirEntry> {
    fs::read_dir(folder).into_iter().flatten().flatten()
}

fn remove(path: &Path) -> Result<(), RegistryError> {
    Ok(bibliotax_disk::tree::remove(path)?)
}

/// Opens a half file to go on at this place in it, or to start over.
fn open_at(path: &Path, from: u64) -> Result<File, UploadProblem> {
    make_folder(folder_of(path))?;
    let mut file = open_to_change(path)?;
    file.try_lock().map_err(|_| UploadProblem::Busy)?;
    let there = file.metadata().at("read", path)?.len();
    if from == 0 && there > 0 {
        // Started over by somebody who doesn't know of the first attempt.
        file.set_len(0).at("write", path)?;
    } else if from != there {
        return Err(UploadProblem::Gap { there });
    }
    file.seek(SeekFrom::Start(from)).at("write", path)?;
    Ok(file)
}
