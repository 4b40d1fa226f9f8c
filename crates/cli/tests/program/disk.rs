//! Disks that refuse: full ones, and folders that can't be written.

use std::fs;
use std::path::PathBuf;

use crate::garden::Garden;
use crate::outside::needed;

#[test]
#[ignore = "needs a small disk, which `.ci/run` sets up"]
fn a_full_disk_in_the_middle_of_an_install_is_told_and_the_next_run_completes() {
    let disk = PathBuf::from(needed("BIBLIOTAX_TEST_SMALL_DISK"));
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"\nponds = \"1\"");
    garden.write_tar("ponds.tar", &[("ponds.bin", &vec![7; 600 << 10])]);
    garden.load("{\"name\":\"ponds\",\"version\":\"1.0\",\"published\":\"2026-03-01T09:00:00Z\",\"files\":[{\"path\":\"ponds.tar\"}]}\n");
    let store = disk.join("store");
    let install = || {
        let mut command = garden.command("gate", &["install"]);
        let output = command.env("BIBLIOTAX_STORE", &store).env("TMPDIR", garden.path(".")).output().unwrap();
        (output.status.code(), String::from_utf8(output.stderr).unwrap())
    };
    // Filled up to ever less: the store runs full at different steps of its work.
    for left in [0, 4, 8, 12, 16, 24, 32, 48, 64, 96, 128, 192, 256, 320, 384, 448, 500, 560] {
        let _ = fs::remove_dir_all(&store);
        let filler = disk.join("filler");
        let _ = fs::remove_file(&filler);
        fill_up(&disk, left);
        let (status, ran) = install();
        assert!(status == Some(74) && ran.contains("(disk.full)"), "with {left} KiB left: {status:?} {ran}");
        assert!(!garden.path("gate/bibliotax.lock").exists(), "nothing of the project was written");
        fs::remove_file(&filler).unwrap();
        assert_eq!(install().0, Some(0));
        assert_eq!(garden.shelf().len(), 2);
        fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
        fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    }
}

/// Fills the disk but for so many KiB.
fn fill_up(disk: &std::path::Path, left: usize) {
    use std::io::Write;
    let mut filler = fs::File::create(disk.join("filler")).unwrap();
    while filler.write_all(&[0; 4096]).is_ok() {}
    let length = filler.metadata().unwrap().len();
    filler.set_len(length.saturating_sub(left as u64 * 1024)).unwrap();
}

#[test]
#[ignore = "needs a read-only disk, which `.ci/run` sets up"]
fn a_project_that_can_not_be_written_is_told_and_can_still_be_looked_at() {
    let disk = PathBuf::from(needed("BIBLIOTAX_TEST_READ_ONLY_DISK"));
    let garden = Garden::bare();
    let project = disk.display().to_string();
    let ran = garden.run(&["install", "--directory", &project]).expect(74);
    assert_eq!(ran.code(), "disk.read-only", "{ran}");
    garden.run(&["install", "--dry-run", "--directory", &project]).expect(0);
}

#[cfg(unix)]
#[test]
fn a_shelf_that_becomes_unwritable_in_the_middle_is_told_and_completed_later() {
    let garden =
        Garden::needing(&["dew-point 1.4.0", "moss-map 1.0.0"], "dew-point = \"1\"\nmoss-map = \"1\"");
    // A folder where the state belongs stops the install after lock and store are written.
    garden.write("gate/shelf/.state.json/x", "in the way\n");
    let ran = garden.run(&["install"]).expect(74);
    assert!(ran.code().starts_with("disk."), "{ran}");
    fs::remove_dir_all(garden.path("gate/shelf/.state.json")).unwrap();
    garden.run(&["install"]).expect(0);
    garden.run(&["verify"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "moss-map 1.0.0"]);
}

#[cfg(unix)]
#[test]
fn a_store_that_can_not_be_a_folder_is_told_and_nothing_is_written() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    garden.write("store", "a file in the way\n");
    let ran = garden.run(&["install"]).expect(74);
    assert!(ran.code().starts_with("disk."), "{ran}");
    assert!(!garden.path("gate/bibliotax.lock").exists());
    fs::remove_file(garden.path("store")).unwrap();
    garden.run(&["install"]).expect(0);
}
