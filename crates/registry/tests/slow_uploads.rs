//! Uploads over lines that are slow, and to servers that fall silent in the middle of one.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_core::manifest::{Allowed, Manifest};
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_registry::RegistryError;
use bibliotax_registry::client::credentials::{Credential, CredentialRequest, Credentials};
use bibliotax_registry::client::http::Remote;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::client::oci::Oci;
use bibliotax_registry::publish::pack::{Release, prepare};

const ABOUT: &str = "{\"format\":1,\"name\":\"seedhouse\"}\n";

const IDLE_TIMEOUT: Duration = Duration::from_secs(1);

/// Has one token, for every registry.
struct Pocket;

impl Credentials for Pocket {
    fn find(&self, _: &CredentialRequest<'_>) -> Result<Option<Credential>, RegistryError> {
        Ok(Some(Credential::token("bibliotax-1-secret", "a pocket")))
    }
}

/// Counts the bytes that are reported as sent.
#[derive(Default)]
struct Heard(Mutex<u64>);

impl ProgressListener for Heard {
    fn on_event(&self, notice: &ProgressEvent) {
        if let ProgressEvent::Sent { bytes } = notice {
            *self.0.lock().unwrap() += bytes;
        }
    }
}

/// How a server takes what is uploaded.
#[derive(Clone, Copy)]
struct Line {
    /// How many bytes it takes in a hundredth of a second.
    pace: usize,
    /// How many bytes of each request it takes before it falls silent.
    most: usize,
    /// Whether only a whole piece arrives, as behind something that holds bodies back.
    is_held_back: bool,
}

/// A server that takes files in, with what came of the one that it is about.
struct Slow {
    url: String,
    came: Arc<Mutex<usize>>,
    puts: Arc<Mutex<usize>>,
}

impl Slow {
    fn new(line: Line) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/", listener.local_addr().unwrap());
        let slow = Self { url, came: Arc::default(), puts: Arc::default() };
        let (came, puts) = (slow.came.clone(), slow.puts.clone());
        thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let (came, puts) = (came.clone(), puts.clone());
                // Whoever asks may have gone: that is what these tests are about.
                thread::spawn(move || talk(&mut stream, line, &came, &puts).is_ok());
            }
        });
        slow
    }

    fn came(&self) -> usize {
        *self.came.lock().unwrap()
    }
}

/// A proper answer.
fn whole(stream: &mut TcpStream, status: &str, headers: &str, body: &[u8]) -> std::io::Result<()> {
    let length = body.len();
    write!(stream, "HTTP/1.1 {status}\r\ncontent-length: {length}\r\nconnection: close\r\n{headers}\r\n")?;
    stream.write_all(body)
}

fn talk(stream: &mut TcpStream, line: Line, came: &Mutex<usize>, puts: &Mutex<usize>) -> std::io::Result<()> {
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") {
        stream.read_exact(&mut byte)?;
        head.push(byte[0]);
    }
    let head = String::from_utf8(head).unwrap().to_lowercase();
    let number = |key: &str| head.lines().find_map(|line| line.strip_prefix(key)?.parse::<usize>().ok());
    let length = number("content-length: ").unwrap_or(0);
    match head.split(' ').next().unwrap() {
        _ if head.contains("/registry.json") => {
            whole(stream, "200 OK", "", b"{\"format\":1,\"name\":\"seedhouse\",\"service\":\"api/v1\"}\n")
        }
        "get" if head.contains("/manifests/about") => {
            let about = Digest::of(ABOUT.as_bytes());
            let text = format!(
                "{{\"schemaVersion\":2,\"mediaType\":\"application/vnd.oci.image.manifest.v1+json\",\"config\":{{\"mediaType\":\"application/vnd.bibliotax.registry.v1+json\",\"digest\":\"sha256:{about}\",\"size\":{}}},\"layers\":[]}}",
                ABOUT.len()
            );
            whole(stream, "200 OK", "", text.as_bytes())
        }
        "get" if head.contains("/blobs/") => whole(stream, "200 OK", "", ABOUT.as_bytes()),
        "get" => whole(stream, "404 Not Found", "", b""),
        "head" => {
            let offset = format!("upload-offset: {}\r\n", *came.lock().unwrap());
            whole(stream, "404 Not Found", &offset, b"")
        }
        "put" if head.contains("/files/") || head.contains("/blobs/") => {
            *puts.lock().unwrap() += 1;
            take(stream, length, line, came)?;
            whole(stream, "201 Created", "", b"{}")
        }
        "post" if head.contains("/blobs/") => {
            whole(stream, "202 Accepted", "location: /v2/garden/blobs/uploads/one\r\n", b"")
        }
        _ => {
            std::io::copy(&mut (&*stream).take(length as u64), &mut std::io::sink())?;
            whole(stream, "200 OK", "", b"{}")
        }
    }
}

