//! The server against clients that send half, too much, too slowly, the wrong bytes, or what is not theirs to send.

use bibliotax_registry::model::storage::ReadRegistryExt;
use std::io::{Read, Write};
use std::thread;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_server::{Limits, Rate};
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::server::{Server, status};

fn tar(path: &str, contents: &[u8]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_mode(0o644);
    header.set_size(contents.len() as u64);
    let name = &mut header.as_gnu_mut().unwrap().name;
    name[..path.len()].copy_from_slice(path.as_bytes());
    header.set_cksum();
    builder.append(&header, contents).unwrap();
    builder.into_inner().unwrap()
}

fn card(version: &str, archive: &[u8]) -> Value {
    json!({ "name": "moss-map", "version": version, "published": "2020-01-01T00:00:00Z", "license": "MIT",
        "files": [{ "sha256": Digest::of(archive), "size": archive.len(), "format": "tar" }] })
}

#[test]
fn a_release_is_taken_whole_at_the_servers_own_time_and_once() {
    let server = Server::new();
    let archive = tar("moss.c", b"int moss;\n");
    let body = card("1.0.0", &archive);
    let (status, said) = server.ask("POST", "/api/v1/releases", "", body.to_string().as_bytes());
    assert_eq!((status, said["code"].as_str()), (409, Some("upload.missing")), "{said}");
    server.put(&archive);
    assert_eq!(server.ask("POST", "/api/v1/releases", "", body.to_string().as_bytes()).0, 201);
    assert_eq!(
        server.ask("POST", "/api/v1/releases", "", body.to_string().as_bytes()).0,
        200,
        "the same again is fine"
    );
    let history = server.registry.history(&"moss-map".parse().unwrap()).unwrap().unwrap();
    let age = Timestamp::now().duration_since(history.releases()[0].entry.published);
    assert!(age.as_secs() < 60, "a card can't say itself when it was published");
    let mut other = body.clone();
    other["license"] = "0BSD".into();
    let (status, said) = server.ask("POST", "/api/v1/releases", "", other.to_string().as_bytes());
    assert_eq!(
        (status, said["there"]["license"].as_str()),
        (409, Some("MIT")),
        "the answer lists what exists: {said}"
    );
}

#[test]
fn what_no_package_may_hold_or_nobody_may_say_is_refused() {
    let server = Server::new();
    let good = tar("moss.c", b"int moss;\n");
    let bad = tar("../moss.c", b"int moss;\n");
    server.put(&good);
    server.put(&bad);
    server.put(b"no archive");
    let with = |change: fn(&mut Value)| {
        let mut card = card("1.0.0", &tar("moss.c", b"int moss;\n"));
        change(&mut card);
        card.to_string()
    };
    let rows = [
        (card("1.0.0", &bad).to_string(), 422, "archive.refused"),
        (card("1.0.0", b"no archive").to_string(), 422, "archive.refused"),
        (with(|card| card["name"] = "shade".into()), 403, "token.not-for-that"),
        (with(|card| card["name"] = "Moss".into()), 422, "server.bad-json"),
        (with(|card| card["secret"] = 1.into()), 422, "server.bad-json"),
        (with(|card| card["exposes"] = json!({ "include": ["gone"] })), 422, "card.exposes-nothing"),
        (with(|card| card["fits"] = json!({ "orchid": "1" })), 422, "card.facet"),
        (with(|card| card["files"][0]["size"] = 1.into()), 422, "archive.refused"),
        (with(|card| card["components"] = json!({ "trace": { "parts": ["trace"] } })), 422, "card.no-part"),
        ("{".to_owned(), 422, "server.bad-json"),
        (format!("{{\"name\":\"{}\"}}", "m".repeat(20 << 10)), 413, "server.too-large"),
    ];
    for (body, expected, code) in rows {
        let (status, said) = server.ask("POST", "/api/v1/releases", "", body.as_bytes());
        assert_eq!((status, said["code"].as_str()), (expected, Some(code)), "{said}");
    }
    assert!(
        server
            .registry
            .history(&"moss-map".parse().unwrap())
            .unwrap()
            .is_none_or(|history| history.releases().is_empty())
    );
}

