//! Refusals that no other test meets, each with its code.

use std::io::Write;
use std::path::Path;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_registry::model::layout::history_path;
use bibliotax_server::{Limits, Rate};

use crate::server::{Server, status};

/// The code of a refusal, with its status.
fn refused(server: &Server, method: &str, path: &str) -> (u16, String) {
    let (status, said) = server.ask(method, path, "", b"");
    (status, said["code"].as_str().unwrap_or_default().to_owned())
}

fn files_below(folder: &Path) -> usize {
    let entries = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
    entries.map(|path| if path.is_dir() { files_below(&path) } else { 1 }).sum()
}

#[test]
fn requests_that_make_no_sense_are_refused_by_code() {
    let server = Server::new();
    let some = Digest::of(b"moss");
    assert_eq!(refused(&server, "GET", "/api/v1/nothing"), (404, "server.not-found".to_owned()));
    assert_eq!(refused(&server, "POST", "/registry.json"), (405, "server.method".to_owned()));
    for (method, path, allowed) in [
        ("POST", "/registry.json", "GET,HEAD"),
        ("DELETE", "/", "GET,HEAD"),
        ("GET", "/api/v1/releases", "POST"),
        ("GET", &format!("/api/v1/files/{some}"), "HEAD,PUT"),
    ] {
        let answer = server
            .say(format!("{method} {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").as_bytes());
        assert_eq!(status(&answer), 405, "{answer}");
        assert!(answer.contains(&format!("allow: {allowed}\r\n")), "{answer}");
    }
    assert_eq!(refused(&server, "DELETE", "/kettle"), (404, "server.not-found".to_owned()));
    let range = "content-range: bytes 9-1/4\r\n";
    let (code, said) = server.ask("PUT", &format!("/api/v1/files/{some}"), range, b"moss");
    assert_eq!((code, &said["code"]), (400, &"server.bad-request".into()));
}

#[test]
fn an_upload_says_how_long_it_is() {
    let server = Server::new();
    let some = Digest::of(b"moss");
    let head = format!(
        "PUT /api/v1/files/{some} HTTP/1.1\r\nhost: x\r\nconnection: close\r\nauthorization: Bearer {}\r\n\
         transfer-encoding: chunked\r\n\r\n4\r\nmoss\r\n0\r\n\r\n",
        server.token
    );
    let answer = server.say(head.as_bytes());
    assert_eq!(status(&answer), 411, "{answer}");
    assert!(answer.contains("upload.no-length"), "{answer}");
}

#[test]
fn a_file_is_uploaded_by_one_client_at_a_time() {
    let server = Server::within(Limits { silence: Duration::from_secs(60), ..Limits::default() });
    let some = Digest::of(b"moss");
    let path = format!("/api/v1/files/{some}");
    let files = files_below(&server.folder());
    let mut first = server.connect();
    let head = format!(
        "PUT {path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {}\r\ncontent-length: 4\r\n\r\nmo",
        server.token
    );
    first.write_all(head.as_bytes()).unwrap();
    // The first upload begins when the server has read its head: then there is a file more.
    let begun = (0..2000).any(|_| {
        std::thread::sleep(Duration::from_millis(5));
        files_below(&server.folder()) > files
    });
    assert!(begun, "the first upload never began");
    let busy = server.ask("PUT", &path, "content-range: bytes 0-0/4\r\n", b"m");
    assert_eq!((busy.0, &busy.1["code"]), (409, &"upload.busy".into()));
}

#[test]
fn a_client_that_asks_too_much_is_refused_for_a_while() {
    let limits = Limits { rate: Rate { steady: 0.01, burst: 1.0 }, ..Limits::default() };
    let server = Server::within(limits);
    let codes: Vec<(u16, String)> = (0..4).map(|_| refused(&server, "GET", "/api/v1/find?q=moss")).collect();
    assert!(codes.contains(&(429, "server.too-many".to_owned())), "{codes:?}");
}

#[test]
fn an_answer_that_takes_too_long_is_given_up() {
    let server = Server::within(Limits { answer: Duration::from_millis(50), ..Limits::default() });
    // A pipe that nobody writes into: whoever reads it waits.
    let path = history_path(&"moss-map".parse().unwrap());
    let pipe = server.folder().join(&path);
    std::fs::create_dir_all(pipe.parent().unwrap()).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    assert_eq!(refused(&server, "GET", &format!("/{path}")), (503, "server.too-long".to_owned()));
    // The reader has to end before the server can.
    std::fs::write(&pipe, "").unwrap();
}

#[test]
fn a_server_whose_registry_is_gone_says_that_it_is_not_ready() {
    let server = Server::new();
    // The server itself may be writing there.
    while std::fs::rename(server.folder(), server.folder().with_extension("away")).is_err() {}
    assert_eq!(refused(&server, "GET", "/healthz"), (503, "server.not-ready".to_owned()));
}

#[test]
fn a_history_that_cannot_be_read_is_a_failure_of_the_server() {
    let server = Server::new();
    let path = history_path(&"moss-map".parse().unwrap());
    std::fs::create_dir_all(server.folder().join(&path)).unwrap();
    assert_eq!(refused(&server, "GET", &format!("/{path}")), (500, "server.broken".to_owned()));
}
