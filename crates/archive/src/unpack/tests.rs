//! Good and hostile archives, in every format.

use std::io::{Cursor, Write};

use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::Digest;
use tar::{EntryType, Header};
use zip::write::SimpleFileOptions;

use super::{Listing, unpack};
use crate::error::ArchiveError;

/// An entry of a test archive: path, kind, mode, and contents or link target.
#[derive(Clone, Copy)]
struct Entry<'a>(&'a str, EntryType, u32, &'a [u8]);

fn file<'a>(path: &'a str, contents: &'a [u8]) -> Entry<'a> {
    Entry(path, EntryType::Regular, 0o644, contents)
}

fn tar_of(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for Entry(path, kind, mode, contents) in entries {
        let mut header = Header::new_gnu();
        // The name goes in as bytes, since the library would refuse the hostile ones.
        header.as_gnu_mut().unwrap().name[..path.len()].copy_from_slice(path.as_bytes());
        header.set_entry_type(*kind);
        header.set_mode(*mode);
        let is_link = matches!(kind, EntryType::Symlink | EntryType::Link);
        if is_link {
            header.as_gnu_mut().unwrap().linkname[..contents.len()].copy_from_slice(contents);
        }
        let contents = if is_link { &[] } else { *contents };
        header.set_size(contents.len() as u64);
        header.set_cksum();
        builder.append(&header, contents).unwrap();
    }
    builder.into_inner().unwrap()
}

fn zip_of(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for Entry(path, kind, mode, contents) in entries {
        let options = SimpleFileOptions::default().unix_permissions(*mode);
        match kind {
            EntryType::Directory => writer.add_directory(*path, options).unwrap(),
            EntryType::Symlink => {
                writer.add_symlink(*path, std::str::from_utf8(contents).unwrap(), options).unwrap();
            }
            _ => {
                writer.start_file(*path, options).unwrap();
                writer.write_all(contents).unwrap();
            }
        }
    }
    writer.finish().unwrap().into_inner()
}

/// The entries in every format that can hold them.
fn archives(entries: &[Entry<'_>]) -> Vec<(ArchiveFormat, Vec<u8>)> {
    let tar = tar_of(entries);
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    gz.write_all(&tar).unwrap();
    let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 6);
    xz.write_all(&tar).unwrap();
    let zst = zstd::encode_all(&tar[..], 1).unwrap();
    let in_zip = |Entry(_, kind, ..): &Entry<'_>| {
        matches!(kind, EntryType::Regular | EntryType::Directory | EntryType::Symlink)
    };
    let zip = entries.iter().all(in_zip).then(|| (ArchiveFormat::Zip, zip_of(entries)));
    let tars = [
        (ArchiveFormat::Tar, tar),
        (ArchiveFormat::TarGz, gz.finish().unwrap()),
        (ArchiveFormat::TarXz, xz.finish().unwrap()),
        (ArchiveFormat::TarZst, zst),
    ];
    tars.into_iter().chain(zip).collect()
}

fn record(format: ArchiveFormat, bytes: &[u8]) -> Archive {
    Archive::new(Digest::of(bytes), bytes.len() as u64, format)
}

fn unpacked(format: ArchiveFormat, bytes: &[u8]) -> (tempfile::TempDir, Result<Listing, ArchiveError>) {
    let folder = tempfile::tempdir().unwrap();
    let listing = unpack(bytes, &record(format, bytes), folder.path());
    (folder, listing)
}

