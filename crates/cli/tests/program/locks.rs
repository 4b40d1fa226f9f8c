//! Locks that can't be trusted: each told for what it is, and made again only by `resolve`.

use insta::assert_snapshot;

use crate::garden::Garden;

fn garden() -> Garden {
    let garden =
        Garden::needing(&["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0"], "rain-ledger = \"2\"");
    garden.run(&["install"]).expect(0);
    garden.publish(&["rain-ledger 2.5.0: dew-point 1", "dew-point 1.5.0"]);
    garden
}

#[test]
fn a_damaged_lock_stops_everything_but_resolve_which_keeps_what_it_can_read() {
    let garden = garden();
    let lock = garden.read("gate/bibliotax.lock");
    let line = lock.lines().find(|line| line.contains("\"rain-ledger\"")).unwrap();
    let rows = [
        (lock[..lock.len() - 60].to_owned(), "lock.cut-short"),
        (lock.replace("1.4.0", "1.4.1"), "lock.edited"),
        (
            lock.replace(line, &format!("<<<<<<< ours\n{line}\n=======\n{line}\n>>>>>>> theirs")),
            "lock.conflict",
        ),
        (lock.replace("\"source\"", "\"sauce\""), "lock.broken"),
    ];
    for (damaged, code) in rows {
        garden.write("gate/bibliotax.lock", &damaged);
        for args in [&["install"][..], &["install", "--sealed"], &["need", "dew-point"], &["verify"]] {
            assert_eq!(garden.run(args).expect(3).code(), code);
            assert_eq!(garden.read("gate/bibliotax.lock"), damaged, "{args:?} leaves it as it is");
        }
        garden.run(&["resolve"]).expect(0);
        garden.run(&["install", "--sealed"]).expect(0);
    }
}

#[test]
fn what_could_be_read_of_a_damaged_lock_stays_at_its_version() {
    let garden = garden();
    let lock = garden.read("gate/bibliotax.lock");
    garden.write("gate/bibliotax.lock", &lock.replace("\"content\":\"", "\"content\":\"0"));
    assert_snapshot!(garden.run(&["resolve"]), @"
    lock: 2 added
      added  dew-point    1.4.0  2.0 KiB  MIT  needed by rain-ledger
      added  rain-ledger  2.4.0  2.0 KiB  MIT  needed here
    wrote the lock (2 packages); next: `bibliotax install`
    ----- stderr
    warning: the lock can't be read; 2 of its packages could be read
    ----- status 0
    ");
    assert_eq!(garden.read("gate/bibliotax.lock"), lock);
}

#[test]
fn a_lock_of_a_newer_version_is_left_alone_even_by_resolve() {
    let garden = garden();
    let newer = garden.read("gate/bibliotax.lock").replace("\"format\": 1", "\"format\": 2");
    garden.write("gate/bibliotax.lock", &newer);
    for args in [&["install"][..], &["resolve"], &["verify"]] {
        assert_eq!(garden.run(args).expect(3).code(), "lock.newer");
    }
    assert_eq!(garden.read("gate/bibliotax.lock"), newer);
}

#[test]
fn without_a_lock_sealed_and_verify_say_so() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    assert_eq!(garden.run(&["install", "--sealed"]).expect(3).code(), "lock.missing");
    assert_eq!(garden.run(&["verify"]).expect(3).code(), "lock.missing");
}

#[test]
fn of_a_first_lock_with_many_packages_only_what_projects_need_themselves_is_told() {
    let bulbs: Vec<String> = (0..120).map(|number| format!("bulb-{number} 1.0.0")).collect();
    let names: Vec<&str> = bulbs.iter().filter_map(|bulb| bulb.split(' ').next()).collect();
    let bed = format!(
        "bulb-bed 1.0.0: {}",
        names.iter().map(|name| format!("{name} 1")).collect::<Vec<_>>().join(", ")
    );
    let releases: Vec<&str> = bulbs.iter().map(String::as_str).chain([bed.as_str()]).collect();
    let garden = Garden::needing(&releases, "bulb-bed = \"1\"");
    assert_snapshot!(garden.run(&["resolve"]), @"
    lock: 121 added
      added  bulb-bed  1.0.0  2.0 KiB  MIT  needed here
     and 120 more: `bibliotax graph` shows what is in the lock
    wrote the lock (121 packages); next: `bibliotax install`
    ----- status 0
    ");
    garden.write("gate/bibliotax.lock", "");
    let output = garden.run(&["--format", "json", "resolve"]).expect(0).json();
    assert_eq!(output["changes"].as_array().unwrap().len(), 121, "data has all of it");
}
