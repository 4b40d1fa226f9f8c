//! The server against clients that hold connections: silent, half-said, too many, too slow to send or to take.

use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::time::{Duration, Instant};

use bibliotax_core::digest::Digest;
use bibliotax_server::Limits;
use socket2::{Domain, Socket, Type};

use crate::server::{Server, status};

const ASKED: &[u8] = b"GET /registry.json HTTP/1.1\r\nhost: x\r\n\r\n";

fn limits() -> Limits {
    Limits {
        head: Duration::from_millis(400),
        idle: Duration::from_millis(800),
        silence: Duration::from_millis(1500),
        connections_per_address: 20,
        ..Limits::default()
    }
}

/// A connection from one of this machine's own addresses.
fn connect_from(server: &Server, last: u8) -> TcpStream {
    let socket = Socket::new(Domain::IPV4, Type::STREAM, None).unwrap();
    socket.bind(&SocketAddr::from((Ipv4Addr::new(127, 0, 0, last), 0)).into()).unwrap();
    socket.connect(&server.address.into()).unwrap();
    let stream: TcpStream = socket.into();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    stream
}

/// Whether the server closes a connection before a client's patience ends; what it said before is passed over.
fn is_closed(stream: &mut TcpStream) -> bool {
    let mut piece = [0; 4096];
    loop {
        match stream.read(&mut piece) {
            Ok(0) => return true,
            Ok(_) => {}
            Err(error) => return error.kind() == std::io::ErrorKind::ConnectionReset,
        }
    }
}

#[test]
fn whoever_says_nothing_or_half_a_beginning_is_let_go_and_so_is_whoever_asks_no_more() {
    let server = Server::within(limits());
    let begun: [&[u8]; 5] = [
        b"",
        b"P",
        b"PRI * HTTP/2.0\r\n\r\nSM\r\n",
        b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\0\0\0\x04\0\0\0\0\0",
        b"GET /registry.json HTTP/1.1\r\n",
    ];
    for beginning in begun {
        let mut stream = server.connect();
        stream.write_all(beginning).unwrap();
        assert!(is_closed(&mut stream), "{beginning:?}");
    }
    let mut stream = server.connect();
    stream.write_all(ASKED).unwrap();
    assert!(is_closed(&mut stream));
}

#[test]
fn one_address_has_its_share_of_connections_and_others_are_answered() {
    let server = Server::within(limits());
    let mut held: Vec<TcpStream> = (0..60).map(|_| connect_from(&server, 7)).collect();
    let mut other = connect_from(&server, 8);
    other.write_all(ASKED).unwrap();
    let mut answer = [0; 12];
    other.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"HTTP/1.1 200");
    // Those that were too many were closed at once, and the rest soon.
    assert!(held.iter_mut().all(is_closed));
    let mut again = connect_from(&server, 7);
    again.write_all(ASKED).unwrap();
    again.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"HTTP/1.1 200");
}

#[test]
fn a_body_that_comes_a_byte_at_a_time_is_given_up() {
    let server = Server::within(limits());
    let path = format!("/api/v1/files/{}", Digest::of(b"never"));
    let head = format!(
        "PUT {path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {}\r\ncontent-length: 100000\r\n\r\n",
        server.token
    );
    let mut stream = server.connect();
    stream.write_all(head.as_bytes()).unwrap();
    let begun = Instant::now();
    stream.set_read_timeout(Some(Duration::from_millis(50))).unwrap();
    let mut answer = Vec::new();
    while answer.is_empty() && begun.elapsed() < Duration::from_secs(20) {
        let _ = stream.write_all(b"x");
        let mut piece = [0; 512];
        if let Ok(read) = stream.read(&mut piece) {
            answer.extend_from_slice(&piece[..read]);
        }
    }
    assert_eq!(status(&String::from_utf8_lossy(&answer)), 400);
}

#[test]
fn an_answer_that_is_taken_a_byte_at_a_time_is_given_up() {
    let server = Server::within(Limits { largest_file: 1 << 30, ..limits() });
    let bytes = vec![7; 32 << 20];
    let digest = server.put(&bytes);
    let mut stream = server.connect();
    let path = format!("/files/{}/{digest}", digest.folder());
    stream.write_all(format!("GET {path} HTTP/1.1\r\nhost: x\r\n\r\n").as_bytes()).unwrap();
    let begun = Instant::now();
    let mut byte = [0];
    while begun.elapsed() < Duration::from_secs(6) {
        stream.read_exact(&mut byte).unwrap();
        std::thread::sleep(Duration::from_millis(100));
    }
    // What is in the buffers on the way still comes, and then no more.
    let mut rest = Vec::new();
    let _ = stream.read_to_end(&mut rest);
    assert!(rest.len() < bytes.len() - (8 << 20), "{} bytes of {}", rest.len(), bytes.len());
    // Whoever takes it at a decent rate gets all of it, for however long.
    let mut stream = server.connect();
    stream
        .write_all(format!("GET {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").as_bytes())
        .unwrap();
    let mut whole = Vec::new();
    let mut piece = vec![0; 1 << 20];
    while let Ok(read @ 1..) = stream.read(&mut piece) {
        whole.extend_from_slice(&piece[..read]);
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(whole.len() > bytes.len(), "{}", whole.len());
}

#[test]
fn a_refusal_of_an_archive_is_short_whatever_the_archive_says() {
    let server = Server::within(Limits { largest_file: 64 << 20, ..limits() });
    let long = "moss/".repeat(12_000) + "x";
    let mut builder = tar::Builder::new(Vec::new());
    let mut header = tar::Header::new_gnu();
    header.set_size(0);
    header.set_mode(0o644);
    builder.append_data(&mut header, &long, std::io::empty()).unwrap();
    let archive = zstd::encode_all(&builder.into_inner().unwrap()[..], 1).unwrap();
    let digest = server.put(&archive);
    let card = serde_json::json!({ "name": "moss-map", "version": "1.0.0", "published": "2026-01-01T00:00:00Z",
        "files": [{ "sha256": digest, "size": archive.len(), "format": "tar.zst" }] });
    let (status, said) = server.ask("POST", "/api/v1/releases", "", card.to_string().as_bytes());
    assert_eq!((status, said["code"].as_str()), (422, Some("archive.refused")), "{said}");
    assert!(said.to_string().len() < 2_000, "{said}");
}
