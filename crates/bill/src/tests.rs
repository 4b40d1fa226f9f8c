//! Documents of a lock, read back.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::card::Card;
use bibliotax_core::facet::Target;
use bibliotax_core::lock::samples::garden_lock;
use bibliotax_core::lock::{Lock, NeedGraph, Scope};
use bibliotax_core::name::{PackageName, Purpose};
use jiff::Timestamp;
use serde_json::Value;

use crate::bill::{Bill, BillSource};
use crate::listed::{self, ListedPackage, Unreadable};
use crate::{cyclonedx, package_urls, spdx2, spdx3};

fn bill_without(lock: &Lock, without: &[&str]) -> Bill {
    let without: Vec<Purpose> = without.iter().map(|purpose| purpose.parse().unwrap()).collect();
    let machine = Target::this_machine();
    let card = |package: &bibliotax_core::lock::LockedPackage| {
        let published: Timestamp = "2026-03-01T09:00:00Z".parse().unwrap();
        let card = Card {
            summary: Some(format!("It says \"<{}>\" & \\", package.name)),
            upstream: vec!["pkg:github/fernhollow/moss@1.0".parse().unwrap()],
            ..Card::bare(package.name.clone(), package.version.clone(), published)
        };
        (package.name.clone(), card)
    };
    Bill::new(BillSource {
        lock,
        scope: Scope { projects: &[], targets: &[], without: &without, machine: &machine },
        projects: BTreeMap::new(),
        cards: lock.packages.iter().map(card).collect(),
        time: None,
        tool_version: "1.2.3",
    })
}

fn bill(lock: &Lock) -> Bill {
    bill_without(lock, &[])
}

fn documents(bill: &Bill) -> [String; 3] {
    let text = |document: Value| serde_json::to_string_pretty(&document).unwrap();
    [
        text(serde_json::to_value(cyclonedx::document(bill)).unwrap()),
        text(serde_json::to_value(spdx2::document(bill)).unwrap()),
        text(serde_json::to_value(spdx3::document(bill)).unwrap()),
    ]
}

/// What a lock has, as a document of it has to list it.
fn expected(lock: &Lock) -> BTreeSet<(String, Option<String>, BTreeSet<String>)> {
    let of = |package: &bibliotax_core::lock::LockedPackage| {
        let is_git = package.source.git().is_some();
        let digests = package.files.iter().filter(|_| !is_git).map(|file| file.sha256.to_string());
        (package.name.to_string(), Some(package.version.to_string()), digests.collect())
    };
    lock.packages.iter().map(of).collect()
}

#[test]
fn every_form_lists_what_the_lock_has_and_is_the_same_each_time() {
    let lock = garden_lock();
    let bill = bill(&lock);
    assert_eq!(documents(&bill), documents(&self::bill(&lock)));
    for text in documents(&bill) {
        let listed = listed::read(&text).unwrap();
        let of = |one: ListedPackage| (one.name, one.version, one.sha256.into_iter().collect());
        // A bill of several projects lists them, too.
        let is_project =
            |one: &ListedPackage| lock.projects.iter().any(|project| project.name.as_str() == one.name);
        let packages = listed.packages.into_iter().filter(|one| !is_project(one));
        let found: BTreeSet<_> = packages.map(of).collect();
        assert_eq!(found, expected(&lock), "{}", listed.format);
    }
}

