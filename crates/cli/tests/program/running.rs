//! `with` and `task`: programs that find the packages, and end as they end.

use std::process::Stdio;
use std::time::{Duration, Instant};

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::Garden;

/// A project that needs a package with a program.
fn garden(tasks: &str) -> Garden {
    let garden = Garden::needing(&[], &format!("leaf-press = \"1\"\n\n[tasks]\n{tasks}"));
    garden.write_tar("archives/leaf-press.tar", &[("bin/press", b"#!/bin/sh\necho \"pressed $*\"\n")]);
    let card = json!({ "name": "leaf-press", "version": "1.0.0", "published": "2026-03-01T09:00:00Z",
        "exposes": { "bin": ["bin"] }, "files": [{ "path": "archives/leaf-press.tar" }] });
    garden.load(&format!("{card}\n"));
    garden
}

#[test]
fn a_command_finds_the_packages_and_its_output_stays_its_own() {
    let garden = garden("");
    let ran = garden.run(&[
        "with",
        "--",
        "sh",
        "-c",
        "echo $BIBLIOTAX_PACKAGE_LEAF_PRESS; echo $BIBLIOTAX_PROJECT; exit 9",
    ]);
    assert_snapshot!(ran, @"
    GARDEN/gate/shelf/leaf-press
    GARDEN/gate
    ----- stderr
    lock: 1 added
      added  leaf-press  1.0.0  2.0 KiB  licence not declared  needed here
    shelf: 1 package installed, 2.0 KiB downloaded (TIME)
    ----- status 9
    ");
    // The program lies in the shelf, of which nobody said that it can be run: the shell reads it.
    let ran = garden.run(&["with", "--", "sh", "-c", "sh ${PATH##*:}/press 'a  b' c"]).expect(0);
    assert_eq!(
        (ran.stdout.as_str(), ran.stderr.as_str()),
        ("pressed a  b c\n", ""),
        "silent where nothing is to do"
    );
    let json = garden.run(&["with", "--format", "json", "--", "cat"]).expect(0);
    assert_eq!(json.stdout, "");
    assert_eq!(garden.run(&["with", "--", "no-such-program"]).expect(127).code(), "task.no-program");
    garden.run(&["with"]).expect(2);
    // Below the project's folder the command runs in the folder where it was started.
    garden.write("gate/src/main.c", "");
    assert_eq!(garden.run_in("gate/src", &["with", "--", "ls"]).expect(0).stdout, "main.c\n");
}

#[test]
fn tasks_run_what_they_need_before_them_and_pass_on_how_they_end() {
    let garden = garden(
        "press = \"echo pressing\"\n\
         dry = { do = \"echo drying in $(basename $PWD) with\", after = [\"press\"], in = \"loft\" }\n\
         all = { after = [\"dry\"] }\n\
         wet = \"exit 5\"\n\
         sold = { do = \"echo sold\", after = [\"wet\"] }\n",
    );
    garden.write("gate/loft/leaf.txt", "");
    assert_snapshot!(garden.run(&["task"]), @"
      press               echo pressing
      dry    after press  echo drying in $(basename $PWD) with
      all    after dry
      wet                 exit 5
      sold   after wet    echo sold
    ----- status 0
    ");
    garden.run(&["install"]).expect(0);
    assert_snapshot!(garden.run_in("gate/loft", &["task", "dry", "--", "two words", "$HOME;"]), @"
    pressing
    drying in loft with two words $HOME;
    ----- stderr
    press: echo pressing
    dry: echo drying in $(basename $PWD) with
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["task", "all"]), @"
    pressing
    drying in loft with
    ----- stderr
    press: echo pressing
    dry: echo drying in $(basename $PWD) with
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["task", "sold"]), @"
    ----- stderr
    wet: exit 5
    warning: task `wet` failed, so `sold` was not run
    ----- status 5
    ");
    assert_snapshot!(garden.run(&["task", "--dry-run", "sold"]), @"
      would run wet: exit 5
      would run sold: echo sold
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["task", "dri"]), @"
    ----- stderr
    error: the manifest has no task `dri`  (task.unknown)
    try: `dry`
    ----- status 2
    ");
}

#[test]
fn under_sealed_a_stale_lock_is_refused_and_named() {
    let garden = garden("press = \"echo pressing\"\n");
    assert_eq!(garden.run(&["task", "--sealed", "press"]).expect(3).code(), "lock.missing");
    garden.run(&["task", "press"]).expect(0);
    garden.run(&["task", "--sealed", "press"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("leaf-press = \"1\"", "leaf-press = \"1.0\""));
    let lock = garden.read("gate/bibliotax.lock");
    assert_snapshot!(garden.run(&["task", "--sealed", "press"]), @"
    ----- stderr
    error: bibliotax.toml changed since bibliotax.lock was written  (lock.stale)
    try: run `bibliotax install` without --sealed, and commit the lock
    ----- status 1
    ");
    assert_eq!(garden.read("gate/bibliotax.lock"), lock);
}

#[test]
fn of_several_targets_the_one_for_this_machine_is_taken_or_has_to_be_named() {
    let garden =
        garden("where = \"echo $BIBLIOTAX_TARGET $(basename $(dirname $BIBLIOTAX_PACKAGE_LEAF_PRESS))\"\n");
    let manifest = garden.read("gate/bibliotax.toml");
    let other = if std::env::consts::ARCH == "x86_64" { "aarch64" } else { "x86_64" };
    let targets = format!(
        "[targets.kiosk]\narch = \"{}\"\n[targets.hand]\narch = \"{other}\"\n",
        std::env::consts::ARCH
    );
    garden.write("gate/bibliotax.toml", &format!("{manifest}{targets}[rules]\nundeclared = \"accept\"\n"));
    assert_eq!(garden.run(&["task", "where"]).expect(0).stdout, "kiosk kiosk\n");
    assert_eq!(garden.run(&["task", "where", "--target", "hand"]).expect(0).stdout, "hand hand\n");
    garden.run(&["task", "where", "--target", "hnad"]).expect(2);
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}{}", targets.replace(std::env::consts::ARCH, "riscv64")),
    );
    assert_snapshot!(garden.run(&["task", "where"]), @"
    ----- stderr
    error: the target isn't clear: none of the targets is for a machine like this one  (task.which-target)
    try: choose one with `--target`: kiosk, hand
    ----- status 2
    ");
}

/// Sends a signal to the program once it has printed something, and tells how it ended.
fn signalled(garden: &Garden, args: &[&str], signal: &str) -> Option<i32> {
    use std::io::Read;
    let program = garden.command("gate", args);
    // Where the tests run in a shell's background, that ignores interrupts, and no shell below may catch them.
    let mut command = std::process::Command::new("env");
    command.arg("--default-signal=INT,TERM").arg(program.get_program()).args(program.get_args());
    command.current_dir(program.get_current_dir().unwrap()).env_clear();
    command.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
    child.stdout.as_mut().unwrap().read_exact(&mut [0]).unwrap();
    let sent = std::process::Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
    assert!(sent.success());
    let begun = Instant::now();
    while child.try_wait().unwrap().is_none() && begun.elapsed() < Duration::from_secs(20) {
        std::thread::yield_now();
    }
    // Whom no signal reached ends now, with no status of its own.
    let _ = child.kill();
    child.wait().unwrap().code()
}

#[test]
fn a_signal_reaches_the_program_that_runs() {
    let script = "trap 'exit 42' TERM INT; echo up; while :; do sleep 0.05; done";
    let garden =
        garden(&format!("wait = \"{script}\"\nafter = {{ do = \"echo after\", after = [\"wait\"] }}\n"));
    garden.run(&["install"]).expect(0);
    for signal in ["-TERM", "-INT"] {
        assert_eq!(signalled(&garden, &["with", "--", "sh", "-c", script], signal), Some(42));
        assert_eq!(signalled(&garden, &["task", "wait"], signal), Some(42));
        assert_eq!(signalled(&garden, &["task", "after"], signal), Some(42), "one that is waited for");
    }
}
