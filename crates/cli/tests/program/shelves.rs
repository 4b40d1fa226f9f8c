//! The shelf: when it is known to be right, how files get there, and what is noticed of harm to it or to the store.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use insta::assert_snapshot;

use crate::garden::Garden;

fn garden() -> Garden {
    let garden =
        Garden::needing(&["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0"], "rain-ledger = \"2.4 .. 3\"");
    garden.run(&["install"]).expect(0);
    garden
}

/// The store's own file of this name.
fn stored(garden: &Garden, name: &str) -> PathBuf {
    let found =
        std::process::Command::new("find").arg(garden.path("store/trees")).args(["-name", name]).output();
    PathBuf::from(String::from_utf8(found.unwrap().stdout).unwrap().trim())
}

/// Writes to a read-only file as somebody could who is set on it.
fn overwrite(path: &Path, text: &str) {
    fs::set_permissions(path, fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(path, text).unwrap();
    fs::set_permissions(path, fs::Permissions::from_mode(0o444)).unwrap();
}

#[test]
fn nothing_to_do_is_known_without_registry_and_store() {
    let garden = garden();
    for gone in ["seedhouse", "store"] {
        fs::rename(garden.path(gone), garden.path(&format!("{gone}-away"))).unwrap();
    }
    assert_snapshot!(garden.run(&["install"]), @"
    shelf: nothing to do, all 2 packages are there
    ----- status 0
    ");
    assert!(!garden.path("store").exists(), "not even looked for");
    let told = garden.run(&["install", "--sealed", "--format", "json"]).expect(0).json();
    assert_eq!(told["shelf"]["kept"], 2);
}

#[test]
fn whatever_is_done_to_a_shelf_the_next_install_puts_right() {
    let garden = garden();
    let right = garden.shelf();
    let package = garden.path("gate/shelf/dew-point");
    let elsewhere = garden.path("elsewhere");
    let links = garden.path("gate/shelf/links/gate-kiosk.env");
    let harms: [(&str, &dyn Fn()); 7] = [
        ("a package is gone", &|| fs::remove_dir_all(&package).unwrap()),
        ("half of one is gone", &|| fs::remove_file(package.join("dew-point.txt")).unwrap()),
        ("something was added to one", &|| fs::write(package.join("notes.txt"), "mine").unwrap()),
        ("one is a link to elsewhere", &|| {
            fs::rename(&package, &elsewhere).unwrap();
            symlink(&elsewhere, &package).unwrap();
        }),
        ("one is a file", &|| {
            fs::remove_dir_all(&package).unwrap();
            fs::write(&package, "no folder").unwrap();
        }),
        ("links are gone", &|| fs::remove_file(&links).unwrap()),
        ("links were edited", &|| fs::write(&links, "BIBLIOTAX_ROLE_INCLUDE=/elsewhere\n").unwrap()),
    ];
    for (harm, make) in harms {
        let before = fs::read_to_string(&links).unwrap();
        make();
        garden.run(&["install"]).expect(0);
        assert_eq!((garden.shelf(), fs::read_to_string(&links).unwrap()), (right.clone(), before), "{harm}");
        assert!(fs::symlink_metadata(&package).unwrap().is_dir(), "{harm}");
        assert!(garden.run(&["install"]).expect(0).stdout.contains("nothing to do"), "{harm}");
        garden.run(&["verify"]).expect(0);
        let _ = fs::remove_dir_all(&elsewhere);
    }
}

#[test]
fn the_administrator_can_not_write_into_the_store_through_the_shelf() {
    let garden = garden();
    let own = stored(&garden, "dew-point.txt");
    let file = garden.path("gate/shelf/dew-point/dew-point.txt");
    let is_same_file = fs::metadata(&file).unwrap().ino() == fs::metadata(&own).unwrap().ino();
    let may_write = fs::File::options().append(true).open(&own).is_ok();
    assert!(!(is_same_file && may_write), "who can write to read-only files gets copies");
    overwrite(&file, "mine\n");
    if may_write {
        assert_eq!(fs::read_to_string(&own).unwrap(), "dew-point 1.4.0\n");
    }
}

#[test]
fn files_get_there_as_the_manifest_says() {
    let garden = garden();
    let manifest = garden.read("gate/bibliotax.toml");
    let file = garden.path("gate/shelf/dew-point/dew-point.txt");
    let own = stored(&garden, "dew-point.txt");
    let is_same_file = || fs::metadata(&file).unwrap().ino() == fs::metadata(&own).unwrap().ino();
    for (way, shares) in [("hard", true), ("copy", false), ("hard", true)] {
        garden.write("gate/bibliotax.toml", &format!("{manifest}\n[shelf]\nlink = \"{way}\"\n"));
        garden.run(&["install"]).expect(0);
        assert_eq!(is_same_file(), shares, "{way}");
        assert_eq!(fs::metadata(&file).unwrap().mode() & 0o777, 0o444);
        garden.run(&["verify", "--full"]).expect(0);
    }
    // A copy may be made writable and edited, and the store's own stays as it is.
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[shelf]\nlink = \"copy\"\n"));
    garden.run(&["install"]).expect(0);
    overwrite(&file, "mine\n");
    assert_eq!(fs::read_to_string(&own).unwrap(), "dew-point 1.4.0\n");
    garden.run(&["verify"]).expect(1);
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[shelf]\nlink = \"soft\"\n"));
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: `soft` isn't a way of putting files on the shelf  (manifest.link)
      at bibliotax.toml:11:8
        10: [shelf]
        11: link = "soft"
                   ~~~~~~
    try: valid here: `auto`, `reflink`, `hard` or `copy`
    ----- status 3
    "#);
}

