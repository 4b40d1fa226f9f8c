//! Feeds in folders: when their index is made again, and what happens when a file vanishes.

use std::fs;
use std::path::Path;
use std::time::{Duration, SystemTime};

use bibliotax_core::advisory::Key;
use jiff::{SignedDuration, Timestamp};

use super::feed::Feed;
use super::index::Index;
use crate::client::network::Network;

fn record(id: &str, package: &str) -> String {
    serde_json::json!({ "id": id, "modified": "2026-02-01T09:00:00Z", "affected": [{
        "package": { "ecosystem": "Bibliotax", "name": package },
        "ranges": [{ "type": "ECOSYSTEM", "events": [{ "introduced": "0" }] }] }] })
    .to_string()
}

fn found(index: &Index, package: &str) -> Vec<String> {
    let records = index.records(&[Key::of_package(package)]).unwrap();
    records.into_iter().map(|record| record.id).collect()
}

fn feed(folder: &Path, now: Timestamp) -> Feed {
    let network = Network { cache: Some(folder.join("cache")), now, ..Network::default() };
    Feed::new("feed", folder, &network)
}

/// Changes a file without a change of its folder.
fn edit(path: &Path, text: &str) {
    fs::write(path, text).unwrap();
    let file = fs::File::options().write(true).open(path).unwrap();
    file.set_modified(SystemTime::now() + Duration::from_secs(5)).unwrap();
}

#[test]
fn an_edited_record_is_read_again_at_once_in_a_small_folder_and_within_the_hour_in_a_large_one() {
    for (count, at_once) in [(3, true), (2_100, false)] {
        let folder = tempfile::tempdir().unwrap();
        let files = folder.path().join("feed/dew");
        fs::create_dir_all(&files).unwrap();
        for number in 0..count {
            fs::write(files.join(format!("F-{number}.json")), record(&format!("F-{number}"), "dew-point"))
                .unwrap();
        }
        let now = Timestamp::now();
        assert_eq!(found(&feed(folder.path(), now).index().unwrap().unwrap(), "dew-point").len(), count);
        edit(&files.join("F-1.json"), &record("F-1", "moss-map"));
        let index = feed(folder.path(), now).index().unwrap().unwrap();
        assert_eq!(found(&index, "moss-map").len(), usize::from(at_once), "{count} records");
        let later = now + SignedDuration::from_mins(61);
        assert_eq!(found(&feed(folder.path(), later).index().unwrap().unwrap(), "moss-map"), ["F-1"]);
        // A file that comes is seen at once in both.
        fs::write(files.join("F-new.json"), record("F-new", "bark-log")).unwrap();
        assert_eq!(found(&feed(folder.path(), later).index().unwrap().unwrap(), "bark-log"), ["F-new"]);
    }
}

#[test]
fn a_record_that_vanishes_under_the_index_is_an_error_with_a_code() {
    let folder = tempfile::tempdir().unwrap();
    fs::create_dir(folder.path().join("feed")).unwrap();
    let file = folder.path().join("feed/F-1.json");
    fs::write(&file, record("F-1", "dew-point")).unwrap();
    let feed = feed(folder.path(), Timestamp::now());
    let index = feed.index().unwrap().unwrap();
    fs::remove_file(file).unwrap();
    let error = index.records(&[Key::of_package("dew-point")]).unwrap_err();
    assert_eq!(feed.broken(&error).code(), "advisories.feed");
    assert_eq!(index.named("F-1").unwrap_err().to_string(), error.to_string());
}
