//! A server on loopback that answers however a test likes, and notes what it was asked.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;

use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;

/// What a server does with a request: its head, and the connection.
type Behaviour = dyn Fn(&str, &mut TcpStream) -> std::io::Result<()> + Send + Sync;

/// A server on loopback; all heads that it was sent.
pub struct Server {
    pub url: String,
    pub heads: Arc<Mutex<Vec<String>>>,
}

impl Server {
    pub fn new(
        behaviour: impl Fn(&str, &mut TcpStream) -> std::io::Result<()> + Send + Sync + 'static,
    ) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/", listener.local_addr().unwrap());
        let heads = Arc::<Mutex<Vec<String>>>::default();
        let (noted, behaviour) = (heads.clone(), Arc::new(behaviour));
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (noted, behaviour) = (noted.clone(), behaviour.clone());
                thread::spawn(move || talk(stream, &noted, &*behaviour));
            }
        });
        Self { url, heads }
    }

    /// How many requests there were of which something holds.
    pub fn count(&self, holds: impl Fn(&str) -> bool) -> usize {
        self.heads.lock().unwrap().iter().filter(|head| holds(&head.to_lowercase())).count()
    }

    /// All heads, to read when a test failed.
    pub fn output(&self) -> String {
        self.heads.lock().unwrap().join("").to_lowercase()
    }
}

fn talk(mut stream: TcpStream, noted: &Mutex<Vec<String>>, behaviour: &Behaviour) {
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
    let _ = behaviour(&head, &mut stream);
}

/// A proper answer.
pub fn whole(stream: &mut TcpStream, status: &str, headers: &str, body: &[u8]) -> std::io::Result<()> {
    write!(
        stream,
        "HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n{headers}\r\n",
        body.len()
    )?;
    stream.write_all(body)
}

pub fn package() -> PackageName {
    "moss-map".parse().unwrap()
}

/// The history of that package, of one release.
pub fn release() -> String {
    let card = Digest::of(b"card");
    format!(
        "{{\"event\":\"release\",\"name\":\"moss-map\",\"version\":\"1.0.0\",\"published\":\"2026-03-01T08:00:00Z\",\"card\":\"{card}\"}}\n"
    )
}
