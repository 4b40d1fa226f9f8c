//! Two publishers on one bucket, in every order of their requests: the list of names ends as the histories say.

use std::fmt;
use std::sync::{Arc, Condvar, Mutex};
use std::thread;

use async_trait::async_trait;
use bibliotax_core::card::{Entry, Event};
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use object_store::memory::InMemory;
use object_store::path::Path;
use object_store::{
    CopyOptions, GetOptions, GetResult, ListResult, MultipartUpload, ObjectMeta, ObjectStore,
    PutMultipartOptions, PutOptions, PutPayload, PutResult, Result,
};

use super::*;
use crate::model::storage::ReadRegistryExt;

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

/// A store that is shown of each request before it is made, and may refuse it.
struct Told<F> {
    store: Arc<InMemory>,
    before: F,
}

/// What is asked, of which object or of those below which path.
type Asked<'a> = (&'static str, Option<&'a Path>);

fn output<F: Fn(Asked<'_>) -> Result<()> + Send + Sync + 'static>(
    store: &Arc<InMemory>,
    before: F,
) -> Arc<dyn ObjectStore> {
    Arc::new(Told { store: Arc::clone(store), before })
}

impl<F> fmt::Debug for Told<F> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Told")
    }
}

impl<F> fmt::Display for Told<F> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Told")
    }
}

#[async_trait]
impl<F: Fn(Asked<'_>) -> Result<()> + Send + Sync + 'static> ObjectStore for Told<F> {
    async fn put_opts(&self, at: &Path, payload: PutPayload, options: PutOptions) -> Result<PutResult> {
        (self.before)(("put", Some(at)))?;
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
        (self.before)(("get", Some(at)))?;
        self.store.get_opts(at, options).await
    }

    fn delete_stream(&self, locations: BoxStream<'static, Result<Path>>) -> BoxStream<'static, Result<Path>> {
        self.store.delete_stream(locations)
    }

    fn list(&self, prefix: Option<&Path>) -> BoxStream<'static, Result<ObjectMeta>> {
        if let Err(error) = (self.before)(("list", prefix)) {
            return futures_util::stream::iter([Err(error)]).boxed();
        }
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
        bucket.update_name_list(&[package()]).unwrap();
    }
}

/// Runs both publishers with these versions in this order of turns; the order that was taken, with whether the other could have gone.
fn run(versions: [&'static [&'static str]; 2], order: &[usize]) -> Vec<(usize, bool)> {
    let (store, turns) = (Arc::new(InMemory::new()), Arc::new(Turns::default()));
    let publishers: Vec<_> = versions
        .into_iter()
        .enumerate()
        .map(|(who, versions)| {
            let turn = turns.clone();
            let in_turn = output(&store, move |_| {
                turn.wait_for(who);
                Ok(())
            });
            // How conditions are kept is found out before, so that only what matters is ordered.
            let bucket = bucket(Objects::on(in_turn).with_conditions());
            let turns = turns.clone();
            thread::spawn(move || {
                versions.iter().for_each(|version| publish(&bucket, version, false));
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
    let listed = reader.listed_names().unwrap();
    let newest = listed[&package()].newest.as_ref().map(ToString::to_string);
    assert_eq!(newest.as_deref(), versions[1].last().copied(), "{taken:?}");
    taken
}

#[test]
fn in_whatever_order_two_publish_the_list_ends_as_the_history_is() {
    assert!(run_all([&["1.0.0"], &["1.1.0"]], 3) > 50);
}

/// From the second release on, a publisher goes by what it remembers.
#[test]
fn in_whatever_order_two_publish_several_the_list_ends_as_the_history_is() {
    assert!(run_all([&["1.0.0", "1.2.0"], &["1.1.0", "1.3.0"]], 2) > 100);
}

/// Runs both publishers in all orders in which they interrupt each other at most so often; how many there were. No mistake has
/// needed more than three, and orders are many.
fn run_all(versions: [&'static [&'static str]; 2], most_switches: usize) -> usize {
    let (mut order, mut runs) = (Vec::new(), 0);
    loop {
        let taken = run(versions, &order);
        runs += 1;
        let whos: Vec<usize> = taken.iter().map(|(who, _)| *who).collect();
        // The next order: with the other at the last turn where that was possible, and not tried yet.
        let is_new = |at: &usize| {
            let order = [&whos[..*at], &[1]].concat();
            whos[*at] == 0 && taken[*at].1 && switches(&order) <= most_switches
        };
        let Some(last) = (0..whos.len()).rev().find(is_new) else { break };
        order = [&whos[..last], &[1]].concat();
    }
    runs
}

fn switches(order: &[usize]) -> usize {
    order.windows(2).filter(|pair| pair[0] != pair[1]).count()
}

#[test]
fn a_retry_lists_what_a_killed_publisher_did_not() {
    let reader = bucket(Objects::on(Arc::new(InMemory::new())));
    publish(&reader, "1.0.0", false);
    publish(&reader, "1.1.0", true);
    let kept = &reader;
    let newest = || kept.listed_names().unwrap()[&package()].newest.as_ref().map(ToString::to_string);
    assert_eq!(newest().as_deref(), Some("1.0.0"));
    kept.complete_name_list(&[package()]).unwrap();
    assert_eq!(newest().as_deref(), Some("1.1.0"));
}

#[test]
fn who_publishes_does_not_read_what_was_noted_before() {
    let store = Arc::new(InMemory::new());
    let before = bucket(Objects::on(store.clone()));
    ["1.0.0", "1.1.0", "1.2.0"].iter().for_each(|version| publish(&before, version, false));
    let unreadable = output(&store, |(what, at)| match at {
        Some(at) if what == "get" && at.as_ref().contains("/names/") => {
            Err(object_store::Error::NotImplemented {
                operation: "reading".to_owned(),
                implementer: "this store".to_owned(),
            })
        }
        _ => Ok(()),
    });
    let restarted = bucket(Objects::on(unreadable));
    assert!(restarted.name_list_file().is_err(), "the list can't be read");
    publish(&restarted, "1.3.0", false);
    let newest = before.listed_names().unwrap()[&package()].newest.clone();
    assert_eq!(newest.unwrap().to_string(), "1.3.0");
}
