//! How an archive is packed, told by its bytes.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::Path;

use bibliotax_core::card::ArchiveFormat;
use bibliotax_disk::error::At;

use crate::decoding::decoded;
use crate::error::ArchiveError;

/// How many bytes at the beginning tell the format: a header of a tar (POSIX.1-2001, "ustar Interchange Format").
pub const HEAD_LEN: usize = 512;

/// Where a tar's header has its checksum, and its length.
const CHECKSUM: std::ops::Range<usize> = 148..156;

/// What is packed in one go, by its first bytes.
const PACKED: [(&[u8], ArchiveFormat, &str); 5] = [
    (b"\x1f\x8b", ArchiveFormat::TarGz, "gzip (RFC 1952)"),
    (b"\x28\xb5\x2f\xfd", ArchiveFormat::TarZst, "Zstandard (RFC 8878)"),
    (b"\xfd7zXZ\0", ArchiveFormat::TarXz, "xz"),
    (b"BZh", ArchiveFormat::TarBz2, "bzip2"),
    (b"\x04\x22\x4d\x18", ArchiveFormat::TarLz4, "LZ4"),
];

/// The first bytes of a ZIP archive, with entries or without (APPNOTE.TXT, sections 4.3.7 and 4.3.16).
const ZIPS: [&[u8]; 2] = [b"PK\x03\x04", b"PK\x05\x06"];

/// What people get in place of an archive, by its first bytes.
const OTHERS: [(&[u8], &str); 11] = [
    (b"7z\xbc\xaf\x27\x1c", "a 7z archive"),
    (b"Rar!", "a RAR archive"),
    (b"!<arch>\n", "an ar archive, such as a static library or a Debian package"),
    (b"\xed\xab\xee\xdb", "an RPM package"),
    (b"xar!", "a xar archive"),
    (b"MSCF", "a cabinet archive"),
    (b"LZIP", "an lzip file"),
    (b"\x7fELF", "a program for Linux"),
    (b"MZ", "a program for Windows"),
    (b"%PDF", "a PDF document"),
    (b"version https://git-lfs", "a pointer to a file that git keeps elsewhere"),
];

/// The format of an archive on this disk.
pub fn of_file(archive: &Path) -> Result<ArchiveFormat, ArchiveError> {
    let mut file = File::open(archive).at("read", archive)?;
    let mut head = Vec::new();
    file.by_ref().take(HEAD_LEN as u64).read_to_end(&mut head).at("read", archive)?;
    let format = of_head(&head).map_err(|found| ArchiveError::NoArchive { found })?;
    if let Some((_, _, name)) = PACKED.iter().find(|(_, packed, _)| *packed == format) {
        file.seek(SeekFrom::Start(0)).at("read", archive)?;
        holds_tar(file, format, name)?;
    }
    Ok(format)
}

/// The format that the first bytes tell, or what they are instead.
pub fn of_head(head: &[u8]) -> Result<ArchiveFormat, String> {
    if ZIPS.iter().any(|zip| head.starts_with(zip)) {
        return Ok(ArchiveFormat::Zip);
    }
    if let Some((_, format, _)) = PACKED.iter().find(|(first, ..)| head.starts_with(first)) {
        return Ok(*format);
    }
    if is_tar(head) {
        return Ok(ArchiveFormat::Tar);
    }
    Err(other(head))
}

/// Whether a header of a tar begins here: its checksum is right. A header of zeros ends an empty one.
fn is_tar(head: &[u8]) -> bool {
    let Some(head) = head.get(..HEAD_LEN) else { return false };
    if head.iter().all(|byte| *byte == 0) {
        return true;
    }
    let text = String::from_utf8_lossy(&head[CHECKSUM]);
    let said = u32::from_str_radix(text.trim_matches(['\0', ' ']), 8);
    let blank = |at: usize| CHECKSUM.contains(&at);
    let counted = |(at, byte): (usize, &u8)| u32::from(if blank(at) { b' ' } else { *byte });
    said.is_ok_and(|said| said == head.iter().enumerate().map(counted).sum::<u32>())
}

/// What a file is that is no archive.
fn other(head: &[u8]) -> String {
    if head.is_empty() {
        return "an empty file".to_owned();
    }
    if let Some((_, what)) = OTHERS.iter().find(|(first, _)| head.starts_with(first)) {
        return (*what).to_owned();
    }
    let text = String::from_utf8_lossy(head).trim_start().to_lowercase();
    match text.as_str() {
        html if html.starts_with("<!doctype html") || html.starts_with("<html") => "a web page",
        xml if xml.starts_with("<?xml") => "an XML document",
        text if !text.contains(['\u{fffd}', '\0']) => "a text",
        _ => "a file of a kind that isn't known",
    }
    .to_owned()
}

/// Fails unless a tar is inside what was packed in one go.
fn holds_tar(packed: File, format: ArchiveFormat, name: &str) -> Result<(), ArchiveError> {
    let mut head = Vec::new();
    let read = decoded(packed, format)?.take(HEAD_LEN as u64).read_to_end(&mut head);
    match read {
        Err(_) => Err(ArchiveError::Unreadable { format, message: "its structure is broken".into() }),
        Ok(_) if is_tar(&head) => Ok(()),
        Ok(_) => {
            let found = of_head(&head).map_or_else(|what| what, |format| format!("a {format} archive"));
            Err(ArchiveError::NoArchive {
                found: format!("{found} packed with {name}, without a tar around it"),
            })
        }
    }
}

/// What is wrong with bytes that are not of the format they should be; `None` where their beginning is right.
pub(crate) fn instead_of(format: ArchiveFormat, head: &[u8]) -> Option<String> {
    match of_head(head) {
        Ok(found) if found == format => None,
        Ok(found) => Some(format!("it is {found}")),
        // Of what is cut short nothing can be said.
        Err(_) if head.len() < HEAD_LEN && format == ArchiveFormat::Tar => None,
        Err(what) => Some(format!("it is {what}")),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn of(bytes: &[u8]) -> Result<ArchiveFormat, String> {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(bytes).unwrap();
        of_file(file.path()).map_err(|error| error.to_string())
    }

    fn gzipped(bytes: &[u8]) -> Vec<u8> {
        let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gz.write_all(bytes).unwrap();
        gz.finish().unwrap()
    }

    #[test]
    fn what_is_no_archive_is_called_what_it_is() {
        for (bytes, what) in [
            (&b""[..], "an empty file"),
            (b"\n<!DOCTYPE html><html>Sign in", "a web page"),
            (b"<?xml version='1.0'?>", "an XML document"),
            (b"Not found", "a text"),
            (b"7z\xbc\xaf\x27\x1c\0\0", "a 7z archive"),
            (b"!<arch>\ndebian-binary", "an ar archive"),
            (b"\xff\xfe\0\x01\x02", "a kind that isn't known"),
        ] {
            let told = of(bytes).unwrap_err();
            assert!(told.contains(what), "{told}");
        }
        let told = of(&gzipped(b"#define MOSS 1\n")).unwrap_err();
        assert!(told.contains("a text packed with gzip (RFC 1952), without a tar around it"), "{told}");
        assert_eq!(of(&[0; 1024]), Ok(ArchiveFormat::Tar));
        assert_eq!(of(&gzipped(&[0; 1024])), Ok(ArchiveFormat::TarGz));
        let cut = &gzipped(&[0; 1 << 20])[..12];
        assert!(of(cut).is_err());
    }
}
