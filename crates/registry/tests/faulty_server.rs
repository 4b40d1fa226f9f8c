//! The client against servers that are slow, cut off, lie, storm, never end, or lead astray.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bibliotax_registry::RegistryError;
use bibliotax_registry::credentials::{Credential, Credentials, Door};
use bibliotax_registry::remote::{Network, Remote};
use bibliotax_registry::standing::Change;

const DESCRIPTION: &str = "{\"format\":1,\"name\":\"seedhouse\",\"api\":\"api/v1\"}\n";

/// What a server does with a request: its head, how many there were before, and the connection.
type Behaviour = dyn Fn(&str, usize, &mut TcpStream) -> std::io::Result<()> + Send + Sync;

/// Has one token, for every registry.
struct Pocket;

impl Credentials for Pocket {
    fn find(&self, _: &Door<'_>) -> Result<Option<Credential>, RegistryError> {
        Ok(Some(Credential::token("bibliotax-1-secret", "a pocket")))
    }
}

/// A server on loopback; all heads that it was sent.
struct Server {
    url: String,
    heads: Arc<Mutex<Vec<String>>>,
}

impl Server {
    /// Describes itself properly, and behaves so with everything else.
    fn new(
        behaviour: impl Fn(&str, usize, &mut TcpStream) -> std::io::Result<()> + Send + Sync + 'static,
    ) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/", listener.local_addr().unwrap());
        let heads = Arc::<Mutex<Vec<String>>>::default();
        let (noted, behaviour, before) = (heads.clone(), Arc::new(behaviour), Arc::new(AtomicUsize::new(0)));
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (noted, behaviour, before) = (noted.clone(), behaviour.clone(), before.clone());
                thread::spawn(move || talk(stream, &noted, &*behaviour, &before));
            }
        });
        Self { url, heads }
    }

    fn open(&self) -> Remote {
        let silence = Some(Duration::from_millis(300));
        let network = Network { credentials: Some(Arc::new(Pocket)), silence, ..Network::default() };
        Remote::open(&"seedhouse".parse().unwrap(), &self.url, false, &network).unwrap()
    }

    /// How many requests there were beside those for the description.
    fn requests(&self) -> usize {
        self.heads.lock().unwrap().iter().filter(|head| !head.contains("registry.json")).count()
    }
}

fn talk(mut stream: TcpStream, noted: &Mutex<Vec<String>>, behaviour: &Behaviour, before: &AtomicUsize) {
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") {
        match stream.read(&mut byte) {
            Ok(1) => head.push(byte[0]),
            _ => return,
        }
    }
    let head = String::from_utf8(head).unwrap();
    noted.lock().unwrap().push(head.clone());
    // Closing on what wasn't read would reset the connection, and the answer might get lost.
    let lower = head.to_lowercase();
    let length = lower.lines().find_map(|line| line.strip_prefix("content-length: ")?.parse().ok());
    let length: u64 = length.unwrap_or(0);
    if std::io::copy(&mut (&stream).take(length), &mut std::io::sink()).is_err() {
        return;
    }
    // A client that gave up has closed its side; that is what some of these are for.
    let _ = if head.contains("/registry.json") {
        whole(&mut stream, "200 OK", "", DESCRIPTION.as_bytes())
    } else {
        behaviour(&head, before.fetch_add(1, Ordering::SeqCst), &mut stream)
    };
}

/// A proper answer.
fn whole(stream: &mut TcpStream, status: &str, headers: &str, body: &[u8]) -> std::io::Result<()> {
    write!(
        stream,
        "HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n{headers}\r\n",
        body.len()
    )?;
    stream.write_all(body)
}

fn package() -> PackageName {
    "moss-map".parse().unwrap()
}

fn release() -> String {
    let card = Digest::of(b"card");
    format!(
        "{{\"event\":\"release\",\"name\":\"moss-map\",\"version\":\"1.0.0\",\"published\":\"2026-03-01T08:00:00Z\",\"card\":\"{card}\"}}\n"
    )
}

/// Asks for a history; how many releases it has, or the code of the error.
fn asked(server: &Server) -> Result<usize, &'static str> {
    let history = server.open().history_until(&package(), None).map_err(|error| error.code())?;
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
        let server = Server::new(move |_, before, stream| {
            if before < 3 { storm(before, stream) } else { whole(stream, "200 OK", "", release().as_bytes()) }
        });
        assert_eq!((asked(&server), server.requests()), (Ok(1), 4), "storm {number}");
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
    for (status, headers, code, requests) in rows {
        let server = Server::new(move |_, _, stream| whole(stream, status, headers, b"{}"));
        assert_eq!((asked(&server), server.requests()), (Err(code), requests), "{status} {headers}");
    }
}

