//! Steps that people do by hand: told after an install, ticked off, seen to be done, open again.

use std::process::Command;

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::Garden;

/// Loads a release of the probe whose calibrating reads so.
fn publish(garden: &Garden, version: &str, text: &str) {
    let archive = format!("archives/soil-probe-{version}.tar");
    garden.write_tar(&archive, &[("table.csv", version.as_bytes())]);
    let steps = json!([
        { "id": "calibrate", "per": "device", "for": { "arch": "aarch64" }, "text": text },
        { "id": "switch-on", "per": "target", "when": "update", "text": "Switch the probe on in the settings." },
        { "id": "wire", "text": "Wire the probe into the build.", "check": { "file": "src/main.c", "contains": "probe.h" } },
    ]);
    let card = json!({ "name": "soil-probe", "version": version, "published": "2026-03-01T09:00:00Z",
        "fits": { "arch": ["aarch64", "x86_64"] }, "steps": steps, "files": [{ "path": archive }] });
    garden.load(&format!("{card}\n"));
}

fn garden(devices: &str) -> Garden {
    let garden = Garden::needing(
        &[],
        &format!(
            "soil-probe = \"1\"\n[targets.hand-unit]\narch = \"aarch64\"\n[targets.kiosk]\narch = \"x86_64\"\n{devices}"
        ),
    );
    publish(
        &garden,
        "1.0.0",
        "Load table.csv onto the device, hold the probe into dry soil, and press both buttons until it beeps.",
    );
    garden
}

