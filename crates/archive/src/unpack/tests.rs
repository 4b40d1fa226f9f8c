//! Good and hostile archives, in every format.

use std::io::{Cursor, Write};

use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::Digest;
use bibliotax_core::file_selection::FileSelection;
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
    let mut bz2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::best());
    bz2.write_all(&tar).unwrap();
    let mut lz4 = lz4_flex::frame::FrameEncoder::new(Vec::new());
    lz4.write_all(&tar).unwrap();
    let in_zip = |Entry(_, kind, ..): &Entry<'_>| {
        matches!(kind, EntryType::Regular | EntryType::Directory | EntryType::Symlink)
    };
    let zip = entries.iter().all(in_zip).then(|| (ArchiveFormat::Zip, zip_of(entries)));
    let tars = [
        (ArchiveFormat::Tar, tar),
        (ArchiveFormat::TarGz, gz.finish().unwrap()),
        (ArchiveFormat::TarXz, xz.finish().unwrap()),
        (ArchiveFormat::TarZst, zst),
        (ArchiveFormat::TarBz2, bz2.finish().unwrap()),
        (ArchiveFormat::TarLz4, lz4.finish().unwrap()),
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

/// What is in an archive of these entries, of which some are left out.
fn taken(entries: &[Entry<'_>], include: &[&str], exclude: &[&str]) -> Result<Listing, ArchiveError> {
    let patterns = |texts: &[&str]| texts.iter().map(|text| text.parse().unwrap()).collect();
    let selection = FileSelection { include: patterns(include), exclude: patterns(exclude) };
    let (bytes, folder) = (tar_of(entries), tempfile::tempdir().unwrap());
    unpack(&bytes[..], &Archive { selection, ..record(ArchiveFormat::Tar, &bytes) }, folder.path())
}

fn paths(listing: &Listing) -> Vec<&str> {
    listing.files.iter().map(|file| file.path.as_str()).collect()
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
        let expected = ["bin/run", "include/rain.h", "lib/librain.so", "lib/librain.so.2"];
        assert_eq!(paths(&listing), expected, "{format}");
        let archive = folder.path().join("archive");
        std::fs::write(&archive, &bytes).unwrap();
        assert_eq!(crate::format::of_file(&archive).unwrap(), format, "its bytes tell");
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
fn refuses_links_to_nothing_and_in_circles() {
    assert_refused(&[Entry("c", EntryType::Symlink, 0o777, b"gone")], "isn't a file of the package");
    let circle = [Entry("a", EntryType::Symlink, 0o777, b"b"), Entry("b", EntryType::Symlink, 0o777, b"a")];
    assert_refused(&circle, "isn't a file of the package");
    let inside = [file("a/x", b""), Entry("a/up", EntryType::Symlink, 0o777, b"..")];
    assert_refused(&inside, "contains the link");
    let two = [
        file("a/x", b""),
        file("b/x", b""),
        Entry("a/b", EntryType::Symlink, 0o777, b"../b"),
        Entry("b/a", EntryType::Symlink, 0o777, b"../a"),
    ];
    assert_refused(&two, "2 of its entries are refused");
}

#[test]
fn a_link_to_a_folder_becomes_a_copy_of_it() {
    let entries = [
        file("include/moss/map.h", b"map"),
        file("include/moss.h", b"moss"),
        Entry("inc", EntryType::Symlink, 0o777, b"./include"),
        Entry("moss", EntryType::Symlink, 0o777, b"inc/moss"),
        Entry("one.h", EntryType::Symlink, 0o777, b"inc/moss.h"),
        Entry("all/of", EntryType::Symlink, 0o777, b"../moss"),
    ];
    for (format, bytes) in archives(&entries) {
        let (folder, listing) = unpacked(format, &bytes);
        let listing = listing.unwrap_or_else(|error| panic!("{format}: {error}"));
        let expected = [
            "all/of/map.h",
            "inc/moss.h",
            "inc/moss/map.h",
            "include/moss.h",
            "include/moss/map.h",
            "moss/map.h",
            "one.h",
        ];
        assert_eq!(paths(&listing), expected, "{format}");
        assert_eq!(std::fs::read_to_string(folder.path().join("all/of/map.h")).unwrap(), "map");
    }
    let many: Vec<String> = (0..700).map(|number| format!("many/{number}")).collect();
    let mut entries: Vec<Entry<'_>> = many.iter().map(|path| file(path, b"")).collect();
    for link in ["one", "two", "three"] {
        entries.push(Entry(link, EntryType::Symlink, 0o777, b"many"));
    }
    let refused = taken(&entries, &[], &[]).unwrap_err().to_string();
    assert!(refused.contains("is too large to be copied"), "{refused}");
    assert_eq!(taken(&entries, &[], &["two"]).unwrap().files.len(), 2100);
}

#[test]
fn what_is_refused_can_be_left_out_and_all_of_it_is_listed() {
    let odd = [
        file("moss/map.h", b"map"),
        Entry("moss/pipe", EntryType::Fifo, 0o644, b""),
        Entry("moss/gone", EntryType::Symlink, 0o777, b"nothing"),
        file("../escaped", b""),
        file("moss/a\\b", b""),
        Entry("moss/tool", EntryType::Regular, 0o4755, b""),
    ];
    let Err(ArchiveError::Refused(refused)) = taken(&odd, &[], &[]) else { panic!("it has to be refused") };
    assert_eq!(refused.count(), 5);
    let patterns = refused.patterns();
    let patterns: Vec<&str> = patterns.iter().map(String::as_str).collect();
    assert_eq!(paths(&taken(&odd, &[], &patterns).unwrap()), ["moss/map.h"]);
    assert_eq!(paths(&taken(&odd, &["moss/*.h"], &[]).unwrap()), ["moss/map.h"]);
    assert!(matches!(taken(&odd, &["*.c"], &[]), Err(ArchiveError::NothingTaken)));
    let many: Vec<String> = (0..300).map(|number| format!("pipes/{number}")).collect();
    let entries: Vec<Entry<'_>> = many.iter().map(|path| Entry(path, EntryType::Fifo, 0o644, b"")).collect();
    let Err(ArchiveError::Refused(refused)) = taken(&entries, &[], &[]) else {
        panic!("it has to be refused")
    };
    assert_eq!((refused.count(), refused.patterns()), (300, vec!["pipes/**".to_owned()]));
}

#[test]
fn a_name_that_is_no_text_can_be_left_out() {
    let mut bytes = tar_of(&[file("moss.h", b"moss"), file("doc/caf!", b"")]);
    let at = bytes.windows(8).position(|name| name == b"doc/caf!").unwrap();
    bytes[at + 7] = 0xe9;
    // The checksum of its header is what all bytes add up to, with blanks in its own place (POSIX.1-2001).
    bytes[at + 148..at + 156].fill(b' ');
    let sum: u32 = bytes[at..at + 512].iter().map(|byte| u32::from(*byte)).sum();
    bytes[at + 148..at + 156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    let Err(ArchiveError::Refused(refused)) = unpacked(ArchiveFormat::Tar, &bytes).1 else {
        panic!("refused")
    };
    let exclude = vec![refused.patterns()[0].parse().unwrap()];
    let selection = FileSelection { include: Vec::new(), exclude };
    let archive = Archive { selection, ..record(ArchiveFormat::Tar, &bytes) };
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(paths(&unpack(&bytes[..], &archive, folder.path()).unwrap()), ["moss.h"]);
}

#[test]
fn empty_folders_are_kept_and_files_have_the_times_of_the_archive() {
    let entries = [
        Entry("spool/", EntryType::Directory, 0o755, b""),
        Entry("spool/in/", EntryType::Directory, 0o755, b""),
        Entry("src/", EntryType::Directory, 0o755, b""),
        file("src/moss.c", b"moss"),
    ];
    for (format, bytes) in archives(&entries) {
        let listing = unpacked(format, &bytes).1.unwrap();
        let empty: Vec<&str> = listing.empty.iter().map(|folder| folder.as_str()).collect();
        assert_eq!(empty, ["spool/in"], "{format}");
        let read: Listing = serde_json::from_str(&serde_json::to_string(&listing).unwrap()).unwrap();
        assert_eq!(read, listing);
    }
    let at = |seconds: u64| std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
    let mut tar = tar::Builder::new(Vec::new());
    let mut header = Header::new_ustar();
    header.set_size(0);
    header.set_mode(0o644);
    header.set_mtime(1_700_000_000);
    tar.append_data(&mut header.clone(), "configure.ac", &b""[..]).unwrap();
    tar.append_pax_extensions([("mtime", &b"1700000000.25"[..])]).unwrap();
    tar.append_data(&mut header, "configure", &b""[..]).unwrap();
    let (folder, listing) = unpacked(ArchiveFormat::Tar, &tar.into_inner().unwrap());
    let time = |name: &str| std::fs::metadata(folder.path().join(name)).unwrap().modified().unwrap();
    assert_eq!(time("configure.ac"), at(1_700_000_000));
    assert_eq!(time("configure"), at(1_700_000_000) + std::time::Duration::from_millis(250));
    assert_eq!(listing.unwrap().files.len(), 2);
    let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let noon = zip::DateTime::from_date_and_time(2024, 5, 6, 12, 0, 2).unwrap();
    zip.start_file("moss.h", SimpleFileOptions::default().last_modified_time(noon)).unwrap();
    let (folder, listing) = unpacked(ArchiveFormat::Zip, &zip.finish().unwrap().into_inner());
    listing.unwrap();
    let time = std::fs::metadata(folder.path().join("moss.h")).unwrap().modified().unwrap();
    assert_eq!(time, at(1_714_996_802));
}

#[test]
fn refuses_devices_pipes_and_set_user_files() {
    for kind in [EntryType::Char, EntryType::Block, EntryType::Fifo] {
        assert_refused(&[Entry("thing", kind, 0o644, b"")], "neither file, folder nor link");
    }
    let set_user = tar_of(&[Entry("tool", EntryType::Regular, 0o4755, b"")]);
    let is_refused = |unpacked: Result<Listing, ArchiveError>| {
        unpacked.is_err_and(|error| error.to_string().contains("with the rights of another user"))
    };
    assert!(is_refused(unpacked(ArchiveFormat::Tar, &set_user).1));
    // In a ZIP archive the mode stands in the directory, 38 bytes behind the beginning of an entry (APPNOTE.TXT, section 4.3.12).
    let mut zipped = zip_of(&[Entry("tool", EntryType::Regular, 0o755, b"")]);
    let at = zipped.windows(4).rposition(|bytes| bytes == b"PK\x01\x02").unwrap();
    for mode in [0o104_755_u32, 0o102_755] {
        zipped[at + 38..at + 42].copy_from_slice(&(mode << 16).to_le_bytes());
        assert!(is_refused(unpacked(ArchiveFormat::Zip, &zipped).1), "{mode:o}");
    }
}

#[test]
fn refuses_names_that_clash_and_lists_those_that_other_systems_can_not_have() {
    assert_refused(&[file("a", b""), file("a/b", b"")], "clashes with `a`");
    let twice = tar_of(&[file("a", b"1"), file("a", b"2")]);
    assert!(unpacked(ArchiveFormat::Tar, &twice).1.is_err());
    let odd = [
        file("Rain.h", b"1"),
        file("rain.h", b"2"),
        file("src/aux.c", b""),
        file("man/Moss::Map.3pm", b""),
        file("notes.", b""),
    ];
    for (format, bytes) in archives(&odd) {
        let listing = unpacked(format, &bytes).1.unwrap();
        assert_eq!(listing.files.len(), 5, "{format}");
        let elsewhere: Vec<&str> = listing.elsewhere.iter().map(|name| name.path.as_str()).collect();
        assert_eq!(elsewhere, ["rain.h", "src/aux.c", "man/Moss::Map.3pm", "notes."], "{format}");
        assert_eq!(listing.elsewhere[0].why, "it clashes with `Rain.h`");
        let read: Listing = serde_json::from_str(&serde_json::to_string(&listing).unwrap()).unwrap();
        assert_eq!(read, listing);
    }
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
        let most = (100 << 20).max(201 * bytes.len() as u64);
        assert!(written < most, "{format}: stopped after {written} bytes");
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
        ArchiveFormat::TarBz2,
        ArchiveFormat::TarLz4,
        ArchiveFormat::Zip,
    ] {
        let noise = b"this was never an archive of any kind, and it is longer than a header. ".repeat(20);
        let error = unpacked(format, &noise).1.unwrap_err();
        assert!(matches!(error, ArchiveError::Unreadable { .. }), "{format}");
        assert!(error.to_string().ends_with("it is a text"), "{format}: {error}");
    }
}