#[test]
fn the_dependencies_are_those_of_the_lock() {
    let lock = garden_lock();
    let document = serde_json::to_value(cyclonedx::document(&bill(&lock))).unwrap();
    let graph = NeedGraph::of(&lock);
    let name = |label: &str| label.split('@').next().unwrap().to_owned();
    let found: BTreeMap<String, BTreeSet<String>> = document["dependencies"]
        .as_array()
        .unwrap()
        .iter()
        .map(|dependency| {
            let on = dependency["dependsOn"].as_array().unwrap().iter();
            (name(dependency["ref"].as_str().unwrap()), on.map(|on| name(on.as_str().unwrap())).collect())
        })
        .collect();
    for (at, package) in lock.packages.iter().enumerate() {
        let needs: BTreeSet<String> =
            graph.needs(at).iter().map(|needed| lock.packages[*needed].name.to_string()).collect();
        assert_eq!(found[package.name.as_str()], needs, "{}", package.name);
    }
    for project in &lock.projects {
        let names = project.needs.iter().filter_map(|need| graph.answering(&need.name));
        let needs: BTreeSet<String> = names.map(|at| lock.packages[at].name.to_string()).collect();
        assert_eq!(found[&format!("project:{}", project.name)], needs, "{}", project.name);
    }
}

#[test]
fn what_is_left_out_changes_the_bill_and_its_serial_number() {
    let lock = garden_lock();
    let (all, few) = (bill(&lock), bill_without(&lock, &["test"]));
    let graph = NeedGraph::of(&lock);
    let projects: Vec<_> = lock.projects.iter().collect();
    let without: Purpose = "test".parse().unwrap();
    let reached = graph.reached(&projects, &[without]);
    let names: BTreeSet<&PackageName> = few.components.iter().map(|one| &one.package.name).collect();
    assert_eq!(names, reached.keys().map(|at| &lock.packages[*at].name).collect());
    assert_ne!(all.uuid("spdx"), few.uuid("spdx"));
    assert_ne!(all.uuid("spdx"), all.uuid("cyclonedx"));
    let uuid = all.uuid("spdx");
    assert!(
        uuid.len() == 36 && uuid.as_bytes()[14] == b'8' && b"89ab".contains(&uuid.as_bytes()[19]),
        "{uuid}"
    );
}

#[test]
fn package_urls_read_back_with_name_version_and_checksums() {
    let lock = garden_lock();
    let lines = package_urls::lines(&bill(&lock));
    let named: BTreeSet<(String, Option<String>)> =
        lines.lines().map(|line| package_urls::named(line).unwrap()).collect();
    assert_eq!(named, expected(&lock).into_iter().map(|(name, version, _)| (name, version)).collect());
    for line in lines.lines() {
        let url: packageurl::PackageUrl<'_> = line.parse().unwrap();
        assert_eq!(url.to_string(), line);
    }
}

#[test]
fn other_files_are_refused_or_read_as_far_as_they_go() {
    assert!(matches!(listed::read("{"), Err(Unreadable::Json(_))));
    assert_eq!(listed::read("[]"), Err(Unreadable::Format));
    assert_eq!(listed::read("{}"), Err(Unreadable::Format));
    assert!(matches!(listed::read(r#"{"bomFormat":"CycloneDX"}"#), Err(Unreadable::Json(_))));
    // Deeper than any reader goes.
    let deep = format!("{}{}", "[".repeat(100_000), "]".repeat(100_000));
    assert!(matches!(listed::read(&deep), Err(Unreadable::Json(_))));
    // A package URL of an ecosystem has another name than the package; the name counts.
    let other = r#"{"bomFormat":"CycloneDX","specVersion":"1.5","components":[
        {"type":"library","name":"moss","version":"1","purl":"pkg:npm/%40fern/moss@2","components":[
            {"type":"library","group":"fern","name":"inner"}]},
        {"type":"file","name":"README"}]}"#;
    let names: Vec<String> =
        listed::read(other).unwrap().packages.into_iter().map(|package| package.name).collect();
    assert_eq!(names, ["moss", "fern/inner"]);
    // A file that describes all of its packages has no product that isn't a package.
    let flat = r#"{"spdxVersion":"SPDX-2.2","packages":[{"SPDXID":"SPDXRef-a","name":"moss","versionInfo":"1"}],
        "documentDescribes":["SPDXRef-a"]}"#;
    let found = listed::read(flat).unwrap();
    assert_eq!((found.format.as_str(), found.packages.len()), ("SPDX 2.2", 1));
}
