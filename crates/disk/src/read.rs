//! Reads texts of files, up to a size.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use crate::error::{At, Result};

/// The text of a file; `None` if there is no such file.
///
/// A file above `limit` bytes, or one that is no UTF-8, is an error of kind `InvalidData`.
pub fn read_text(path: &Path, limit: usize) -> Result<Option<String>> {
    let file = match File::open(path) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error).at("read", path),
    };
    text_of(file, limit).at("read", path).map(Some)
}

/// The text of an open file, bounded in the same way.
pub(crate) fn text_of(file: File, limit: usize) -> io::Result<String> {
    let mut bytes = Vec::new();
    file.take(limit as u64 + 1).read_to_end(&mut bytes)?;
    if bytes.len() > limit {
        let message = format!("it has over {} KiB, which is too much", limit / 1024);
        return Err(io::Error::new(io::ErrorKind::InvalidData, message));
    }
    let no_text = |_| io::Error::new(io::ErrorKind::InvalidData, "it isn't UTF-8 text");
    String::from_utf8(bytes).map_err(no_text)
}