#[test]
fn a_damaged_copy_in_the_store_is_noticed_when_it_is_used_and_fetched_again() {
    let garden = garden();
    let own = stored(&garden, "dew-point.txt");
    let harms: [&dyn Fn(); 4] = [
        &|| overwrite(&own, "dew-point 1.4.1\n"),
        &|| overwrite(&own, ""),
        &|| fs::remove_file(&own).unwrap(),
        &|| fs::write(own.parent().unwrap().parent().unwrap().join("listing.json"), "{").unwrap(),
    ];
    for harm in harms {
        fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
        harm();
        let ran = garden.run(&["install"]).expect(0);
        assert!(ran.stderr.contains("dew-point is damaged in the store; downloading it again"), "{ran}");
        assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
        garden.run(&["store", "check"]).expect(0);
    }
}

/// Changes a byte of a file as a failing disk does: neither its size nor its time tells.
fn flip(file: &Path) {
    let before = fs::metadata(file).unwrap().modified().unwrap();
    let mut bytes = fs::read(file).unwrap();
    bytes[0] ^= 1;
    overwrite(file, std::str::from_utf8(&bytes).unwrap());
    fs::File::open(file).unwrap().set_modified(before).unwrap();
}

/// Lets a tree in the store look as if its bytes had last been read so many days ago.
fn last_read(file: &Path, days: u64) {
    let listing = file.parent().unwrap().parent().unwrap().join("listing.json");
    let then = std::time::SystemTime::now() - std::time::Duration::from_hours(24 * days);
    fs::File::open(listing).unwrap().set_modified(then).unwrap();
}

#[test]
fn bytes_that_were_not_read_for_a_week_are_read_before_they_reach_the_shelf() {
    let garden = garden();
    let own = stored(&garden, "dew-point.txt");
    for days in [8, 400] {
        fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
        flip(&own);
        last_read(&own, days);
        let ran = garden.run(&["install"]).expect(0);
        assert!(ran.stderr.contains("dew-point is damaged in the store; downloading it again"), "{ran}");
        assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
    }
    // What was read is not read again for a while.
    last_read(&own, 8);
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["install"]).expect(0);
    let listing = own.parent().unwrap().parent().unwrap().join("listing.json");
    let noted = fs::metadata(listing).unwrap().modified().unwrap();
    assert!(noted.elapsed().unwrap() < std::time::Duration::from_hours(1));
}

#[test]
fn a_full_install_reads_every_byte_and_a_copy_always_does() {
    let garden = garden();
    let manifest = garden.read("gate/bibliotax.toml");
    garden.with_hard_links();
    let own = stored(&garden, "dew-point.txt");
    flip(&own);
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["install", "--sealed"]).expect(0);
    assert_ne!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"], "this is what is not promised");
    let ran = garden.run(&["install", "--sealed", "--full"]).expect(0);
    assert!(ran.stderr.contains("dew-point is damaged in the store; downloading it again"), "{ran}");
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
    garden.run(&["verify", "--full", "--store"]).expect(0);
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[shelf]\nlink = \"copy\"\n"));
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    flip(&own);
    let ran = garden.run(&["install"]).expect(0);
    assert!(ran.stderr.contains("downloading it again"), "{ran}");
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
}

#[test]
fn verifying_trusts_size_and_time_unless_all_is_to_be_read() {
    let garden = garden();
    garden.with_hard_links();
    let file = garden.path("gate/shelf/dew-point/dew-point.txt");
    let before = fs::metadata(&file).unwrap().modified().unwrap();
    overwrite(&file, "dew-point 1.4.1\n");
    let opened = fs::File::open(&file).unwrap();
    opened.set_modified(before).unwrap();
    garden.run(&["verify"]).expect(0);
    let found = garden.run(&["verify", "--full", "--store", "--format", "json"]).expect(1).json();
    assert_eq!(
        (&found["findings"][0]["code"], &found["findings"][1]["code"], &found["findings"][1]["package"]),
        (&"shelf.changed".into(), &"store.damaged".into(), &"dew-point".into())
    );
    opened.set_modified(before + std::time::Duration::from_secs(1)).unwrap();
    assert_snapshot!(garden.run(&["verify", "--store"]), @"
    shelf: 1 difference from what was installed (2 packages, 2 files)
      changed  dew-point  dew-point.txt
    store: 1 damaged copy
      damaged  dew-point  2625b6f9f5e8
    next: `bibliotax verify --repair` restores the files
    ----- status 1
    ");
    assert_snapshot!(garden.run(&["verify", "--store", "--repair"]), @"
    shelf: 1 difference from what was installed (2 packages, 2 files)
      changed  dew-point  dew-point.txt
    store: 1 damaged copy
      damaged  dew-point  2625b6f9f5e8
    shelf: 1 package installed, 1 already there (TIME)
    ----- stderr
    warning: archive 2625b6f9f5e8 is damaged in the store; downloading it again
    ----- status 0
    ");
    garden.run(&["verify", "--full", "--store"]).expect(0);
}
