//! Packs the files of a package into an archive that has the same bytes wherever it is made.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use bibliotax_disk::DiskError;

use crate::error::PackError;
use crate::select::PackFile;

/// Compression level: small archives at a speed that publishing can wait for.
pub const LEVEL: i32 = 9;

/// Writes the archive of `files`: a tar in Zstandard, sorted, without times, owners or modes of this machine.
pub fn write_archive<W: Write>(files: &[PackFile], into: W) -> Result<W, PackError> {
    let packed = |error: io::Error, path: &Path| DiskError::new("pack", path, error);
    let encoder = zstd::Encoder::new(into, LEVEL).map_err(|error| packed(error, Path::new(".")))?;
    let encoder = write_tar(files, encoder)?;
    Ok(encoder.finish().map_err(|error| packed(error, Path::new(".")))?)
}

/// The same without Zstandard around it.
pub fn write_tar<W: Write>(files: &[PackFile], into: W) -> Result<W, PackError> {
    let packed = |error: io::Error, path: &Path| DiskError::new("pack", path, error);
    let mut archive = tar::Builder::new(into);
    for file in files {
        append(&mut archive, file).map_err(|error| packed(error, &file.from))?;
    }
    Ok(archive.into_inner().map_err(|error| packed(error, Path::new(".")))?)
}

fn append<W: Write>(archive: &mut tar::Builder<W>, file: &PackFile) -> io::Result<()> {
    let mut header = header(file.size, file.executable);
    let source = io::Read::take(File::open(&file.from)?, file.size);
    let mut source = Counted { source, read: 0 };
    archive.append_data(&mut header, file.path.as_str(), &mut source)?;
    if source.read < file.size {
        return Err(io::Error::other("it became shorter while it was packed"));
    }
    Ok(())
}

/// The header of a file of this size, with nothing in it that could differ.
pub fn header(size: u64, executable: bool) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.set_entry_type(tar::EntryType::Regular);
    header.set_mode(if executable { 0o755 } else { 0o644 });
    header.set_uid(0);
    header.set_gid(0);
    header.set_mtime(0);
    header.set_size(size);
    header
}

/// Counts what is read, for a file that shrinks under our hands.
struct Counted<R> {
    source: R,
    read: u64,
}

impl<R: io::Read> io::Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.source.read(buffer)?;
        self.read += read as u64;
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;
    use crate::select::select;

    fn tree(files: &[(&str, &str)]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        folder
    }

    #[cfg(unix)]
    #[test]
    fn the_same_tree_gives_the_same_archive_whatever_its_times_and_modes() {
        use std::os::unix::fs::PermissionsExt;
        let archive = |mode: u32, at: u64| {
            let folder =
                tree(&[("b/run.sh", "#!/bin/sh"), ("a.txt", "alpha"), (&"long/".repeat(30), "")][..2]);
            for (name, mode) in [("a.txt", mode), ("b/run.sh", mode | 0o100)] {
                let path = folder.path().join(name);
                fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
                let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(at);
                File::options().append(true).open(&path).unwrap().set_modified(time).unwrap();
            }
            write_archive(&select(folder.path(), None, &[]).unwrap().files, Vec::new()).unwrap()
        };
        assert_eq!(archive(0o600, 5), archive(0o666, 1_700_000_000));
    }
}
