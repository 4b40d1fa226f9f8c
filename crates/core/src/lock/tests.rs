//! Locks: one form whatever the inputs' order, and a reason for each that can't be trusted.

pub mod grown;

use proptest::prelude::*;

use super::{Lock, LockedMember, LockedNeed, LockedPackage, salvage};
use crate::digest::Digest;
use crate::name::RegistryName;
use crate::source::Source;

/// The source that tests have, and others beside it.
pub fn test_source(name: &str) -> Source {
    Source::Registry(name.parse::<RegistryName>().unwrap())
}

/// A lock with these packages and versions, all needed by one project, for tests here and next door.
pub fn test_lock(packages: &[(&str, &str)]) -> Lock {
    let package = |(name, version): &(&str, &str)| LockedPackage {
        name: name.parse().unwrap(),
        version: version.parse().unwrap(),
        source: test_source("seedhouse"),
        replaced: false,
        card: Some(Digest::of(format!("{name} {version}").as_bytes())),
        license: Some("MIT".parse().unwrap()),
        targets: Vec::new(),
        components: Vec::new(),
        files: vec![],
        needs: vec![],
        left_out: Vec::new(),
        provides: Vec::new(),
        steps: Vec::new(),
        exposes: std::collections::BTreeMap::new(),
    };
    let need = |(name, _): &(&str, &str)| LockedNeed {
        name: name.parse().unwrap(),
        purpose: None,
        targets: Vec::new(),
    };
    let member = LockedMember {
        name: "gate-kiosk".parse().unwrap(),
        path: ".".into(),
        targets: Vec::new(),
        needs: packages.iter().map(need).collect(),
    };
    let registries = [("seedhouse".parse().unwrap(), Some("../registry".into()))].into();
    let packages = packages.iter().map(package).collect();
    Lock { inputs: Digest::of(b"inputs"), registries, members: vec![member], packages }
}

fn sample() -> Lock {
    test_lock(&[("dew-point", "1.4"), ("rain-ledger", "2.4.1"), ("soil-curve", "1.7")])
}

#[test]
fn reads_back_what_it_wrote() {
    for lock in [sample(), test_lock(&[])] {
        assert_eq!(Lock::read(&lock.to_string()).unwrap(), lock);
    }
    let text = sample().to_string();
    assert_eq!(
        text.lines().filter(|line| line.starts_with("    {\"name\":")).count(),
        4,
        "a member and three packages: {text}"
    );
}

#[test]
fn every_damage_has_its_own_fault_and_says_whether_it_may_be_replaced() {
    let text = sample().to_string();
    let rows = [
        (text[..text.len() / 2].to_owned(), "lock.cut-short", true),
        (text.replace("\"format\": 1", "\"format\": 2"), "lock.newer", false),
        (text.replace("    {\"name\":\"rain", "<<<<<<< HEAD\n    {\"name\":\"rain"), "lock.conflict", true),
        (text.replace("2.4.1", "2.5.0"), "lock.edited", true),
        (text.replace("../registry", "../other"), "lock.edited", true),
        (text.replace("\"source\"", "\"sauce\""), "lock.broken", true),
        ("no lock at all".to_owned(), "lock.broken", true),
        (String::new(), "lock.cut-short", true),
    ];
    for (text, code, replaceable) in rows {
        let fault = Lock::read(&text).unwrap_err();
        assert_eq!((fault.fault.code, fault.replaceable), (code, replaceable), "{text}");
        assert!(text.get(fault.fault.span.clone()).is_some(), "{:?} in {text}", fault.fault.span);
    }
}

#[test]
fn what_can_be_read_of_a_merged_lock_is_kept() {
    let ours = sample().to_string();
    let line = |version: &str| {
        test_lock(&[("rain-ledger", version)])
            .to_string()
            .lines()
            .find(|line| line.contains("\"version\":"))
            .unwrap()
            .to_owned()
    };
    let merged = ours.replace(
        &line("2.4.1"),
        &format!("<<<<<<< ours\n{}\n=======\n{}\n>>>>>>> theirs", line("2.4.1"), line("2.5.0")),
    );
    let kept: Vec<String> = salvage(&merged).iter().map(|p| format!("{} {}", p.name, p.version)).collect();
    assert_eq!(kept, ["dew-point 1.4", "rain-ledger 2.5.0", "soil-curve 1.7"]);
}

proptest! {
    #[test]
    fn any_change_of_a_lock_is_noticed_and_pointed_at(at in 0..700_usize, width in 0..40_usize, piece in "[ -~é\n]{0,12}") {
        let sound = sample().to_string();
        let (at, end) = (at.min(sound.len()), (at + width).min(sound.len()));
        let mut changed = sound.clone();
        changed.replace_range(at..end, &piece);
        match Lock::read(&changed) {
            // Blanks between the parts of a JSON text say nothing, and neither does the note for people.
            Ok(lock) => prop_assert_eq!(lock, sample()),
            Err(fault) => prop_assert!(changed.get(fault.fault.span.clone()).is_some(), "{:?}", fault),
        }
        salvage(&changed);
    }
}
