//! Lists in which a person searches and marks, on a terminal.

use serde_json::json;

use crate::garden::Garden;
use crate::shells::Shell;

const DOWN: &str = "\u{1b}[B";
const ESCAPE: &str = "\u{1b}";

fn garden(needs: &str) -> Garden {
    let garden = Garden::with(&[]);
    let steps = json!([{ "id": "calibrate", "text": "Dip it into water", "per": "project" },
        { "id": "label", "text": "Stick a label on it", "per": "project" }]);
    let card = |name: &str, version: &str, more: serde_json::Value| {
        let mut card = json!({ "name": name, "version": version, "published": "2026-02-01T09:00:00Z", "license": "MIT" });
        card.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        format!("{card}\n")
    };
    garden.load(
        &[
            card("dew-point", "1.4.0", json!({ "steps": steps })),
            card("dew-point", "1.5.0", json!({ "steps": steps, "notes": "Colder mornings" })),
            card("moss-map", "1.0.0", json!({})),
            card("moss-map", "1.1.0", json!({})),
            card(
                "rain-ledger",
                "2.4.0",
                json!({ "summary": "Keeps the account of rain", "license": "EUPL-1.2" }),
            ),
        ]
        .concat(),
    );
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}{needs}"));
    garden
}

#[test]
fn need_searches_while_one_types_and_takes_what_is_chosen() {
    let garden = garden("");
    let mut terminal = Shell::start(&garden, "stty cols 120; bibliotax need");
    terminal.until("Package:");
    terminal.write("account");
    terminal.until("rain-ledger  2.4.0  EUPL-1.2  fits  Keeps the account of rain");
    terminal.write(&format!("{DOWN}\t"));
    terminal.until("Package: rain-ledger");
    terminal.write("\r");
    terminal.until("Another package");
    terminal.write("moss-map\r");
    terminal.until("Another package");
    terminal.write("\r");
    terminal.until("2 added");
    terminal.until("shelf");
    let manifest = garden.read("gate/bibliotax.toml");
    assert!(manifest.contains("rain-ledger = \"2.4 .. 3\"\nmoss-map = \"1.1 .. 2\""), "{manifest}");
}

#[test]
fn whoever_leaves_changes_nothing() {
    let garden = garden("");
    let before = garden.read("gate/bibliotax.toml");
    for keys in [ESCAPE, "\r", "\u{3}"] {
        let mut terminal = Shell::start(&garden, "stty cols 120; bibliotax need");
        terminal.until("Package:");
        terminal.write(keys);
        terminal.until("no package was chosen");
    }
    assert_eq!(garden.read("gate/bibliotax.toml"), before);
    // Without a terminal, nobody is asked.
    assert_eq!(garden.run(&["need"]).expect(2).code(), "usage.missing");
    garden.run(&["resolve"]).expect(0);
    assert_eq!(garden.run(&["update", "--pick"]).expect(2).code(), "usage.missing");
    assert_eq!(garden.run(&["steps", "done"]).expect(2).code(), "usage.missing");
}

#[test]
fn update_moves_what_is_marked() {
    let garden = garden("dew-point = \"= 1.4.0\"\nmoss-map = \"= 1.0.0\"\n");
    garden.run(&["resolve"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml").replace("= 1.4.0", "1").replace("= 1.0.0", "1");
    garden.write("gate/bibliotax.toml", &manifest);
    let mut terminal = Shell::start(&garden, "stty cols 120; bibliotax update --pick");
    terminal.until("dew-point 1.4.0 → 1.5.0  Colder mornings");
    terminal.until("moss-map 1.0.0 → 1.1.0");
    terminal.write(&format!("{DOWN} \r"));
    terminal.until("1 raised");
    terminal.until("shelf");
    let lock = garden.read("gate/bibliotax.lock");
    assert!(
        lock.contains("\"moss-map\",\"version\":\"1.1.0\"")
            && lock.contains("\"dew-point\",\"version\":\"1.4.0\""),
        "{lock}"
    );
    garden.run(&["update"]).expect(0);
    let mut terminal = Shell::start(&garden, "stty cols 120; bibliotax update --pick");
    terminal.until("nothing to update");
}

#[test]
fn steps_are_ticked_off_in_a_list() {
    let garden = garden("dew-point = \"1\"\n");
    garden.run(&["install"]).expect(0);
    let mut terminal = Shell::start(&garden, "stty cols 120; bibliotax steps done");
    terminal.until("calibrate of dew-point");
    terminal.write(" \r");
    terminal.until("done: calibrate of dew-point, once, for the project");
    let steps = garden.run(&["steps", "--all"]).expect(0).stdout;
    assert!(steps.starts_with("1 step open, 1 done"), "{steps}");
    let mut terminal = Shell::start(&garden, "stty cols 120; bibliotax steps done --undo");
    terminal.until("calibrate of dew-point");
    terminal.write(" \r");
    terminal.until("open again: calibrate of dew-point");
}