/// Takes a body at the line's pace.
fn take(stream: &mut TcpStream, length: usize, line: Line, came: &Mutex<usize>) -> std::io::Result<()> {
    let mut piece = vec![0; line.pace];
    let mut taken = 0;
    while taken < length.min(line.most) {
        let read = stream.read(&mut piece)?;
        if read == 0 {
            return Err(std::io::ErrorKind::UnexpectedEof.into());
        }
        taken += read;
        if !line.is_held_back {
            *came.lock().unwrap() += read;
        }
        thread::sleep(Duration::from_millis(10));
    }
    if taken < length {
        // Neither reads nor answers, until it is left alone.
        thread::sleep(Duration::from_secs(60));
    }
    if line.is_held_back {
        *came.lock().unwrap() += taken;
    }
    stream.flush()
}

/// A release with a file of this size that doesn't become smaller.
fn release(folder: &std::path::Path, size: usize) -> Release {
    let mut seed = 1_u64;
    let noise = std::iter::repeat_with(|| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 56) as u8
    });
    fs::write(folder.join("moss.bin"), noise.take(size).collect::<Vec<u8>>()).unwrap();
    let text = "[project]\nname = \"moss-map\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n";
    let manifest = Manifest::read(text).unwrap();
    let project = manifest.project.clone().unwrap();
    prepare(&manifest, &project, Vec::new(), folder, "2026-03-01T08:00:00Z".parse().unwrap()).unwrap()
}

fn network() -> Network {
    Network { credentials: Some(Arc::new(Pocket)), silence: Some(IDLE_TIMEOUT), ..Network::default() }
}

/// Publishes a release whose archive has about this size; what the server has of it.
fn publish(slow: &Slow, size: usize) -> Result<usize, &'static str> {
    let (folder, heard) = (tempfile::tempdir().unwrap(), Heard::default());
    let remote = Remote::open(&"seedhouse".parse().unwrap(), &slow.url, &Allowed::default(), &network());
    let published = remote.unwrap().publish(release(folder.path(), size), &heard);
    published.map_err(|error| error.code())?;
    assert!(*heard.0.lock().unwrap() >= size as u64, "progress reports what was sent");
    Ok(slow.came())
}

#[test]
fn an_upload_that_takes_longer_than_any_silence_arrives() {
    let slow = Slow::new(Line { pace: 16 << 10, most: usize::MAX, is_held_back: false });
    let came = publish(&slow, 2 << 20);
    assert!(came.is_ok_and(|came| came >= 2 << 20), "{came:?}");
}

#[test]
fn an_upload_through_something_that_holds_bodies_back_arrives_in_pieces() {
    let slow = Slow::new(Line { pace: 16 << 10, most: usize::MAX, is_held_back: true });
    let came = publish(&slow, 3 << 20);
    assert!(came.is_ok_and(|came| came >= 3 << 20), "{came:?}");
    assert!(*slow.puts.lock().unwrap() > 1);
}

#[test]
fn a_server_that_takes_nothing_more_is_given_up() {
    let slow = Slow::new(Line { pace: 16 << 10, most: 0, is_held_back: false });
    assert_eq!(publish(&slow, 24 << 20), Err("registry.unreachable"));
}

#[test]
fn a_slow_upload_arrives_among_containers_as_well() {
    let slow = Slow::new(Line { pace: 16 << 10, most: usize::MAX, is_held_back: false });
    let (folder, heard) = (tempfile::tempdir().unwrap(), Heard::default());
    let place = format!("{}garden", slow.url.replace("http://", "oci://"));
    let oci = Oci::open(&"seedhouse".parse().unwrap(), &place, &Allowed::default(), &network());
    let Ok(oci) = oci else { panic!("it can't be opened") };
    // What follows the upload isn't answered as such a registry would.
    let _ = oci.publish(release(folder.path(), 2 << 20), &heard);
    assert!(slow.came() >= 2 << 20, "{}", slow.came());
}
