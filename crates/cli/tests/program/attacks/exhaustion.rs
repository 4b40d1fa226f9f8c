//! What would use up time or memory: of people who read a manifest, of registries, of servers that are slow on purpose.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use crate::garden::Garden;

/// Serves the files below a folder, those whose path has a word in it a byte at a time, without an end of its own.
fn drip(folder: PathBuf, slow: &'static str) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let folder = folder.clone();
            thread::spawn(move || answer(stream, &folder, slow));
        }
    });
    url
}

fn answer(mut stream: TcpStream, folder: &Path, slow: &str) {
    let mut lines = BufReader::new(stream.try_clone().unwrap()).lines().map_while(Result::ok);
    let head = lines.next().unwrap_or_default();
    let path = head.split(' ').nth(1).unwrap_or("/").trim_start_matches('/').to_owned();
    lines.take_while(|line| !line.is_empty()).for_each(drop);
    let Ok(bytes) = std::fs::read(folder.join(&path)) else {
        let _ = stream.write_all(b"HTTP/1.1 404 Not Found\r\nconnection: close\r\ncontent-length: 0\r\n\r\n");
        return;
    };
    let _ = write!(stream, "HTTP/1.1 200 OK\r\nconnection: close\r\ncontent-length: {}\r\n\r\n", bytes.len());
    if !path.contains(slow) {
        let _ = stream.write_all(&bytes);
        return;
    }
    for byte in bytes {
        thread::sleep(Duration::from_millis(500));
        if stream.write_all(&[byte]).is_err() {
            return;
        }
    }
}

#[test]
fn a_server_that_sends_a_byte_now_and_then_holds_nobody_for_long() {
    let install = |slow: &'static str| {
        let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
        let url = drip(garden.path("seedhouse"), slow);
        let manifest = garden.read("gate/bibliotax.toml").replace("../seedhouse", &url);
        garden.write("gate/bibliotax.toml", &manifest);
        let begun = Instant::now();
        let ran = garden.run(&["install"]).expect(5);
        assert!(begun.elapsed() < Duration::from_secs(90), "{slow}: {:?}", begun.elapsed());
        assert!(ran.stderr.contains("1 KiB"), "{slow}: {ran}");
    };
    thread::scope(|scope| {
        for slow in ["packages/", "files/"] {
            scope.spawn(move || install(slow));
        }
    });
}