#[test]
fn what_is_to_be_done_by_hand_is_told_listed_and_ticked_off() {
    let garden = garden("[devices]\nhand-3 = \"hand-unit\"\nhand-7 = \"hand-unit\"\n");
    assert_snapshot!(garden.run(&["install"]), @"
    lock: 1 added
      added  soil-probe  1.0.0  2.0 KiB  licence not declared  needed here
    shelf: 2 packages installed, 2.0 KiB downloaded (TIME)
    steps: 5 to do by hand; see `bibliotax steps`
       calibrate  soil-probe  on hand-3
       calibrate  soil-probe  on hand-7
       switch-on  soil-probe  for hand-unit
       switch-on  soil-probe  for kiosk
       wire       soil-probe  once, for the project
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["steps"]), @"
    5 steps open, 0 done

    calibrate  soil-probe 1.0.0
      Load table.csv onto the device, hold the probe into dry soil, and press both buttons until it
      beeps.
       open  on hand-3
       open  on hand-7

    switch-on  soil-probe 1.0.0
      Switch the probe on in the settings.
       open  for hand-unit
       open  for kiosk

    wire  soil-probe 1.0.0
      Wire the probe into the build.
       open  once, for the project

    `bibliotax steps done STEP` marks a step as done
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["steps", "done", "calibrate"]), @"
    ----- stderr
    error: this step is done separately on hand-3, on hand-7  (step.which)
    try: choose one with `--device NAME`
    ----- status 2
    ");
    assert_snapshot!(garden.run(&["steps", "done", "calibrate", "--device", "hand-8"]), @"
    ----- stderr
    error: there is no device `hand-8`  (step.which)
    try: `hand-3` or `hand-7`
    ----- status 2
    ");
    assert_snapshot!(garden.run(&["steps", "done", "calibrate", "--device", "hand-3"]), @"
    done: calibrate of soil-probe, on hand-3
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["steps", "done", "switch-on", "--target", "kiosk", "--dry-run"]), @"
    would be done: switch-on of soil-probe, for kiosk
    ----- status 0
    ");
    garden.run(&["steps", "done", "switch-on", "--target", "kiosk"]).expect(0);
    garden.run(&["steps", "done", "wire"]).expect(0);
    assert_eq!(garden.run(&["steps", "done", "wipe"]).expect(2).code(), "step.unknown");
    assert_snapshot!(garden.run(&["steps", "--all"]), @"
    2 steps open, 3 done

    calibrate  soil-probe 1.0.0
      Load table.csv onto the device, hold the probe into dry soil, and press both buttons until it
      beeps.
       done  on hand-3
       open  on hand-7

    switch-on  soil-probe 1.0.0
      Switch the probe on in the settings.
       open  for hand-unit
       done  for kiosk

    wire  soil-probe 1.0.0
      Wire the probe into the build.
       done  once, for the project

    `bibliotax steps done STEP` marks a step as done
    ----- status 0
    ");
    garden.run(&["steps", "done", "calibrate", "--device", "hand-3", "--undo"]).expect(0);
    assert_eq!(garden.run(&["steps", "--format", "json"]).expect(0).json()["open"], 3);
    assert_snapshot!(garden.read("gate/bibliotax.steps/soil-probe+wire"), @r#"{"format":1,"version":"1.0.0","step":"dd16beece995c2b70c6811c2f1d39248b85c287ca80258e0447b664e4f40004e"}"#);
}

#[test]
fn an_update_opens_again_what_reads_otherwise_or_wants_to_be_done_each_time() {
    let garden = garden("");
    garden.run(&["install"]).expect(0);
    for args in [
        ["wire", "--package", "soil-probe"],
        ["switch-on", "--target", "kiosk"],
        ["calibrate", "--device", "hand-1"],
    ] {
        garden.run(&["steps", "done", args[0], args[1], args[2]]).expect(0);
    }
    publish(&garden, "1.1.0", "Load table.csv onto the device and hold the probe into wet soil.");
    garden.run(&["update"]).expect(0);
    assert_snapshot!(garden.run(&["steps"]), @"
    3 steps open, 1 done

    calibrate  soil-probe 1.1.0
      Load table.csv onto the device and hold the probe into wet soil.
       open again, because its text changed  on hand-1

    switch-on  soil-probe 1.1.0
      Switch the probe on in the settings.
       open                          for hand-unit
       open again, after the update  for kiosk

    `bibliotax steps done STEP` marks a step as done
    ----- status 0
    ");
}

#[test]
fn a_check_sees_what_was_done_and_what_was_undone() {
    let garden = garden("");
    garden.run(&["install"]).expect(0);
    assert_snapshot!(garden.run(&["steps", "check"]), @"
      open  wire of soil-probe, once, for the project  src/main.c has `probe.h`
    ----- status 1
    ");
    garden.write("gate/src/main.c", "#include \"probe.h\"\n");
    garden.run(&["steps", "check", "--dry-run"]).expect(0);
    assert!(!garden.path("gate/bibliotax.steps").exists());
    assert_snapshot!(garden.run(&["steps", "check"]), @"
      done  wire of soil-probe, once, for the project  src/main.c has `probe.h`
    ----- status 0
    ");
    assert!(garden.path("gate/bibliotax.steps/soil-probe+wire").exists());
    garden.write("gate/src/main.c", "\n");
    garden.run(&["steps", "check"]).expect(1);
    assert!(!garden.path("gate/bibliotax.steps").exists(), "open again");
}

#[test]
fn two_people_who_tick_merge_without_a_conflict() {
    let garden = garden("");
    garden.run(&["install"]).expect(0);
    let git = |args: &[&str]| {
        let mut command = Command::new("git");
        command.args(["-c", "user.name=Fern", "-c", "user.email=fern@fernhollow.example"]).args(args);
        let output = command.current_dir(garden.path("gate")).output().unwrap();
        assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    };
    git(&["init", "-q", "-b", "main"]);
    git(&["add", "bibliotax.toml", "bibliotax.lock"]);
    git(&["commit", "-qm", "begin"]);
    for (branch, device) in [("one", "hand-1"), ("other", "hand-2")] {
        git(&["checkout", "-q", "-b", branch, "main"]);
        garden.run(&["steps", "done", "calibrate", "--device", device]).expect(0);
        garden.run(&["steps", "done", "wire"]).expect(0);
        git(&["add", "."]);
        git(&["commit", "-qm", branch]);
    }
    git(&["merge", "-q", "one"]);
    assert_eq!(
        garden.run(&["steps", "--format", "json"]).expect(0).json()["open"],
        2,
        "switch-on, for two targets"
    );
}

#[test]
fn of_some_projects_only_what_they_reach_is_listed_and_only_on_their_targets() {
    let garden = garden("");
    garden.write(
        "ws/bibliotax.toml",
        "[workspace]\nfolders = [\"hand\", \"kiosk\", \"plain\"]\n[registries]\nseedhouse = \"../seedhouse\"\n",
    );
    let project = |name: &str, target: &str, needs: &str| {
        let text = format!("[project]\nname = \"{name}\"\n{target}[needs]\n{needs}\n");
        garden.write(&format!("ws/{name}/bibliotax.toml"), &text);
    };
    project(
        "hand",
        "[targets.hand-unit]\narch = \"aarch64\"\n[devices]\nhand-3 = \"hand-unit\"\n",
        "soil-probe = \"1\"",
    );
    project("kiosk", "[targets.kiosk]\narch = \"x86_64\"\n", "soil-probe = \"1\"");
    project("plain", "[targets.kiosk]\narch = \"x86_64\"\n", "");
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let places = |projects: &str| -> Vec<String> {
        let ran = garden.run_in("ws", &["steps", "--in", projects, "--format", "json"]).expect(0).json();
        let steps = ran["steps"].as_array().unwrap().iter();
        steps.map(|step| format!("{} {}", step["id"], step["place"]).replace('"', "")).collect()
    };
    let of_hand = ["calibrate {device:hand-3}", "switch-on {target:hand-unit}", "wire project"];
    assert_eq!(places("hand"), of_hand);
    assert_eq!(places("kiosk"), ["switch-on {target:kiosk}", "wire project"]);
    assert_eq!(places("plain"), [""; 0]);
    assert_eq!(places("all").len(), 4);
    assert_eq!(places("hand,kiosk").len(), 4);
}
