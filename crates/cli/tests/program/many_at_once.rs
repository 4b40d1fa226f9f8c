//! Publishers and readers at once, on servers that are killed meanwhile: every release that was accepted is there, whole, once,
//! and nobody ever sees a history that isn't the beginning of a later one.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use serde_json::{Value, json};

use crate::garden::Garden;
use crate::proxy::{address_of, before_current};
use crate::served::{project, with_token};
use crate::server::{Buckets, Place, Served, distributed_place};

const PUBLISHERS: usize = 8;
const TURNS: usize = 3;
/// How often an author runs `publish` again where the servers were killed under each of its tries.
const RUNS: usize = 10;
const READERS: usize = 50;

#[test]
fn a_server_of_a_folder_loses_nothing_however_often_it_is_killed() {
    storm(&Garden::bare(), &Place::folder(), 1);
}

#[test]
#[ignore = "needs the bucket server of `tests/bucket-server`, which `.ci/run` sets up"]
fn two_servers_of_one_bucket_lose_nothing_however_often_they_are_killed() {
    let garden = Garden::bare();
    let buckets = Buckets::start(&garden);
    let place = buckets.place("deep/seedhouse");
    place.run(&garden, &["registry", "create", &place.path, "--name", "seedhouse"]);
    storm(&garden, &place, 2);
}

#[test]
#[ignore = "needs the object store of `tests/object-gateway`, which `.ci/run` sets up"]
fn two_servers_of_a_bucket_in_a_distributed_store_lose_nothing_however_often_they_are_killed() {
    let garden = Garden::bare();
    let place = distributed_place(&garden);
    place.run(&garden, &["registry", "create", &place.path, "--name", "seedhouse"]);
    storm(&garden, &place, 2);
}

fn storm(garden: &Garden, place: &Place, servers: usize) {
    let mut served: Vec<Served> =
        (0..servers).map(|_| place.try_to_serve(garden, &["--listen", "127.0.0.1:0"]).unwrap()).collect();
    // A server that comes back has another port; clients know the address of what stands in front of it.
    let current: Vec<Arc<Mutex<String>>> =
        served.iter().map(|served| Arc::new(Mutex::new(address_of(&served.url).to_owned()))).collect();
    let in_front = |current: &Arc<Mutex<String>>| before_current(current.clone(), |_| (), |_| ());
    let addresses: Vec<String> =
        current.iter().map(|current| address_of(&in_front(current)).to_owned()).collect();
    let token = place.token(garden);
    let publish = |number: usize| {
        let folder = format!("author-{number}");
        let url = format!("http://{}/", addresses[number % servers]);
        project(garden, &folder, &url, "moss-map", &format!("1.{number}.0"));
        garden.write(&format!("{folder}/moss.c"), &"int moss;\n".repeat(2000 + number));
        let runs = (0..RUNS).map(|_| with_token(garden, &folder, &["publish"], &token).0);
        assert!(runs.into_iter().any(|status| status == 0), "{folder} gets through in the end");
        number
    };
    let (is_over, looks) = (AtomicBool::new(false), AtomicUsize::new(0));
    let accepted: Vec<usize> = thread::scope(|scope| {
        let readers: Vec<_> = (0..READERS)
            .map(|number| {
                let (address, is_over, looks) = (addresses[number % servers].as_str(), &is_over, &looks);
                scope.spawn(move || read_until(address, is_over, looks))
            })
            .collect();
        let (done, each_done) = mpsc::channel();
        let publish = &publish;
        let lane = |lane: usize| {
            let done = done.clone();
            scope.spawn(move || {
                for turn in 0..TURNS {
                    done.send(publish(lane + turn * PUBLISHERS)).unwrap();
                }
            });
        };
        (0..PUBLISHERS).for_each(lane);
        drop(done);
        // With each release that is accepted, the other publishers are in the middle of theirs.
        let mut accepted = Vec::new();
        for victim in (0..servers).cycle() {
            let Ok(number) = each_done.recv() else { break };
            accepted.push(number);
            served[victim].child.kill().unwrap();
            served[victim].child.wait().unwrap();
            served[victim] = place.try_to_serve(garden, &["--listen", "127.0.0.1:0"]).unwrap();
            address_of(&served[victim].url).clone_into(&mut current[victim].lock().unwrap());
        }
        is_over.store(true, Ordering::Relaxed);
        readers.into_iter().for_each(|reader| reader.join().unwrap());
        accepted
    });
    assert_eq!(accepted.len(), PUBLISHERS * TURNS, "{accepted:?}");
    assert!(looks.load(Ordering::Relaxed) > READERS, "readers got answers meanwhile");
    for address in &addresses {
        let history = history(address).unwrap();
        let mut versions: Vec<&str> = history.lines().map(|line| version_in(line).unwrap()).collect();
        let wanted: BTreeSet<String> = accepted.iter().map(|number| format!("1.{number}.0")).collect();
        assert!(wanted.iter().all(|version| versions.contains(&version.as_str())), "{wanted:?} {versions:?}");
        let there = versions.len();
        versions.sort_unstable();
        versions.dedup();
        assert_eq!(versions.len(), there, "none is there twice");
    }
    // A server that was killed before it noted a name leaves that to its keepers.
    let checked = place.run(garden, &["registry", "check", &place.path, "--repair"]);
    assert_eq!(checked["findings"], json!([]), "{checked}");
    project(garden, "gate", &served[0].url, "gate-kiosk", "1.0.0");
    let newest = accepted.iter().max().unwrap();
    garden.run(&["need", "moss-map", &format!("1.{newest}.0"), "--exactly"]).expect(0);
    garden.run(&["verify"]).expect(0);
    assert_eq!(
        garden.run(&["find", "moss", "--format", "json"]).expect(0).json()["packages"][0]["name"],
        "moss-map"
    );
}

/// Reads a history again and again; each time it is the one of before, or goes on from there.
fn read_until(address: &str, is_over: &AtomicBool, looks: &AtomicUsize) {
    let mut before = String::new();
    while !is_over.load(Ordering::Relaxed) {
        if let Some(now) = history(address) {
            assert!(now.starts_with(&before), "{before}\n---\n{now}");
            assert!(now.lines().all(|line| version_in(line).is_some()), "{now}");
            looks.fetch_add(1, Ordering::Relaxed);
            before = now;
        }
        thread::sleep(Duration::from_millis(20));
    }
}

fn version_in(line: &str) -> Option<&str> {
    serde_json::from_str::<Value>(line).ok()?["version"].as_str()?;
    line.split("\"version\":\"").nth(1)?.split('"').next()
}

/// The history of the package, if the server answers.
fn history(address: &str) -> Option<String> {
    let mut stream = TcpStream::connect(address).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(20))).ok()?;
    let bin = Digest::of(b"moss-map").folder();
    let head = format!("GET /packages/{bin}/moss-map.jsonl HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n");
    stream.write_all(head.as_bytes()).ok()?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer).ok()?;
    let (head, body) = answer.split_once("\r\n\r\n")?;
    let length: usize = head.lines().find_map(|line| line.strip_prefix("content-length: "))?.parse().ok()?;
    (head.starts_with("HTTP/1.1 200") && body.len() == length).then(|| body.to_owned())
}
