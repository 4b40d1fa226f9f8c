//! The same lock, however packages are looked up and in any order.

#![allow(clippy::unwrap_used, reason = "a test that panics has failed")]

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;

use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::Manifest;
use bibliotax_core::resolve::{Problem, resolve};
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::catalogue::connections::Connections;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::publish::load::{LoadOptions, load};
use bibliotax_registry::sources::direct_sources::Freshness;
use bibliotax_registry::storage::folder::Folder;

const PACKAGES: usize = 60;
const RELEASES: usize = 12;

/// Cards of packages that need those of lower numbers, in ranges that sometimes lag behind.
fn cards() -> String {
    let mut cards = String::new();
    for number in 0..PACKAGES {
        for release in 0..RELEASES {
            let needs = (1..=3).map(|step| (number * step * 7 + release) % number.max(1));
            let needs = needs.filter(|needed| *needed < number).map(|needed| {
                let from = (release * needed) % (release + 1);
                serde_json::json!({ "name": format!("bed-n{needed}"), "range": format!("{from} ..") })
            });
            let card = serde_json::json!({ "name": format!("bed-n{number}"), "version": release.to_string(),
                "published": "2026-03-01T08:00:00Z", "needs": needs.collect::<Vec<_>>() });
            writeln!(cards, "{card}").unwrap();
        }
    }
    cards
}

#[test]
fn any_number_of_fetchers_leads_to_the_same_bytes() {
    let folder = tempfile::tempdir().unwrap();
    let registry = Folder::create(&folder.path().join("seedhouse"), "seedhouse", BTreeMap::new()).unwrap();
    fs::write(folder.path().join("cards.jsonl"), cards()).unwrap();
    load(
        &registry,
        &folder.path().join("cards.jsonl"),
        None,
        jiff::Timestamp::UNIX_EPOCH,
        false,
        &LoadOptions::default(),
    )
    .unwrap();
    let needs: String = (PACKAGES - 6..PACKAGES).map(|number| format!("bed-n{number} = \"any\"\n")).collect();
    let manifest =
        format!("[project]\nname = \"gate\"\n[registries]\nseedhouse = \"seedhouse\"\n[needs]\n{needs}");
    let workspace = Workspace::join(Manifest::read(&manifest).unwrap(), Vec::new(), Vec::new()).unwrap();
    let lock = |fetchers: usize| {
        let registries = Registries::open(
            &workspace,
            folder.path(),
            &[],
            Freshness::Locked,
            &Network::default(),
            &Connections::default(),
        )
        .unwrap()
        .with_fetchers(fetchers);
        let resolution = resolve(&Problem::new(&workspace, &[]), &registries);
        Lock::new(&workspace, &resolution.unwrap_or_else(|error| panic!("{error:?}"))).to_string()
    };
    let alone = lock(0);
    assert!(alone.lines().count() > 15, "{alone}");
    for _ in 0..10 {
        assert_eq!(lock(1), alone);
        assert_eq!(lock(16), alone);
    }
}
