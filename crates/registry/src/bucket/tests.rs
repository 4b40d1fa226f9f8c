//! Two publishers on one bucket, in every order of their requests: the list of names ends as the histories are.

use std::fmt;
use std::sync::{Arc, Condvar, Mutex};
use std::thread;

use async_trait::async_trait;
use bibliotax_core::card::{Entry, Event};
use futures_util::stream::BoxStream;
use object_store::memory::InMemory;
use object_store::path::Path;
use object_store::{
    CopyOptions, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, Result,
};

use super::*;

/// Who may send the next request, and how many are still at work.
#[derive(Default)]
struct Turns {
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    /// The publishers that wait to send something.
    waiting: [bool; 2],
    over: [bool; 2],
    next: Option<usize>,
}

impl Turns {
    /// Waits until it is this publisher's turn.
    fn wait_for(&self, who: usize) {
        let mut state = self.state.lock().unwrap();
        state.waiting[who] = true;
        self.changed.notify_all();
        while state.next != Some(who) {
            state = self.changed.wait(state).unwrap();
        }
        (state.next, state.waiting[who]) = (None, false);
        self.changed.notify_all();
    }

    fn end(&self, who: usize) {
        self.state.lock().unwrap().over[who] = true;
        self.changed.notify_all();
    }

    /// Once both wait or are over: lets the chosen one of those that wait go on; who could, nobody where both are over.
    fn choose(&self, wanted: usize) -> Option<[bool; 2]> {
        let mut state = self.state.lock().unwrap();
        while state.next.is_some() || (0..2).any(|who| !state.waiting[who] && !state.over[who]) {
            state = self.changed.wait(state).unwrap();
        }
        let could = state.waiting;
        let who = if could[wanted] { wanted } else { 1 - wanted };
        if !could[who] {
            return None;
        }
        state.next = Some(who);
        self.changed.notify_all();
        Some(could)
    }
}

/// A store on which a publisher waits for its turn before each request.
struct InTurn {
    store: Arc<InMemory>,
    turns: Arc<Turns>,
    who: usize,
}

impl fmt::Debug for InTurn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("InTurn")
    }
}

impl fmt::Display for InTurn {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("InTurn")
    }
}

#[async_trait]
impl ObjectStore for InTurn {
    async fn put_opts(&self, at: &Path, payload: PutPayload, options: PutOptions) -> Result<PutResult> {
        self.turns.wait_for(self.who);
        self.store.put_opts(at, payload, options).await
    }

    async fn put_multipart_opts(
        &self,
        at: &Path,
        options: PutMultipartOptions,
    ) -> Result<Box<dyn MultipartUpload>> {
        self.store.put_multipart_opts(at, options).await
    }

    async fn get_opts(&self, at: &Path, options: GetOptions) -> Result<GetResult> {
        self.turns.wait_for(self.who);
        self.store.get_opts(at, options).await
    }

    fn delete_stream(&self, locations: BoxStream<'static, Result<Path>>) -> BoxStream<'static, Result<Path>> {
        self.store.delete_stream(locations)
    }

    fn list(&self, prefix: Option<&Path>) -> BoxStream<'static, Result<ObjectMeta>> {
        self.store.list(prefix)
    }

    async fn list_with_delimiter(&self, prefix: Option<&Path>) -> Result<ListResult> {
        self.store.list_with_delimiter(prefix).await
    }

    async fn copy_opts(&self, from: &Path, to: &Path, options: CopyOptions) -> Result<()> {
        self.store.copy_opts(from, to, options).await
    }
}

fn bucket(objects: Objects) -> Bucket {
    Bucket::with(objects, Description::of_files("seedhouse", BTreeMap::new())).unwrap()
}

fn package() -> PackageName {
    "moss-map".parse().unwrap()
}

/// Publishes a version; where it is `killed`, before it is listed.
fn publish(bucket: &Bucket, version: &str, killed: bool) {
    let entry: Entry = serde_json::from_value(serde_json::json!({
        "name": "moss-map", "version": version, "published": "2026-03-01T08:00:00Z", "card": Digest::of(b"card"),
    }))
    .unwrap();
    let event = Event::Release(Box::new(entry));
    bucket.append(&package(), &mut |_| Ok(vec![event.clone()])).unwrap();
    if !killed {
        bucket.note_names(&[package()]).unwrap();
    }
}

/// Runs both publishers in this order of turns; the order that was taken, with whether the other could have gone.
fn run(order: &[usize]) -> Vec<(usize, bool)> {
    let (store, turns) = (Arc::new(InMemory::new()), Arc::new(Turns::default()));
    let publishers: Vec<_> = ["1.0.0", "1.1.0"]
        .into_iter()
        .enumerate()
        .map(|(who, version)| {
            let in_turn = InTurn { store: store.clone(), turns: turns.clone(), who };
            // How conditions are kept is found out before, so that only what matters is ordered.
            let bucket = bucket(Objects::on(Arc::new(in_turn)).with_conditions());
            let turns = turns.clone();
            thread::spawn(move || {
                publish(&bucket, version, false);
                turns.end(who);
            })
        })
        .collect();
    let mut taken = Vec::new();
    loop {
        let wanted = order.get(taken.len()).copied().unwrap_or(0);
        let Some(could) = turns.choose(wanted) else { break };
        let who = if could[wanted] { wanted } else { 1 - wanted };
        taken.push((who, could[1 - who]));
    }
    publishers.into_iter().for_each(|publisher| publisher.join().unwrap());
    let reader = bucket(Objects::on(store));
    let listed = (&reader as &dyn Keep).listed_names().unwrap();
    let newest = listed[&package()].newest.as_ref().map(ToString::to_string);
    assert_eq!(newest.as_deref(), Some("1.1.0"), "{taken:?}");
    taken
}

#[test]
fn in_whatever_order_two_publish_the_list_ends_as_the_history_is() {
    let (mut order, mut runs) = (Vec::new(), 0);
    loop {
        let taken = run(&order);
        runs += 1;
        let whos: Vec<usize> = taken.iter().map(|(who, _)| *who).collect();
        // The next order: with the other at the last turn where that was possible, and not tried yet.
        let is_new = |at: &usize| {
            let order = [&whos[..*at], &[1]].concat();
            whos[*at] == 0 && taken[*at].1 && switches(&order) <= MOST_SWITCHES
        };
        let Some(last) = (0..whos.len()).rev().find(is_new) else { break };
        order = [&whos[..last], &[1]].concat();
    }
    assert!(runs > 50, "{runs}");
}

/// How often publishers may interrupt each other: no mistake has needed more, and orders are many.
const MOST_SWITCHES: usize = 3;

fn switches(order: &[usize]) -> usize {
    order.windows(2).filter(|pair| pair[0] != pair[1]).count()
}

#[test]
fn a_retry_lists_what_a_killed_publisher_did_not() {
    let reader = bucket(Objects::on(Arc::new(InMemory::new())));
    publish(&reader, "1.0.0", false);
    publish(&reader, "1.1.0", true);
    let kept = &reader as &dyn Keep;
    let newest = || kept.listed_names().unwrap()[&package()].newest.as_ref().map(ToString::to_string);
    assert_eq!(newest().as_deref(), Some("1.0.0"));
    kept.note_missing_names(&[package()]).unwrap();
    assert_eq!(newest().as_deref(), Some("1.1.0"));
}