#[test]
fn a_server_that_falls_silent_is_not_waited_for_without_end() {
    let silent = Server::new(|_, _, stream| stream.read(&mut [0]).map(drop));
    assert_eq!((asked(&silent), silent.requests()), (Err("registry.unreachable"), 5));
    let in_the_middle = Server::new(|_, before, stream| {
        if before == 2 {
            return whole(stream, "200 OK", "", release().as_bytes());
        }
        write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: 500\r\n\r\n{{\"event\"")?;
        stream.read(&mut [0]).map(drop)
    });
    assert_eq!((asked(&in_the_middle), in_the_middle.requests()), (Ok(1), 3));
}

#[test]
fn answers_are_bounded_and_have_to_make_sense() {
    let endless = Server::new(|head, _, stream| {
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
    let no_text = Server::new(|_, _, stream| whole(stream, "200 OK", "", &[0xff, 0xfe, b'\n']));
    assert_eq!(asked(&no_text), Err("registry.wrong-answer"));
    let no_history = Server::new(|_, _, stream| whole(stream, "200 OK", "", b"<html>\n"));
    assert_eq!(asked(&no_history), Err("registry.broken"));
    let nothing = Server::new(|_, _, stream| whole(stream, "404 Not Found", "", b""));
    assert_eq!(asked(&nothing), Ok(0));
    let bomb = zstd::encode_all(&vec![b' '; 300 << 20][..], 1).unwrap();
    let bomb = Server::new(move |_, _, stream| whole(stream, "200 OK", "content-encoding: zstd\r\n", &bomb));
    assert_eq!(asked(&bomb), Err("registry.wrong-answer"));
}

#[test]
fn an_archive_is_taken_up_where_the_connection_broke_and_never_longer_than_it_is() {
    let bytes: Vec<u8> = (0..200_000_u32).flat_map(u32::to_le_bytes).collect();
    let archive = Archive::new(Digest::of(&bytes), bytes.len() as u64, ArchiveFormat::Tar);
    let sent = bytes.clone();
    let server = Server::new(move |head, _, stream| {
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
    server.open().open_archive(&archive).unwrap().read_to_end(&mut read).unwrap();
    assert!(read == bytes, "{} of {} bytes", read.len(), bytes.len());
    assert_eq!(server.requests(), bytes.len().div_ceil(150_000));
    let other_part = Server::new(|head, _, stream| {
        let headers = if head.contains("range: ") { "content-range: bytes 0-9/800000\r\n" } else { "" };
        let status = if headers.is_empty() { "200 OK" } else { "206 Partial Content" };
        write!(stream, "HTTP/1.1 {status}\r\ncontent-length: 800000\r\n{headers}\r\n")?;
        stream.write_all(&[7; 10])
    });
    let mut read = Vec::new();
    let refused = other_part.open().open_archive(&archive).unwrap().read_to_end(&mut read).unwrap_err();
    assert!(refused.to_string().contains("another part"), "{refused}");
}

#[test]
fn the_token_goes_to_the_registry_alone_and_only_with_what_is_sent() {
    let other = Server::new(|_, _, stream| whole(stream, "200 OK", "", release().as_bytes()));
    let elsewhere = other.url.clone();
    let server = Server::new(move |head, _, stream| {
        let location = format!("location: {elsewhere}packages/elsewhere\r\n");
        let status = if head.starts_with("POST") { "307 Temporary Redirect" } else { "302 Found" };
        whole(stream, status, &location, b"")
    });
    assert_eq!(asked(&server), Ok(1), "another port of this machine is no less safe");
    let change = Change::Withdraw { version: "1.0.0".parse().unwrap(), reason: "leaks".into() };
    let refused = server.open().change(&package(), &change).unwrap_err();
    assert!(matches!(refused, RegistryError::Refused { status: 307, .. }), "{refused}");
    let heads = |server: &Server| server.heads.lock().unwrap().join("").to_lowercase();
    assert!(!heads(&other).contains("secret"), "{}", heads(&other));
    let with_token =
        server.heads.lock().unwrap().iter().filter(|head| head.to_lowercase().contains("secret")).count();
    assert_eq!(with_token, 1, "only what was to be published: {}", heads(&server));
}
