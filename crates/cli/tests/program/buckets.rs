//! Registries in buckets: made, filled, served by several, checked, mirrored.

use std::fs;

use serde_json::json;

use crate::garden::Garden;
use crate::served::{project, with_token};
use crate::server::{Buckets, Place};

#[test]
#[ignore = "needs the bucket server of `tests/bucket-server`, which `.ci/run` sets up"]
fn a_registry_in_a_bucket_does_all_that_one_in_a_folder_does() {
    let garden =
        Garden::with(&["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "dew-point 2.0.0: +wetness"]);
    let buckets = Buckets::start(&garden);
    let place = buckets.place("seedhouse");
    let mirrored = place.run(&garden, &["registry", "mirror", "seedhouse", &place.path]);
    assert_eq!((&mirrored["events"], &mirrored["files"]), (&json!(4), &json!(6)), "{mirrored}");
    assert_eq!(place.run(&garden, &["registry", "mirror", "seedhouse", &place.path])["events"], 0);
    assert_eq!(place.run(&garden, &["registry", "check", &place.path])["findings"], json!([]));

    let (token, here) =
        (place.token(&garden), place.try_to_serve(&garden, &["--listen", "127.0.0.1:0"]).unwrap());
    let there = place.try_to_serve(&garden, &["--listen", "127.0.0.1:0"]).unwrap();
    garden.run(&["need", "rain-ledger"]).expect(0);
    let packages = || garden.read("gate/bibliotax.lock").split_once("\"packages\"").unwrap().1.to_owned();
    let locked = packages();
    project(&garden, "gate", &here.url, "gate-kiosk", "1.0.0");
    garden.run(&["need", "rain-ledger"]).expect(0);
    assert_eq!(packages(), locked, "the same registry leads to the same lock");

    // Published here, and seen there at once.
    project(&garden, "author", &here.url, "moss-map", "1.0.0");
    garden.write("author/moss.c", "int moss;\n");
    let (status, ran) = with_token(&garden, "author", &["publish"], &token);
    assert_eq!(status, 0, "{ran}");
    garden.write("author/moss.c", "int other_moss;\n");
    project(&garden, "author", &there.url, "moss-map", "1.0.0");
    let (status, ran) = with_token(&garden, "author", &["publish"], &token);
    assert!(status != 0 && ran.contains("registry.exists"), "{ran}");
    let (status, ran) =
        with_token(&garden, "author", &["withdraw", "moss-map", "1.0.0", "--reason", "dry"], &token);
    assert_eq!(status, 0, "{ran}");
    project(&garden, "gate", &there.url, "gate-kiosk", "1.0.0");
    assert_eq!(garden.run(&["need", "moss-map"]).expect(4).code(), "resolve.conflict");
    assert_eq!(
        garden.run(&["find", "moss", "--format", "json"]).expect(0).json()["packages"][0]["name"],
        "moss-map"
    );
    drop((here, there));

    // Back into a folder, and into a new place.
    place.run(&garden, &["registry", "check", &place.path]);
    let tokens = place.run(&garden, &["registry", "token", "show", &place.path]);
    assert_eq!(tokens["tokens"].as_array().unwrap().len(), 1);
    let again = place.command(&garden, ".", &["registry", "create", &place.path]).output().unwrap();
    assert!(String::from_utf8_lossy(&again.stderr).contains("registry.not-empty"));
}

#[test]
#[ignore = "needs the bucket server of `tests/bucket-server`, which `.ci/run` sets up"]
fn an_upload_goes_on_at_another_server_where_it_broke_off() {
    use std::io::{Read, Write};
    use std::net::TcpStream;

    use bibliotax_core::digest::Digest;

    let garden = Garden::bare();
    let buckets = Buckets::start(&garden);
    let place = buckets.place("seedhouse");
    place.run(&garden, &["registry", "create", &place.path]);
    let token = place.token(&garden);
    let servers: Vec<_> =
        (0..2).map(|_| place.try_to_serve(&garden, &["--listen", "127.0.0.1:0"]).unwrap()).collect();
    let bytes: Vec<u8> = (0..20_000_000_u32).map(|number| (number % 251) as u8).collect();
    let digest = Digest::of(&bytes);
    let say = |server: usize, method: &str, headers: &str, body: &[u8]| {
        let address = servers[server].url.trim_start_matches("http://").trim_end_matches('/');
        let mut stream = TcpStream::connect(address).unwrap();
        let head = format!(
            "{method} /api/v1/files/{digest} HTTP/1.1\r\nhost: x\r\nconnection: close\r\nauthorization: Bearer {token}\r\n{headers}\r\n"
        );
        stream.write_all(&[head.as_bytes(), body].concat()).unwrap();
        if headers.contains(&format!("content-length: {}\r\n", bytes.len())) {
            // The connection goes before all was sent.
            return String::new();
        }
        let mut answer = String::new();
        let _ = stream.read_to_string(&mut answer);
        answer
    };
    // Half of it comes, and then the connection is gone.
    say(0, "PUT", &format!("content-length: {}\r\n", bytes.len()), &bytes[..9_000_000]);
    let reached = || {
        let answer = say(1, "HEAD", "", b"");
        let offset = answer.lines().find_map(|line| line.strip_prefix("upload-offset: ").map(str::to_owned));
        offset.map(|offset| offset.trim().parse::<usize>().unwrap())
    };
    let from = (0..500)
        .find_map(|_| {
            std::thread::sleep(std::time::Duration::from_millis(20));
            reached().filter(|from| *from > 0)
        })
        .unwrap();
    assert!(from <= 9_000_000);
    let range = format!("content-range: bytes {from}-{}/{}\r\n", bytes.len() - 1, bytes.len());
    let rest = &bytes[from..];
    let gap = say(
        1,
        "PUT",
        &format!("content-range: bytes 5-{}/{}\r\ncontent-length: 10\r\n", 14, bytes.len()),
        &bytes[5..15],
    );
    assert!(gap.contains("upload.gap"), "{gap}");
    let answer = say(1, "PUT", &format!("{range}content-length: {}\r\n", rest.len()), rest);
    assert!(answer.starts_with("HTTP/1.1 201"), "{answer}");
    assert!(say(0, "HEAD", "", b"").starts_with("HTTP/1.1 200"), "the other server has it as well");
    let uploads = garden.path("buckets/garden/seedhouse/private/uploads");
    let folders = fs::read_dir(uploads).unwrap().flatten();
    let left: Vec<_> = folders.flat_map(|folder| fs::read_dir(folder.path()).unwrap().flatten()).collect();
    let names: Vec<_> = left.iter().map(|file| file.file_name().into_string().unwrap()).collect();
    assert_eq!(names, [format!("whole-{}", bytes.len())], "no half is left");
}

#[test]
#[ignore = "needs the bucket server of `tests/bucket-server`, which `.ci/run` sets up"]
fn a_bucket_that_is_away_or_refuses_is_told_as_such() {
    let garden = Garden::bare();
    let buckets = Buckets::start(&garden);
    let place = buckets.place("seedhouse");
    let ran = |place: &Place, key: &str, value: &str| {
        let args = ["registry", "check", &place.path];
        let output = place.command(&garden, ".", &args).env(key, value).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let (status, refused) = ran(&place, "AWS_SECRET_ACCESS_KEY", "wrong");
    assert!(
        status == Some(5) && refused.contains("bucket.failed") && refused.contains("refuses"),
        "{refused}"
    );
    assert!(!refused.contains("wrong"), "no secret is printed");
    let (status, away) = ran(&place, "AWS_ENDPOINT", "http://127.0.0.1:9");
    assert!(status == Some(5) && away.contains("can't be reached"), "{away}");
    let (status, none) = ran(&place, "AWS_REGION", "garden");
    assert!(none.contains("registry.missing"), "{status:?} {none}");
}
