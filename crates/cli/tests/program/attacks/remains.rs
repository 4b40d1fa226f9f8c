//! What processes that were killed leave behind, and uploads that never become a release: counted, shown, and cleared once nobody
//! holds them.

use std::fs::{self, File};
use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::time::{Duration, SystemTime};

use bibliotax_core::digest::Digest;

use crate::garden::Garden;
use crate::server::{Place, Served, serve, serve_with};

/// Makes a file, last changed so many hours ago.
fn aged(path: &Path, bytes: usize, hours: u64) -> File {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    let mut file = File::create(path).unwrap();
    file.write_all(&vec![7; bytes]).unwrap();
    file.set_modified(SystemTime::now() - Duration::from_hours(hours)).unwrap();
    file
}

fn age(folder: &Path, hours: u64) {
    File::open(folder).unwrap().set_modified(SystemTime::now() - Duration::from_hours(hours)).unwrap();
}

#[test]
fn what_killed_runs_left_in_the_store_is_shown_and_goes_unless_somebody_holds_it() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    garden.run(&["install"]).expect(0);
    let place = |path: &str| garden.path("store").join(path);
    let half = place("incoming/tree-dead");
    aged(&half.join("files/moss"), 5000, 2);
    age(&half, 2);
    let live = place("incoming/tree-live");
    fs::create_dir_all(&live).unwrap();
    age(&live, 2);
    let held = File::open(&live).unwrap();
    held.try_lock().unwrap();
    aged(&place("registries/answers/.tmpdead"), 3000, 2);
    let shown = garden.run(&["store", "show"]).expect(0);
    assert!(shown.stdout.contains("left behind") && shown.stdout.contains("7.8 KiB"), "{shown}");
    let output = garden.run(&["store", "show", "--format", "json"]).expect(0).json();
    assert_eq!(output["left-behind"], 8000);
    // An install clears what stands where it works.
    garden.publish(&["soil-probe 1.0.0"]);
    garden.run(&["need", "soil-probe"]).expect(0);
    assert!(!half.exists() && live.exists());
    assert!(place("registries/answers/.tmpdead").exists());
    let trimmed = garden.run(&["store", "trim"]).expect(0);
    assert!(trimmed.stdout.contains("remains of runs"), "{trimmed}");
    assert!(!place("registries/answers/.tmpdead").exists() && live.exists());
    // Beside the manifest, too.
    aged(&garden.path("gate/.bibliotax-dead"), 10, 2);
    garden.run(&["drop", "soil-probe"]).expect(0);
    assert!(!garden.path("gate/.bibliotax-dead").exists());
}

#[test]
fn what_killed_publishers_left_in_a_registry_is_shown_and_goes_unless_somebody_holds_it() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let dead = garden.path("seedhouse/private/.staged-dead");
    aged(&dead, 4096, 2);
    let live = garden.path("seedhouse/private/.staged-live");
    let held = aged(&live, 4096, 2);
    held.try_lock().unwrap();
    let looked = garden.path("seedhouse/private/.look-dead");
    aged(&looked.join("moss"), 4096, 2);
    age(&looked, 2);
    let checked = garden.run_in(".", &["registry", "check", "seedhouse"]).expect(0);
    assert!(
        checked.stdout.contains("2 temporary files left behind by processes that were killed (8.0 KiB)"),
        "{checked}"
    );
    garden.run_in(".", &["registry", "check", "seedhouse", "--repair"]).expect(0);
    assert!(!dead.exists() && !looked.exists() && live.exists());
    drop(held);
    let _served = serve(&garden);
    assert!(!live.exists(), "a server clears when it starts");
}

/// Uploads a file; the status of the answer, and its body.
fn upload(served: &Served, token: &str, bytes: &[u8]) -> (u32, String) {
    let address = served.url.trim_start_matches("http://").trim_end_matches('/');
    let mut stream = TcpStream::connect(address).unwrap();
    let head = format!(
        "PUT /api/v1/files/{} HTTP/1.1\r\nhost: {address}\r\nauthorization: Bearer {token}\r\n\
         connection: close\r\ncontent-length: {}\r\n\r\n",
        Digest::of(bytes),
        bytes.len()
    );
    stream.write_all(head.as_bytes()).unwrap();
    // A server that refuses it doesn't read it.
    let _ = stream.write_all(bytes);
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    let status = answer.split(' ').nth(1).unwrap_or("0").parse().unwrap();
    (status, answer)
}

#[test]
fn uploads_without_a_release_have_a_quota_and_an_age() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let token = Place::folder().token(&garden);
    let served = serve_with(&garden, &["--listen", "127.0.0.1:0", "--uploads", "10k"]).unwrap();
    for byte in [1, 2] {
        assert_eq!(upload(&served, &token, &vec![byte; 4000]).0, 201);
    }
    let (status, answer) = upload(&served, &token, &[3; 4000]);
    assert!(status == 507 && answer.contains("upload.no-room"), "{answer}");
    drop(served);
    let checked = garden.run_in(".", &["registry", "check", "seedhouse"]).expect(0);
    assert!(checked.stdout.contains("2 uploads without a release yet (7.8 KiB)"), "{checked}");
    let marks = garden.path("seedhouse/private/uploaded");
    // A file of a release stays, even if a mark says that it is temporary.
    let history = garden.read("seedhouse/packages/c2/dew-point.jsonl");
    let entry: serde_json::Value = serde_json::from_str(history.lines().next().unwrap()).unwrap();
    let released = entry["files"][0]["sha256"].as_str().unwrap();
    File::create(marks.join(released)).unwrap();
    for mark in fs::read_dir(&marks).unwrap() {
        let mark = File::options().write(true).open(mark.unwrap().path()).unwrap();
        mark.set_modified(SystemTime::now() - Duration::from_hours(49)).unwrap();
    }
    garden.run_in(".", &["registry", "check", "seedhouse", "--repair"]).expect(0);
    let checked = garden.run_in(".", &["registry", "check", "seedhouse"]).expect(0);
    assert!(!checked.stdout.contains("upload") && !checked.stdout.contains("of no release"), "{checked}");
    garden.write("gate/bibliotax.toml", &(garden.read("gate/bibliotax.toml") + "dew-point = \"1\"\n"));
    garden.run(&["install"]).expect(0);
}

#[test]
fn an_upload_that_was_given_up_is_asked_for_again() {
    let garden = Garden::with(&[]);
    let token = Place::folder().token(&garden);
    let served = serve(&garden);
    let bytes = vec![9; 3000];
    assert_eq!(upload(&served, &token, &bytes).0, 201);
    assert_eq!(upload(&served, &token, &bytes).0, 200, "it is here");
    let marks = garden.path("seedhouse/private/uploaded");
    let mark = fs::read_dir(&marks).unwrap().next().unwrap().unwrap().path();
    let old = SystemTime::now() - Duration::from_hours(25);
    File::options().write(true).open(&mark).unwrap().set_modified(old).unwrap();
    assert_eq!(upload(&served, &token, &bytes).0, 201, "it was given up, and comes again");
    assert_eq!(upload(&served, &token, &bytes).0, 200);
}
