//! A server's private files beside a registry in a folder: append-only lines, readable by its user alone.

use std::fs::{File, OpenOptions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::PathBuf;

use bibliotax_disk::error::At;
use bibliotax_disk::lock::exclusive;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::{folder_of, make_folder};

use super::Folder;
use crate::model::error::RegistryError;
use crate::model::storage::Private;

/// Longest line that is written, in bytes.
const MAX_LINE_LEN: u64 = 64 << 10;

/// Largest file that is read, in bytes.
const MAX_SIZE: usize = 64 << 20;

impl Folder {
    pub(super) fn read_private(&self, what: Private) -> Result<String, RegistryError> {
        let mut text = read_text(&self.private_path(what), MAX_SIZE)?.unwrap_or_default();
        text.truncate(text.rfind('\n').map_or(0, |end| end + 1));
        Ok(text)
    }

    pub(super) fn add_private(&self, what: Private, line: &str) -> Result<(), RegistryError> {
        let path = self.private_path(what);
        make_folder(folder_of(&path))?;
        let mut options = OpenOptions::new();
        options.create(true).truncate(false).read(true).write(true);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let mut file = options.open(&path).at("write", &path)?;
        exclusive(&file, || ()).at("lock", &path)?;
        let whole = whole_lines(&mut file).at("read", &path)?;
        file.set_len(whole).at("write", &path)?;
        file.seek(SeekFrom::Start(whole)).at("write", &path)?;
        file.write_all(line.as_bytes()).and_then(|()| file.sync_all()).at("write", &path)?;
        Ok(())
    }

    fn private_path(&self, what: Private) -> PathBuf {
        let name = match what {
            Private::Tokens => "tokens.jsonl",
            Private::Log => "log.jsonl",
        };
        self.root.join("private").join(name)
    }
}

/// The length of a file up to the end of its last whole line; what follows is of a process that died.
fn whole_lines(file: &mut File) -> std::io::Result<u64> {
    let length = file.metadata()?.len();
    let from = length.saturating_sub(MAX_LINE_LEN);
    file.seek(SeekFrom::Start(from))?;
    let mut end = Vec::new();
    file.read_to_end(&mut end)?;
    Ok(end.iter().rposition(|byte| *byte == b'\n').map_or(from, |at| from + at as u64 + 1))
}
