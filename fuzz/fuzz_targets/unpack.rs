//! Archives of any bytes, in every format: unpacking ends, and whatever came of it is what the listing says, inside the folder.

#![no_main]

use bibliotax_archive::unpack::unpack;
use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::Digest;
use bibliotax_core::inner_path::InnerPath;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Some((kind, bytes)) = data.split_first() else { return };
    let formats = [
        ArchiveFormat::Tar,
        ArchiveFormat::TarGz,
        ArchiveFormat::TarXz,
        ArchiveFormat::TarZst,
        ArchiveFormat::TarBz2,
        ArchiveFormat::TarLz4,
        ArchiveFormat::Zip,
    ];
    let format = formats[usize::from(*kind) % formats.len()];
    // Now and then only a folder of it.
    let strip = (*kind >= 128).then(|| InnerPath::new("moss").unwrap());
    let archive = Archive { strip, ..Archive::new(Digest::of(bytes), bytes.len() as u64, format) };
    let around = tempfile::tempdir().unwrap();
    let folder = around.path().join("tree");
    std::fs::create_dir(&folder).unwrap();
    let unpacked = unpack(bytes, &archive, &folder);
    let beside: Vec<_> = std::fs::read_dir(around.path()).unwrap().collect();
    assert_eq!(beside.len(), 1, "something was written outside");
    let Ok(listing) = unpacked else { return };
    for file in &listing.files {
        let metadata = std::fs::symlink_metadata(folder.join(file.path.as_str())).unwrap();
        assert!(metadata.is_file() && metadata.len() == file.size, "{:?}", file.path);
    }
});
