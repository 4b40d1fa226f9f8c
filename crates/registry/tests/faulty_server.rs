//! The client against servers that are slow, cut off, lie, answer too much, never end, or redirect elsewhere.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

mod lying;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::Digest;
use bibliotax_registry::RegistryError;
use bibliotax_registry::client::credentials::{Credential, CredentialRequest, Credentials};
use bibliotax_registry::client::http::Remote;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::model::release_status::Change;

use crate::lying::{Server, package, release, whole};

const DESCRIPTION: &str = "{\"format\":1,\"name\":\"seedhouse\",\"service\":\"api/v1\"}\n";

/// Has one token, for every registry.
struct Pocket;

impl Credentials for Pocket {
    fn find(&self, _: &CredentialRequest<'_>) -> Result<Option<Credential>, RegistryError> {
        Ok(Some(Credential::token("bibliotax-1-secret", "a pocket")))
    }
}

/// A server that describes itself properly, and behaves so with everything else: with the head of a request, how many there
/// were before, and the connection.
fn described(
    behaviour: impl Fn(&str, usize, &mut TcpStream) -> std::io::Result<()> + Send + Sync + 'static,
) -> Server {
    let before = AtomicUsize::new(0);
    Server::new(move |head, stream| {
        if head.contains("/registry.json") {
            return whole(stream, "200 OK", "", DESCRIPTION.as_bytes());
        }
        behaviour(head, before.fetch_add(1, Ordering::SeqCst), stream)
    })
}

fn open(server: &Server) -> Remote {
    open_waiting(server, Duration::from_secs(20))
}

/// Opens a registry that may say nothing for so long.
fn open_waiting(server: &Server, silence: Duration) -> Remote {
    let network =
        Network { credentials: Some(Arc::new(Pocket)), silence: Some(silence), ..Network::default() };
    Remote::open(&"seedhouse".parse().unwrap(), &server.url, &Default::default(), &network).unwrap()
}

/// How many requests there were beside those for the description.
fn requests(server: &Server) -> usize {
    server.count(|head| !head.contains("registry.json"))
}

/// Asks for a history; how many releases it has, or the code of the error.
fn asked(server: &Server) -> Result<usize, &'static str> {
    history_of(&open(server))
}

fn history_of(remote: &Remote) -> Result<usize, &'static str> {
    let history = remote.history(&package()).map_err(|error| error.code())?;
    Ok(history.map_or(0, |history| history.releases().len()))
}

