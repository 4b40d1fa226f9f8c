//! Shelves that somebody changed: what differs is noticed before anything is built with it, built again, and told.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use crate::garden::Garden;

/// A garden with a package that has a file two folders down on the shelf, and a task that prints it.
fn planted() -> Garden {
    let garden = Garden::needing(&["dew-point 1.4.0"], "soil-curve = \"1\"");
    let files: [(&str, &[u8]); 2] = [("include/soil/curve.h", b"int curve;\n"), ("soil.txt", b"soil\n")];
    garden.write_tar("archives/soil-curve.tar", &files);
    garden.load(
        "{\"name\":\"soil-curve\",\"version\":\"1.7.0\",\"published\":\"2026-03-01T09:00:00Z\",\"license\":\"MIT\",\
         \"files\":[{\"path\":\"archives/soil-curve.tar\"}]}\n",
    );
    let text = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!("{text}\n[tasks]\nbuild = {{ do = \"cat shelf/soil-curve/include/soil/curve.h\" }}\n"),
    );
    garden.run(&["install"]).expect(0);
    garden
}

fn header(garden: &Garden) -> PathBuf {
    garden.path("gate/shelf/soil-curve/include/soil/curve.h")
}

/// Writes to a file on the shelf in place, as somebody does who insists, and keeps its length.
fn force(path: &Path) {
    fs::set_permissions(path, fs::Permissions::from_mode(0o644)).unwrap();
    fs::write(path, "int wrong;\n").unwrap();
}

#[test]
fn a_file_that_was_removed_comes_back_with_the_next_install_of_either_kind() {
    for args in [&["install"][..], &["install", "--sealed"]] {
        let garden = planted();
        fs::remove_file(header(&garden)).unwrap();
        let ran = garden.run(args).expect(0);
        assert!(ran.stderr.contains("soil-curve changed on the shelf"), "{ran}");
        assert!(header(&garden).exists());
        assert!(garden.run(args).expect(0).stdout.contains("nothing to do"));
    }
}

#[test]
fn files_and_folders_that_were_added_inside_a_package_go_again() {
    let garden = planted();
    let stray = garden.path("gate/shelf/soil-curve/include/soil/stray");
    fs::create_dir(&stray).unwrap();
    garden.run(&["install"]).expect(0);
    assert!(!stray.exists());
}

#[test]
fn nothing_runs_with_a_file_that_was_written_to() {
    for args in [&["task", "build"][..], &["with", "--", "cat", "shelf/soil-curve/include/soil/curve.h"]] {
        let garden = planted();
        force(&header(&garden));
        let ran = garden.run(args).expect(0);
        assert!(ran.stdout.contains("int curve;") && !ran.stdout.contains("wrong"), "{ran}");
        assert!(ran.stderr.contains("soil-curve changed on the shelf"), "{ran}");
    }
    let garden = planted();
    force(&header(&garden));
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(fs::read_to_string(header(&garden)).unwrap(), "int curve;\n");
}

#[test]
fn a_file_that_all_projects_share_is_mended_in_the_store_first_and_who_shares_it_is_told() {
    let garden = planted();
    garden.with_hard_links();
    let manifest = garden.read("gate/bibliotax.toml").replace("gate-kiosk", "seed-kiosk");
    garden.write("seed/bibliotax.toml", &manifest);
    garden.run_in("seed", &["install"]).expect(0);
    force(&header(&garden));
    let ran = garden.run(&["verify"]).expect(1);
    assert!(ran.stdout.contains("damaged") && ran.stdout.contains("/seed"), "{ran}");
    let ran = garden.run(&["install", "--sealed"]).expect(0);
    assert!(ran.stderr.contains("/seed"), "{ran}");
    let ran = garden.run_in("seed", &["install", "--sealed"]).expect(0);
    assert!(!ran.stderr.contains("store's copy"), "the store is mended already: {ran}");
    assert_eq!(
        fs::read_to_string(garden.path("seed/shelf/soil-curve/include/soil/curve.h")).unwrap(),
        "int curve;\n"
    );
}

#[test]
fn verifying_a_shelf_that_is_not_there_tells_so_and_installs_only_where_it_is_to_repair() {
    let garden = planted();
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    fs::remove_dir_all(garden.path("store")).unwrap();
    let ran = garden.run(&["verify"]).expect(1);
    assert!(ran.stdout.contains("missing") && ran.stdout.contains("soil-curve"), "{ran}");
    assert!(!header(&garden).exists(), "{ran}");
    assert!(garden.run(&["verify"]).expect(1).stdout.contains("all of it"), "nothing came into the store");
    garden.run(&["verify", "--repair"]).expect(0);
    assert!(header(&garden).exists());
    garden.run(&["verify"]).expect(0);
}
