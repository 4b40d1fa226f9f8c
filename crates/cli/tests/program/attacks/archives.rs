//! Archives made to exhaust memory or disk: headers, names and entries without an end.

use std::fs;

use crate::garden::Garden;

/// Most memory for data that the program may take while it meets such an archive, in KiB: what it takes anyway, and 64 MiB.
const MEMORY: u32 = (60 + 64) << 10;

/// What a bomb holds, in bytes.
const HUGE: u64 = 6 << 30;

/// What stands in one frame of a packed bomb, in bytes. Frames can follow each other, so that a huge archive is soon made.
const FRAME: usize = 64 << 20;

/// A header of a tar of this kind, which says that so many bytes follow.
fn header(kind: u8, size: u64, name: &str) -> Vec<u8> {
    let mut header = tar::Header::new_gnu();
    header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
    header.set_entry_type(tar::EntryType::new(kind));
    header.set_mode(0o644);
    header.set_size(size);
    header.set_cksum();
    header.as_bytes().to_vec()
}

fn frame(bytes: &[u8]) -> Vec<u8> {
    zstd::encode_all(bytes, 1).unwrap()
}

/// A header that says that a huge thing follows, and that: the same byte again and again.
fn huge(kind: u8, byte: u8) -> Vec<u8> {
    let mut packed = frame(&header(kind, HUGE, "huge"));
    packed.extend(frame(&vec![byte; FRAME]).repeat(HUGE as usize / FRAME));
    packed.extend(frame(&[0; 1024]));
    packed
}

/// Entries without an end, as many as `FRAME` holds of each of these names with a number behind it.
fn entries(kind: u8, names: &[&str], has_number: bool) -> Vec<u8> {
    let of_name = |name: &&str| {
        let numbers = 0..FRAME / 512;
        let named = |number| if has_number { format!("{name}{number}") } else { (*name).to_owned() };
        frame(&numbers.flat_map(|number| header(kind, 0, &named(number))).collect::<Vec<u8>>())
    };
    names.iter().flat_map(of_name).collect::<Vec<u8>>().repeat(HUGE as usize / FRAME / names.len())
}

/// A file with a map of holes that never ends.
fn sparse() -> Vec<u8> {
    let mut first = header(b'S', 1 << 20, "holes");
    first[482] = 1;
    let mut first = tar::Header::from_byte_slice(&first).clone();
    first.set_cksum();
    let mut more = vec![0; 512];
    more[504] = 1;
    let mut packed = frame(first.as_bytes());
    packed.extend(frame(&more.repeat(FRAME / 512)).repeat(HUGE as usize / FRAME));
    packed
}

#[test]
fn no_header_name_or_number_of_entries_takes_more_than_a_little_memory() {
    let bombs: [(&str, Vec<u8>); 9] = [
        ("a long name", huge(b'L', b'a')),
        ("a long link", huge(b'K', b'a')),
        ("an extended header", huge(b'x', b'1')),
        ("a global header", huge(b'g', b'1')),
        ("a sparse map", sparse()),
        ("folders", entries(b'5', &["bed-"], true)),
        ("links", entries(b'2', &["bed-"], true)),
        ("one folder again and again", entries(b'5', &["bed"], false)),
        ("zeros", huge(b'0', 0)),
    ];
    let garden = Garden::with(&[]);
    for (number, (what, packed)) in bombs.into_iter().enumerate() {
        let name = format!("bomb-{number}");
        let archive = format!("archives/{name}.tar.zst");
        fs::create_dir_all(garden.path("archives")).unwrap();
        fs::write(garden.path(&archive), packed).unwrap();
        garden.smuggle(&name, &archive);
        let ran = garden.run_within(&format!("-d {MEMORY}"), &["need", &name]);
        assert_eq!((ran.status, ran.code()), (6, "archive.refused"), "{what}: {ran}");
        assert!(ran.stderr.len() < 2_000, "{what}: {} bytes", ran.stderr.len());
        assert!(!garden.path("gate/bibliotax.lock").exists(), "{what}");
        fs::remove_file(garden.path(&archive)).unwrap();
    }
    assert_eq!(fs::read_dir(garden.path("store/incoming")).unwrap().count(), 0);
}