#[test]
fn what_passes_is_tried_again_until_it_works() {
    let storms: [fn(usize, &mut TcpStream) -> std::io::Result<()>; 6] = [
        |_, stream| whole(stream, "503 Service Unavailable", "", b""),
        |_, stream| whole(stream, "500 Internal Server Error", "", b"oops"),
        |_, stream| whole(stream, "429 Too Many Requests", "retry-after: 0\r\n", b""),
        |_, _| Ok(()),
        |_, stream| write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: 500\r\n\r\n{{\"event\""),
        |turn, stream| {
            if turn % 2 == 0 { stream.write_all(b"HTTP/1.1 2") } else { stream.write_all(b"no http at all") }
        },
    ];
    for (number, storm) in storms.into_iter().enumerate() {
        let server = described(move |_, before, stream| {
            if before < 3 { storm(before, stream) } else { whole(stream, "200 OK", "", release().as_bytes()) }
        });
        assert_eq!((asked(&server), requests(&server)), (Ok(1), 4), "storm {number}");
    }
}

#[test]
fn what_stays_so_is_told_by_its_own_code_after_a_few_tries() {
    let rows: [(&str, &str, &str, usize); 6] = [
        ("503 Service Unavailable", "", "registry.refused", 5),
        ("429 Too Many Requests", "retry-after: 86400\r\n", "registry.refused", 1),
        ("403 Forbidden", "", "registry.refused", 1),
        ("302 Found", "location: /packages/again\r\n", "registry.unreachable", 5),
        (
            "301 Moved Permanently",
            "location: http://packages.seedhouse.example/x\r\n",
            "registry.unreachable",
            1,
        ),
        ("301 Moved Permanently", "location: ftp://127.0.0.1/x\r\n", "registry.unreachable", 1),
    ];
    for (status, headers, code, tries) in rows {
        let server = described(move |_, _, stream| whole(stream, status, headers, b"{}"));
        assert_eq!((asked(&server), requests(&server)), (Err(code), tries), "{status} {headers}");
    }
}

#[test]
fn a_server_that_falls_silent_is_not_waited_for_without_end() {
    let silent = described(|_, _, stream| stream.read(&mut [0]).map(drop));
    let asked = |server: &Server| history_of(&open_waiting(server, Duration::from_secs(1)));
    assert_eq!((asked(&silent), requests(&silent)), (Err("registry.unreachable"), 1));
    let in_the_middle = described(|_, before, stream| {
        if before == 2 {
            return whole(stream, "200 OK", "", release().as_bytes());
        }
        write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: 500\r\n\r\n{{\"event\"")?;
        stream.read(&mut [0]).map(drop)
    });
    assert_eq!((asked(&in_the_middle), requests(&in_the_middle)), (Ok(1), 3));
}

#[test]
fn answers_are_bounded_and_have_to_make_sense() {
    let endless = described(|head, _, stream| {
        if !head.contains("/packages/") {
            // A description without an end, as far as the client lets it go on.
            return Ok(());
        }
        write!(stream, "HTTP/1.1 200 OK\r\nconnection: close\r\n\r\n")?;
        loop {
            stream.write_all(&[b'x'; 1 << 16])?;
        }
    });
    assert_eq!(asked(&endless), Err("registry.wrong-answer"));
    let no_text = described(|_, _, stream| whole(stream, "200 OK", "", &[0xff, 0xfe, b'\n']));
    assert_eq!(asked(&no_text), Err("registry.wrong-answer"));
    let no_history = described(|_, _, stream| whole(stream, "200 OK", "", b"<html>\n"));
    assert_eq!(asked(&no_history), Err("registry.broken"));
    let nothing = described(|_, _, stream| whole(stream, "404 Not Found", "", b""));
    assert_eq!(asked(&nothing), Ok(0));
    let bomb = zstd::encode_all(&vec![b' '; 300 << 20][..], 1).unwrap();
    let bomb = described(move |_, _, stream| whole(stream, "200 OK", "content-encoding: zstd\r\n", &bomb));
    assert_eq!(asked(&bomb), Err("registry.wrong-answer"));
}

#[test]
fn an_archive_is_taken_up_where_the_connection_broke_and_never_longer_than_it_is() {
    let bytes: Vec<u8> = (0..200_000_u32).flat_map(u32::to_le_bytes).collect();
    let archive = Archive::new(Digest::of(&bytes), bytes.len() as u64, ArchiveFormat::Tar);
    let sent = bytes.clone();
    let server = described(move |head, _, stream| {
        let from =
            head.lines().find_map(|line| line.strip_prefix("range: bytes=")?.strip_suffix('-')?.parse().ok());
        let (from, whole): (usize, usize) = (from.unwrap_or(0), sent.len());
        let status = if from == 0 { "200 OK" } else { "206 Partial Content" };
        let left = whole - from;
        write!(
            stream,
            "HTTP/1.1 {status}\r\ncontent-length: {left}\r\ncontent-range: bytes {from}-{}/{whole}\r\n\r\n",
            whole - 1
        )?;
        // A good piece, and then nothing more.
        stream.write_all(&sent[from..(from + 150_000).min(whole)])
    });
    let mut read = Vec::new();
    open(&server).open_archive(&archive, 0).unwrap().read_to_end(&mut read).unwrap();
    assert!(read == bytes, "{} of {} bytes", read.len(), bytes.len());
    assert_eq!(requests(&server), bytes.len().div_ceil(150_000));
    let other_part = described(|head, _, stream| {
        let headers = if head.contains("range: ") { "content-range: bytes 0-9/800000\r\n" } else { "" };
        let status = if headers.is_empty() { "200 OK" } else { "206 Partial Content" };
        write!(stream, "HTTP/1.1 {status}\r\ncontent-length: 800000\r\n{headers}\r\n")?;
        stream.write_all(&[7; 10])
    });
    let mut read = Vec::new();
    let refused = open(&other_part).open_archive(&archive, 0).unwrap().read_to_end(&mut read).unwrap_err();
    assert!(refused.to_string().contains("another part"), "{refused}");
}

#[test]
fn the_token_goes_to_the_registry_alone_and_only_with_what_is_sent() {
    let other = described(|_, _, stream| whole(stream, "200 OK", "", release().as_bytes()));
    let elsewhere = other.url.clone();
    let server = described(move |head, _, stream| {
        let location = format!("location: {elsewhere}packages/elsewhere\r\n");
        let status = if head.starts_with("POST") { "307 Temporary Redirect" } else { "302 Found" };
        whole(stream, status, &location, b"")
    });
    assert_eq!(asked(&server), Ok(1), "another port of this machine is no less safe");
    let change = Change::Withdraw { version: "1.0.0".parse().unwrap(), reason: "leaks".into() };
    let refused = open(&server).change(&package(), &change).unwrap_err();
    assert!(matches!(refused, RegistryError::Refused { status: 307, .. }), "{refused}");
    assert!(!other.output().contains("secret"), "{}", other.output());
    let with_token = server.count(|head| head.contains("secret"));
    assert_eq!(with_token, 1, "only what was to be published: {}", server.output());
}