#[test]
fn an_upload_goes_on_where_it_broke_off_and_wrong_bytes_are_thrown_away() {
    let server = Server::with_patience(Duration::from_secs(1));
    let bytes: Vec<u8> = (0..100_000_u32).flat_map(u32::to_le_bytes).collect();
    let digest = Digest::of(&bytes);
    let path = format!("/api/v1/files/{digest}");
    let head = format!(
        "PUT {path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {}\r\ncontent-length: {}\r\n\r\n",
        server.token,
        bytes.len()
    );
    let mut stream = server.connect();
    stream.write_all(&[head.as_bytes(), &bytes[..150_000]].concat()).unwrap();
    // Silence in the middle, and then the line is dead.
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    assert_eq!(status(&answer), 400, "{answer}");
    let looked = server.say(
        format!(
            "HEAD {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\nauthorization: Bearer {}\r\n\r\n",
            server.token
        )
        .as_bytes(),
    );
    let offset: usize =
        looked.lines().find_map(|line| line.strip_prefix("upload-offset: ")).unwrap().parse().unwrap();
    assert!(status(&looked) == 404 && offset > 0 && offset <= 150_000, "{looked}");
    let range = |from: usize| format!("content-range: bytes {from}-{}/{}\r\n", bytes.len() - 1, bytes.len());
    let (status, said) = server.ask("PUT", &path, &range(offset + 1), &bytes[offset + 1..]);
    assert_eq!((status, said["there"].as_u64()), (409, Some(offset as u64)), "{said}");
    assert_eq!(server.ask("PUT", &path, &range(offset), &bytes[offset..]).0, 201);
    assert!(server.registry.has_file(&digest).unwrap());
    assert_eq!(server.ask("PUT", &path, "", &bytes).0, 200, "what is there is not sent twice");
    let other = format!("/api/v1/files/{}", Digest::of(b"something else"));
    let (status, said) = server.ask("PUT", &other, "", b"not that");
    assert_eq!((status, said["code"].as_str()), (422, Some("upload.wrong-bytes")));
    assert_eq!(server.registry.uploaded(&Digest::of(b"something else")).unwrap(), 0);
    let (status, said) = server.ask("PUT", &other, "content-range: bytes 0-7/2000000\r\n", b"too long");
    assert_eq!((status, said["code"].as_str()), (413, Some("upload.too-large")));
    assert_eq!(server.ask("PUT", &other, "content-range: bytes 9-3/8\r\n", b"reversed").0, 400);
}

#[test]
fn whoever_is_slow_loud_or_does_not_speak_http_is_let_go() {
    let server = Server::with_patience(Duration::from_secs(1));
    let mut stream = server.connect();
    stream.write_all(b"GET /registry.json HTTP/1.1\r\nhost: x\r\nx-slow: ").unwrap();
    let mut answer = String::new();
    assert!(stream.read_to_string(&mut answer).is_ok(), "a head that never ends is not waited for");
    assert!(matches!(status(&answer), 0 | 408), "{answer}");
    let huge = format!("GET /registry.json HTTP/1.1\r\nhost: x\r\nx-huge: {}\r\n\r\n", "x".repeat(100 << 10));
    assert!(matches!(status(&server.say(huge.as_bytes())), 0 | 431), "a head has its size");
    assert!(matches!(status(&server.say(b"\x16\x03\x01 is TLS \r\n\r\n")), 0 | 400));
    for path in [
        "/files/../private/tokens.jsonl",
        "/files/%2e%2e/private/tokens.jsonl",
        "/private/tokens.jsonl",
        "/packages/aa/../../private/log.jsonl",
        "//etc/passwd",
        "/files/aa/",
        "/packages/00/moss-map.jsonl",
    ] {
        let answer =
            server.say(format!("GET {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").as_bytes());
        assert_eq!(status(&answer), 404, "{path}: {answer}");
    }
    for (method, path, expected) in [
        ("DELETE", "/registry.json", 405),
        ("POST", "/files/aa", 405),
        ("GET", "/api/v1/releases", 405),
        ("PUT", "/api/v1/files/none", 404),
        ("POST", "/api/v1/nothing", 404),
    ] {
        assert_eq!(server.ask(method, path, "", b"").0, expected, "{method} {path}");
    }
    assert_eq!(server.ask("GET", "/healthz", "", b"").0, 200, "and it is still well");
}

