//! Locks: one form for any order of the inputs, and a reason for each that can't be trusted.

mod reached;

use proptest::prelude::*;

use super::samples::{test_charter, test_lock};
use super::{Lock, changed_charters, salvage, salvage_charters};

fn sample() -> Lock {
    test_lock(&[("dew-point", "1.4"), ("rain-ledger", "2.4.1"), ("soil-curve", "1.7")])
}

#[test]
fn reads_back_what_it_wrote() {
    let charters = vec![test_charter("fernhollow/season", "2026.2.0", &[("dew-point", "1.4 .. 2")])];
    for lock in [sample(), test_lock(&[]), Lock { charters, ..sample() }] {
        assert_eq!(Lock::read(&lock.to_string()).unwrap(), lock);
    }
    let text = sample().to_string();
    assert_eq!(
        text.lines().filter(|line| line.starts_with("    {\"name\":")).count(),
        4,
        "a project and three packages: {text}"
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

#[test]
fn the_charters_of_a_lock_can_be_read_where_the_rest_can_not() {
    let charter = |version| test_charter("fernhollow/season", version, &[("dew-point", "1.4 .. 2")]);
    let [ours, theirs] =
        ["2026.1.0", "2026.2.0"].map(|version| Lock { charters: vec![charter(version)], ..sample() });
    let ours = ours.to_string();
    assert_eq!(salvage_charters(&ours[..ours.len() / 2]), [charter("2026.1.0")]);
    let both = format!("<<<<<<< HEAD\n{ours}=======\n{theirs}>>>>>>> theirs\n");
    assert_eq!(salvage_charters(&both), [charter("2026.2.0")], "of two sides, the newer release");
    assert_eq!(salvage(&both).len(), 3);
    let moved = changed_charters(&ours, &theirs.to_string());
    assert_eq!(moved, [vec![charter("2026.1.0")], vec![charter("2026.2.0")]]);
}
