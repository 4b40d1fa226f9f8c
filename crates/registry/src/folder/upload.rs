//! Files that come in pieces into a folder: one half file for each, taken up where it ended.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, make_folder, sync_folder};

use super::Folder;
use crate::piece::{GIVEN_UP_AFTER, Piece, UploadProblem};

impl Folder {
    pub(super) fn half_size(&self, digest: &Digest) -> u64 {
        fs::metadata(self.half_path(digest)).map_or(0, |metadata| metadata.len())
    }

    /// Takes a piece in; nobody else can add to the file meanwhile.
    pub(super) fn add_piece(
        &self,
        digest: &Digest,
        piece: Piece,
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
        let place = self.file_path(digest);
        make_folder(folder_of(&place))?;
        fs::rename(path, &place).at("write", &place)?;
        Ok(sync_folder(folder_of(&place))?)
    }

    pub(super) fn clear_halves(&self) {
        let entries = fs::read_dir(self.root.join("private/incoming")).into_iter().flatten().flatten();
        for entry in entries {
            let modified = entry.metadata().and_then(|metadata| metadata.modified()).ok();
            let age = modified.and_then(|modified| SystemTime::now().duration_since(modified).ok());
            if age.is_some_and(|age| age > GIVEN_UP_AFTER) {
                // Whatever keeps it, it will be tried again.
                let _ = fs::remove_file(entry.path());
            }
        }
    }

    fn half_path(&self, digest: &Digest) -> PathBuf {
        self.root.join("private/incoming").join(format!("{digest}.part"))
    }
}

/// Opens a half file to go on at this place in it, or to begin anew.
fn open_at(path: &Path, from: u64) -> Result<File, UploadProblem> {
    make_folder(folder_of(path))?;
    let opened = OpenOptions::new().create(true).truncate(false).read(true).write(true).open(path);
    let mut file = opened.at("write", path)?;
    file.try_lock().map_err(|_| UploadProblem::Busy)?;
    let there = file.metadata().at("read", path)?.len();
    if from == 0 && there > 0 {
        // Begun anew by somebody who doesn't know of the first attempt.
        file.set_len(0).at("write", path)?;
    } else if from != there {
        return Err(UploadProblem::Gap { there });
    }
    file.seek(SeekFrom::Start(from)).at("write", path)?;
    Ok(file)
}
