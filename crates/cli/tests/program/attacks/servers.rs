//! A registry's server whose connections somebody takes and never uses.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use socket2::{Domain, Socket, Type};

use crate::garden::Garden;
use crate::server::Served;

/// A server that may open only so many files.
fn serve_with(garden: &Garden, files: u32) -> Served {
    let args = ["registry", "serve", "--quiet", "--format", "json", "seedhouse", "--listen", "127.0.0.1:0"];
    let mut program = garden.command_within(&format!("-n {files}"), ".", &args);
    let mut child = program.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let said: serde_json::Value = serde_json::from_str(&line).unwrap();
    Served { url: said["url"].as_str().unwrap().to_owned(), child }
}

/// A connection from one of this machine's own addresses.
fn connect_from(address: SocketAddr, last: u8) -> TcpStream {
    let socket = Socket::new(Domain::IPV4, Type::STREAM, None).unwrap();
    socket.bind(&SocketAddr::from((Ipv4Addr::new(127, 0, 0, last), 0)).into()).unwrap();
    socket.connect(&address.into()).unwrap();
    socket.into()
}

#[test]
fn connections_that_nobody_uses_keep_nobody_out_and_the_server_still_ends_when_it_is_told_to() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let mut served = serve_with(&garden, 200);
    let address: SocketAddr = served.url.trim_start_matches("http://").trim_end_matches('/').parse().unwrap();
    // Far more than it has room for, from many addresses, none of which says a word.
    let held: Vec<TcpStream> =
        (0..600).map(|number| connect_from(address, 2 + (number % 40) as u8)).collect();
    let mut newcomer = connect_from(address, 200);
    newcomer.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    newcomer.write_all(b"GET /registry.json HTTP/1.1\r\nhost: x\r\n\r\n").unwrap();
    let mut answer = [0; 12];
    newcomer.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"HTTP/1.1 200");
    let output = Command::new("kill").args(["-TERM", &served.child.id().to_string()]).status().unwrap();
    assert!(output.success());
    let begun = Instant::now();
    while served.child.try_wait().unwrap().is_none() {
        assert!(begun.elapsed() < Duration::from_secs(35), "it is still there");
        std::thread::sleep(Duration::from_millis(20));
    }
    drop(held);
}