fn assert_refused(entries: &[Entry<'_>], expected: &str) {
    for (format, bytes) in archives(entries) {
        let (folder, result) = unpacked(format, &bytes);
        let message = result.unwrap_err().to_string();
        assert!(message.contains(expected), "{format}: {message}");
        assert!(!folder.path().parent().unwrap().join("escaped").exists());
    }
}

#[test]
fn every_format_gives_the_same_tree() {
    let entries = [
        Entry("./", EntryType::Directory, 0o755, b""),
        Entry("include/", EntryType::Directory, 0o755, b""),
        file("include/rain.h", b"#define RAIN 1\n"),
        Entry("bin/run", EntryType::Regular, 0o755, b"#!/bin/sh\n"),
        Entry("lib/librain.so", EntryType::Symlink, 0o777, b"librain.so.2"),
        Entry("lib/librain.so.2", EntryType::Symlink, 0o777, b"../include/rain.h"),
    ];
    for (format, bytes) in archives(&entries) {
        let (folder, listing) = unpacked(format, &bytes);
        let listing = listing.unwrap_or_else(|error| panic!("{format}: {error}"));
        let paths: Vec<&str> = listing.files.iter().map(|file| file.path.as_str()).collect();
        assert_eq!(paths, ["bin/run", "include/rain.h", "lib/librain.so", "lib/librain.so.2"], "{format}");
        assert!(listing.files[0].executable && !listing.files[1].executable);
        for file in &listing.files {
            let path = folder.path().join(file.path.as_str());
            assert!(path.symlink_metadata().unwrap().is_file(), "{format}: a link became a file");
            assert_eq!(blake3::hash(&std::fs::read(path).unwrap()), file.blake3);
        }
    }
    let second = [file("a", b"x"), Entry("b", EntryType::Link, 0o644, b"a")];
    assert_eq!(unpacked(ArchiveFormat::Tar, &tar_of(&second)).1.unwrap().files.len(), 2);
}

#[test]
fn refuses_what_leads_out_of_the_tree() {
    assert_refused(&[file("/escaped", b"x")], "it is absolute");
    assert_refused(&[file("../escaped", b"x")], "it leads outside of the package");
    assert_refused(&[file("a/../../escaped", b"x")], "it leads outside of the package");
    assert_refused(&[file("a\\..\\escaped", b"x")], "some systems refuse");
    assert_refused(
        &[Entry("link", EntryType::Symlink, 0o777, b"/etc/passwd")],
        "`/etc/passwd` isn't a file of the package",
    );
    assert_refused(
        &[Entry("a/link", EntryType::Symlink, 0o777, b"../../escaped")],
        "isn't a file of the package",
    );
    assert_refused(&[Entry("name", EntryType::Link, 0o644, b"../escaped")], "isn't a file of the package");
    let through = [Entry("out", EntryType::Symlink, 0o777, b"a"), file("out/escaped", b"x")];
    assert_refused(&through, "clashes with `out`");
}

#[test]
fn refuses_links_to_folders_to_nothing_and_in_circles() {
    assert_refused(
        &[file("a/b", b""), Entry("c", EntryType::Symlink, 0o777, b"a")],
        "isn't a file of the package",
    );
    assert_refused(&[Entry("c", EntryType::Symlink, 0o777, b"gone")], "isn't a file of the package");
    let circle = [Entry("a", EntryType::Symlink, 0o777, b"b"), Entry("b", EntryType::Symlink, 0o777, b"a")];
    assert_refused(&circle, "isn't a file of the package");
}

#[test]
fn refuses_devices_pipes_and_set_user_files() {
    for kind in [EntryType::Char, EntryType::Block, EntryType::Fifo] {
        assert_refused(&[Entry("thing", kind, 0o644, b"")], "neither file, folder nor link");
    }
    let set_user = tar_of(&[Entry("tool", EntryType::Regular, 0o4755, b"")]);
    assert!(matches!(unpacked(ArchiveFormat::Tar, &set_user).1, Err(ArchiveError::SetUser { .. })));
    // In a ZIP archive the mode stands in the directory, 38 bytes behind the beginning of an entry (APPNOTE.TXT, section 4.3.12).
    let mut zipped = zip_of(&[Entry("tool", EntryType::Regular, 0o755, b"")]);
    let at = zipped.windows(4).rposition(|bytes| bytes == b"PK\x01\x02").unwrap();
    for mode in [0o104_755_u32, 0o102_755] {
        zipped[at + 38..at + 42].copy_from_slice(&(mode << 16).to_le_bytes());
        let refused = unpacked(ArchiveFormat::Zip, &zipped).1;
        assert!(matches!(refused, Err(ArchiveError::SetUser { .. })), "{mode:o}: {refused:?}");
    }
}

#[test]
fn refuses_names_that_clash_or_that_some_system_can_not_have() {
    assert_refused(&[file("Rain.h", b""), file("rain.h", b"")], "clashes with `Rain.h`");
    assert_refused(&[file("a", b""), file("a/b", b"")], "clashes with `a`");
    assert_refused(&[file("src/aux.c", b"")], "a device on some systems");
    let twice = tar_of(&[file("a", b"1"), file("a", b"2")]);
    assert!(unpacked(ArchiveFormat::Tar, &twice).1.is_err());
}

#[test]
fn refuses_a_bomb_before_it_fills_the_disk() {
    let zeros = vec![0; 160 << 20];
    for (format, bytes) in
        archives(&[file("zeros", &zeros)]).into_iter().filter(|(f, _)| *f != ArchiveFormat::Tar)
    {
        let (folder, result) = unpacked(format, &bytes);
        let message = result.unwrap_err().to_string();
        assert!(
            message.contains("at `zeros`") && message.contains("times its own size"),
            "{format}: {message}"
        );
        let written = std::fs::metadata(folder.path().join("zeros")).unwrap().len();
        assert!(written < 100 << 20, "{format}: stopped after {written} bytes");
    }
}

#[test]
fn refuses_xz_that_wants_more_memory_than_its_strongest_usual_setting() {
    let mut options = liblzma::stream::LzmaOptions::new_preset(1).unwrap();
    options.dict_size(256 << 20);
    let stream = liblzma::stream::Stream::new_stream_encoder(
        liblzma::stream::Filters::new().lzma2(&options),
        liblzma::stream::Check::Crc32,
    );
    let mut xz = liblzma::write::XzEncoder::new_stream(Vec::new(), stream.unwrap());
    xz.write_all(&tar_of(&[file("a", b"some text")])).unwrap();
    let refused = unpacked(ArchiveFormat::TarXz, &xz.finish().unwrap()).1.unwrap_err();
    assert!(matches!(refused, ArchiveError::Unreadable { .. }), "{refused}");
}

#[test]
fn bytes_that_are_not_the_expected_ones_are_told_as_such() {
    for (format, bytes) in archives(&[file("a", b"some text"), file("b", &[7; 3000])]) {
        let expected = record(format, &bytes);
        let folder = || tempfile::tempdir().unwrap();
        for at in [0, bytes.len() / 2, bytes.len() - 1] {
            let mut flipped = bytes.clone();
            flipped[at] ^= 1;
            let error = unpack(&flipped[..], &expected, folder().path()).unwrap_err();
            assert!(!matches!(error, ArchiveError::Unreadable { .. }), "{format} at {at}: {error}");
        }
        let short = unpack(&bytes[..bytes.len() / 2], &expected, folder().path()).unwrap_err();
        assert!(matches!(short, ArchiveError::WrongSize { .. }), "{format}: {short}");
        let long = [&bytes[..], b"more"].concat();
        let long = unpack(&long[..], &expected, folder().path()).unwrap_err();
        assert!(matches!(long, ArchiveError::WrongSize { .. }), "{format}: {long}");
    }
    for format in [
        ArchiveFormat::Tar,
        ArchiveFormat::TarGz,
        ArchiveFormat::TarXz,
        ArchiveFormat::TarZst,
        ArchiveFormat::Zip,
    ] {
        let noise = b"this was never an archive of any kind, and it is longer than a header. ".repeat(20);
        assert!(matches!(unpacked(format, &noise).1, Err(ArchiveError::Unreadable { .. })), "{format}");
    }
}
