//! Files that come in pieces: what is there already is kept, so an upload that broke off goes on where it ended.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::time::{Duration, SystemTime};

use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, make_folder, sync_folder};

use super::Folder;
use crate::error::RegistryError;

/// After this time without a new piece an upload is given up.
const GIVEN_UP_AFTER: Duration = Duration::from_secs(24 * 60 * 60);

/// A file on its way into a registry, piece by piece; nobody else can add to it meanwhile.
#[derive(Debug)]
pub struct Upload {
    file: File,
    path: PathBuf,
    digest: Digest,
}

/// Why an upload can't go on.
#[derive(Debug, thiserror::Error)]
pub enum UploadProblem {
    /// Somebody else is uploading the same file.
    #[error("another upload of this file is going on")]
    Busy,
    /// A piece doesn't begin where the last one ended.
    #[error("{there} bytes of the file are here, and the piece doesn't begin there")]
    Gap {
        /** The bytes that are here. */
        there: u64,
    },
    /// The bytes are not those of the digest.
    #[error("the bytes have the digest {found}, and not the one that they were to have")]
    WrongDigest {
        /** What they have. */
        found: Digest,
    },
    /// A disk refused.
    #[error(transparent)]
    Registry(#[from] RegistryError),
}

impl From<DiskError> for UploadProblem {
    fn from(error: DiskError) -> Self {
        Self::Registry(error.into())
    }
}

impl Folder {
    /// How many bytes of a file have come in pieces; none where no upload was begun.
    pub fn uploaded(&self, digest: &Digest) -> u64 {
        fs::metadata(self.part_path(digest)).map_or(0, |metadata| metadata.len())
    }

    /// Goes on with an upload, or begins one, at this place in the file.
    pub fn upload(&self, digest: Digest, from: u64) -> Result<Upload, UploadProblem> {
        let path = self.part_path(&digest);
        make_folder(folder_of(&path))?;
        let opened = OpenOptions::new().create(true).truncate(false).read(true).write(true).open(&path);
        let mut file = opened.at("write", &path)?;
        file.try_lock().map_err(|_| UploadProblem::Busy)?;
        let there = file.metadata().at("read", &path)?.len();
        if from == 0 && there > 0 {
            // Begun anew by somebody who doesn't know of the first attempt.
            file.set_len(0).at("write", &path)?;
        } else if from != there {
            return Err(UploadProblem::Gap { there });
        }
        file.seek(SeekFrom::Start(from)).at("write", &path)?;
        Ok(Upload { file, path, digest })
    }

    /// Keeps a file whose last piece has come; its size. One whose bytes are wrong is thrown away.
    pub fn finish_upload(&self, mut upload: Upload) -> Result<u64, UploadProblem> {
        let Upload { file, path, digest } = &mut upload;
        file.seek(SeekFrom::Start(0)).at("read", &*path)?;
        let mut hasher = Hasher::default();
        let size = io::copy(file, &mut hasher).at("read", &*path)?;
        let found = hasher.finish();
        if found != *digest {
            fs::remove_file(&*path).at("remove", &*path)?;
            return Err(UploadProblem::WrongDigest { found });
        }
        file.sync_all().at("write", &*path)?;
        let place = self.file_path(digest);
        make_folder(folder_of(&place))?;
        fs::rename(&*path, &place).at("write", &place)?;
        sync_folder(folder_of(&place))?;
        Ok(size)
    }

    /// Throws uploads away that nobody went on with for a day.
    pub fn forget_uploads(&self) {
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

    fn part_path(&self, digest: &Digest) -> PathBuf {
        self.root.join("private/incoming").join(format!("{digest}.part"))
    }
}

impl Write for Upload {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
