//! The directory of a ZIP archive as its end describes it (APPNOTE.TXT, sections 4.3.14 to 4.3.16): looked at before the library
//! reads all of it into memory.

use std::collections::BTreeSet;
use std::io::{self, Read, Seek, SeekFrom};

use super::tar::SET_USER_OR_GROUP;

/// The bits of a Unix mode that say what kind of file it is, and those of a file.
pub(super) const KIND: u32 = 0o170_000;
pub(super) const FILE: u32 = 0o100_000;

/// The record at the end, and the one that says where its 64-bit form is.
const END: [u8; 4] = *b"PK\x05\x06";
const END_64_LOCATOR: [u8; 4] = *b"PK\x06\x07";
const END_64: [u8; 4] = *b"PK\x06\x06";

/// The record of one entry.
const ENTRY: [u8; 4] = *b"PK\x01\x02";
const ENTRY_LENGTH: usize = 46;

/// Lengths of these records without what may follow.
const END_LENGTH: usize = 22;
const LOCATOR_LENGTH: usize = 20;
const END_64_LENGTH: usize = 56;

/// Longest comment behind the last record.
const MAX_COMMENT: usize = 65_535;

/// What the end of an archive says of its directory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Directory {
    /// How many entries it has.
    pub entries: u64,
    /// Its length in bytes.
    pub bytes: u64,
    /// Where it ends in the file.
    pub end: u64,
}

/// Reads what the end of an archive says; `None` where it doesn't end as such archives do.
pub fn at_end(file: &mut (impl Read + Seek)) -> io::Result<Option<Directory>> {
    let length = file.seek(SeekFrom::End(0))?;
    let wanted = (END_LENGTH + MAX_COMMENT + LOCATOR_LENGTH) as u64;
    file.seek(SeekFrom::Start(length.saturating_sub(wanted)))?;
    let mut tail = Vec::new();
    file.by_ref().take(wanted).read_to_end(&mut tail)?;
    let Some(at) = tail.windows(END.len()).rposition(|window| window == END) else { return Ok(None) };
    let record = &tail[at..];
    // What readers that look from behind meet first has to be what ends the file, so that none sees another one.
    if record.len() < END_LENGTH || record.len() != END_LENGTH + usize::from(number_16(record, 20)) {
        return Ok(None);
    }
    let end = length - record.len() as u64;
    let directory =
        Directory { entries: number_16(record, 10).into(), bytes: number_32(record, 12).into(), end };
    let locator = at.checked_sub(LOCATOR_LENGTH).map(|at| &tail[at..]);
    match locator.filter(|locator| locator.starts_with(&END_64_LOCATOR)) {
        Some(locator) => {
            let there = at_64(file, number_64(locator, 8))?;
            // All bits say that only the longer record has the number (section 4.4.1.4); otherwise the larger one counts.
            let larger =
                |long: u64, short: u64, none: u64| if short == none { long } else { long.max(short) };
            Ok(there.map(|there| Directory {
                entries: larger(there.entries, directory.entries, u16::MAX.into()),
                bytes: larger(there.bytes, directory.bytes, u32::MAX.into()),
                end: there.end,
            }))
        }
        None => Ok(Some(directory)),
    }
}

fn at_64(file: &mut (impl Read + Seek), at: u64) -> io::Result<Option<Directory>> {
    file.seek(SeekFrom::Start(at))?;
    let mut record = Vec::new();
    file.by_ref().take(END_64_LENGTH as u64).read_to_end(&mut record)?;
    if record.len() < END_64_LENGTH || !record.starts_with(&END_64) {
        return Ok(None);
    }
    Ok(Some(Directory { entries: number_64(&record, 32), bytes: number_64(&record, 40), end: at }))
}

/// The names of the files in a directory that would run with the rights of their owner or group (section 4.4.15, as Unix writes
/// it): the library takes these bits off before anybody sees them.
pub fn set_user(file: &mut (impl Read + Seek), directory: Directory) -> io::Result<BTreeSet<Vec<u8>>> {
    let mut names = BTreeSet::new();
    file.seek(SeekFrom::Start(directory.end.saturating_sub(directory.bytes)))?;
    let mut records = io::BufReader::new(file.take(directory.bytes));
    for _ in 0..directory.entries {
        let mut record = [0; ENTRY_LENGTH];
        records.read_exact(&mut record)?;
        if !record.starts_with(&ENTRY) {
            return Err(io::ErrorKind::InvalidData.into());
        }
        let mut name = vec![0; number_16(&record, 28).into()];
        records.read_exact(&mut name)?;
        let rest = u64::from(number_16(&record, 30)) + u64::from(number_16(&record, 32));
        io::copy(&mut records.by_ref().take(rest), &mut io::sink())?;
        let mode = number_32(&record, 38) >> 16;
        let is_file = matches!(mode & KIND, 0 | FILE) && !name.ends_with(b"/");
        if is_file && mode & SET_USER_OR_GROUP != 0 {
            names.insert(name);
        }
    }
    Ok(names)
}

/// Numbers are little-endian; the caller has checked that the record is long enough.
fn number_16(record: &[u8], at: usize) -> u16 {
    u16::from_le_bytes([record[at], record[at + 1]])
}

fn number_32(record: &[u8], at: usize) -> u32 {
    u32::from(number_16(record, at)) | u32::from(number_16(record, at + 2)) << 16
}

fn number_64(record: &[u8], at: usize) -> u64 {
    u64::from(number_32(record, at)) | u64::from(number_32(record, at + 4)) << 32
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;

    fn end(entries: u16, bytes: u32, comment: &[u8]) -> Vec<u8> {
        let mut record = END.to_vec();
        record.extend([0; 4]);
        record.extend(entries.to_le_bytes());
        record.extend(entries.to_le_bytes());
        record.extend(bytes.to_le_bytes());
        record.extend([0; 4]);
        record.extend(u16::try_from(comment.len()).unwrap().to_le_bytes());
        record.extend(comment);
        record
    }

    #[test]
    fn the_end_is_read_in_both_forms_and_nothing_else_is_one() {
        let read = |bytes: &[u8]| at_end(&mut Cursor::new(bytes)).unwrap();
        let shown = |end: u64| Some(Directory { entries: 3, bytes: 200, end });
        assert_eq!(read(&[b"files".to_vec(), end(3, 200, b"")].concat()), shown(5));
        assert_eq!(read(&end(3, 200, b"a comment")), shown(0));
        let mut large = END_64.to_vec();
        large.extend([0; 28]);
        large.extend(70_000_u64.to_le_bytes());
        large.extend(8_000_000_u64.to_le_bytes());
        large.extend([0; 8]);
        let mut locator = END_64_LOCATOR.to_vec();
        locator.extend([0; 12]);
        locator.extend([0; 4]);
        let whole = [large.clone(), locator, end(0xffff, 0xffff_ffff, b"")].concat();
        let shown = Directory { entries: 70_000, bytes: 8_000_000, end: 0 };
        assert_eq!(read(&whole), Some(shown));
        for broken in
            [&end(3, 200, b"x")[..22], b"PK\x05\x06", b"", &[end(3, 200, b""), b"more".to_vec()].concat()]
        {
            assert_eq!(read(broken), None, "{broken:?}");
        }
    }
}
