//! A copy in front of a registry gives a file on while it comes, and never a whole one that is another.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

#[allow(dead_code, reason = "other tests want the rest of it")]
mod lying;

use std::io::{Read, Write};
use std::sync::mpsc::channel;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_registry::client::http::Remote;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::model::storage::ReadRegistry;
use bibliotax_registry::storage::read_through::{Freshness, ReadThrough};

use crate::lying::{Server, whole};

const DESCRIPTION: &str = "{\"format\":1,\"name\":\"seedhouse\"}\n";
const SIZE: usize = 1 << 20;

fn front(server: &Server, folder: &std::path::Path) -> Arc<ReadThrough> {
    let network = Network { silence: Some(Duration::from_secs(20)), ..Network::default() };
    let remote =
        Remote::open(&"seedhouse".parse().unwrap(), &server.url, &Default::default(), &network).unwrap();
    let freshness = Freshness { fresh: Duration::from_secs(60), stale: false };
    Arc::new(ReadThrough::new(remote, folder.to_owned(), freshness).unwrap())
}

#[test]
fn the_first_half_is_given_on_before_the_second_has_come() {
    let bytes: Vec<u8> = (0..SIZE).map(|at| (at % 251) as u8).collect();
    let (digest, sent) = (Digest::of(&bytes), bytes.clone());
    let (go_on, may_go_on) = channel::<()>();
    let may_go_on = Mutex::new(may_go_on);
    let server = Server::new(move |head, stream| {
        if head.contains("/registry.json") {
            return whole(stream, "200 OK", "", DESCRIPTION.as_bytes());
        }
        write!(stream, "HTTP/1.1 200 OK\r\ncontent-length: {SIZE}\r\n\r\n")?;
        stream.write_all(&sent[..SIZE / 2])?;
        stream.flush()?;
        may_go_on.lock().unwrap().recv().unwrap();
        stream.write_all(&sent[SIZE / 2..])
    });
    let folder = tempfile::tempdir().unwrap();
    let front = front(&server, folder.path());
    assert_eq!(front.file_size(&digest).unwrap(), Some(SIZE as u64));
    let mut first = front.read_file(&digest, 0..SIZE as u64).unwrap();
    let mut half = vec![0; SIZE / 2 - 1];
    first.read_exact(&mut half).unwrap();
    assert!(half == bytes[..SIZE / 2 - 1], "as it came");
    // Others who want it follow the same one.
    let others: Vec<_> = [0..SIZE as u64, 300_000..SIZE as u64, (SIZE as u64 - 10)..SIZE as u64]
        .into_iter()
        .map(|range| {
            let (front, wanted) = (front.clone(), bytes[range.start as usize..].to_vec());
            thread::spawn(move || {
                let mut all = Vec::new();
                front.read_file(&digest, range).unwrap().read_to_end(&mut all).unwrap();
                assert!(all == wanted);
            })
        })
        .collect();
    go_on.send(()).unwrap();
    let mut rest = Vec::new();
    first.read_to_end(&mut rest).unwrap();
    assert!([half, rest].concat() == bytes);
    others.into_iter().for_each(|other| other.join().unwrap());
    assert_eq!(server.count(|head| head.contains("/files/")), 1, "it was fetched once");
    let mut again = Vec::new();
    front.open_file(&digest).unwrap().read_to_end(&mut again).unwrap();
    assert!(again == bytes && server.count(|head| head.contains("/files/")) == 1, "it is here now");
}

#[test]
fn a_file_with_other_bytes_than_its_name_says_is_never_given_whole() {
    let bytes: Vec<u8> = vec![7; SIZE];
    let server = Server::new(move |head, stream| {
        if head.contains("/registry.json") {
            return whole(stream, "200 OK", "", DESCRIPTION.as_bytes());
        }
        whole(stream, "200 OK", "", &bytes)
    });
    let folder = tempfile::tempdir().unwrap();
    let front = front(&server, folder.path());
    let digest = Digest::of(b"something else");
    let mut all = Vec::new();
    let read = front.read_file(&digest, 0..SIZE as u64).and_then(|mut opened| {
        opened
            .read_to_end(&mut all)
            .map_err(|_| bibliotax_registry::RegistryError::NoFile { digest, path: "here".into() })
    });
    assert!(read.is_err() && all.len() < SIZE, "{}", all.len());
    let kept: Vec<_> = std::fs::read_dir(folder.path().join("files"))
        .unwrap()
        .flat_map(|bin| std::fs::read_dir(bin.unwrap().path()).unwrap())
        .collect();
    assert!(kept.is_empty(), "{kept:?}");
}