#[test]
fn tokens_are_wanted_and_guessing_them_has_a_limit() {
    let limits = Limits { rate: Rate { steady: 0.5, burst: 5.0 }, ..Limits::default() };
    let server = Server::within(limits);
    let guess = |text: &str| {
        let head = format!(
            "POST /api/v1/releases HTTP/1.1\r\nhost: x\r\nconnection: close\r\nauthorization: {text}\r\ncontent-length: 2\r\n\r\n{{}}"
        );
        server.say(head.as_bytes())
    };
    for wrong in ["", "Basic bWU6bWU=", "Bearer", "Bearer bibliotax-1-2", "Bearer \u{e9}"] {
        assert!(matches!(status(&guess(wrong)), 400 | 401), "{wrong}");
    }
    let answers: Vec<String> =
        (0..8).map(|number| guess(&format!("Bearer bibliotax-{number}-guess"))).collect();
    let limited = answers.iter().find(|answer| status(answer) == 429).unwrap();
    assert!(limited.contains("retry-after: "), "{limited}");
    assert_eq!(
        server.ask("POST", "/api/v1/releases", "", b"{}").0,
        422,
        "who has a token is not held up by others"
    );
}

#[test]
fn a_request_under_way_is_answered_when_the_server_stops() {
    let mut server = Server::new();
    let bytes = vec![7; 300_000];
    let path = format!("/api/v1/files/{}", Digest::of(&bytes));
    let mut stream = server.connect();
    let head = format!(
        "PUT {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\nauthorization: Bearer {}\r\ncontent-length: {}\r\n\r\n",
        server.token,
        bytes.len()
    );
    stream.write_all(&[head.as_bytes(), &bytes[..100_000]].concat()).unwrap();
    while server.registry.uploaded(&Digest::of(&bytes)).unwrap() == 0 {
        thread::yield_now();
    }
    server.stop.take().unwrap().send(()).unwrap();
    stream.write_all(&bytes[100_000..]).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    assert_eq!(status(&answer), 201, "{answer}");
}

#[test]
fn behind_a_proxy_each_client_has_a_limit_of_its_own() {
    let rate = Rate { steady: 0.01, burst: 2.0 };
    for (is_behind_proxy, wanted) in [(true, [200, 200, 429, 200]), (false, [200, 200, 429, 429])] {
        let server = Server::within(Limits { rate, is_behind_proxy, ..Limits::default() });
        let ask = |client: &str| {
            let head =
                format!("GET /api/v1/find?q=moss HTTP/1.1\r\nhost: x\r\nconnection: close\r\n{client}\r\n");
            status(&server.say(head.as_bytes()))
        };
        let one = "x-forwarded-for: 192.0.2.1, 198.51.100.7\r\n";
        let other = "x-forwarded-for: 198.51.100.7, 192.0.2.1\r\n";
        assert_eq!([ask(one), ask(one), ask(one), ask(other)], wanted);
    }
}

#[test]
fn a_token_claims_no_capability_that_it_is_not_for() {
    let server = Server::new();
    let archive = tar("moss.c", b"int moss;");
    let file = server.put(&archive);
    let card = |capability: &str| {
        json!({ "name": "moss-map", "version": "1.0.0", "published": "2026-01-01T00:00:00Z",
            "provides": [{ "name": capability }],
            "files": [{ "part": "main", "sha256": file, "size": archive.len(), "format": "tar" }] })
    };
    let ask = |capability: &str| {
        server.ask("POST", "/api/v1/releases", "", card(capability).to_string().as_bytes())
    };
    let (status, output) = ask("day-clock");
    assert_eq!((status, &output["code"]), (403, &json!("token.not-for-that")), "{output}");
    let (status, output) = ask("moss-maps");
    assert_eq!(status, 201, "{output}");
}
