//! What a machine has, checked against what a project asks for.
#![cfg(unix)]

use std::fs;
use std::os::unix::fs::PermissionsExt;

use crate::garden::{Garden, Ran};

/// Runs `ready` with nothing but the garden's own programs in `PATH`.
fn ready(garden: &Garden, args: &[&str]) -> Ran {
    let mut command = garden.command("gate", &[&["ready"], args].concat());
    let output = command.env("PATH", garden.path("bin")).output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    let status = output.status.code().unwrap_or(-1);
    Ran { status, stdout: text(output.stdout), stderr: text(output.stderr) }
}

fn program(garden: &Garden, name: &str, script: &str) {
    garden.write(&format!("bin/{name}"), &format!("#!/bin/sh\n{script}\n"));
    fs::set_permissions(garden.path(&format!("bin/{name}")), fs::Permissions::from_mode(0o755)).unwrap();
}

fn garden(tools: &str) -> Garden {
    let garden = Garden::needing(&[], "");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}[programs]\n{tools}\n"));
    garden
}

#[test]
fn tools_are_found_asked_and_judged() {
    let garden = garden("trowel = \"4 ..\"\nrake = \"2\"\nsieve = \"any\"\nhoe = \"1\"\nspade = \"1\"");
    program(&garden, "trowel", "echo 'Garden Trowel 4.3 (built for beds)'");
    program(&garden, "rake", "echo 'rake 1.9.0' >&2");
    program(&garden, "sieve", "echo fine");
    program(&garden, "hoe", "[ \"$1\" = -V ] && echo 1.0 || exit 2");
    let ran = ready(&garden, &[]).expect(1);
    let line = |tool: &str| {
        ran.stdout.lines().find(|line| line.contains(&format!(" {tool} "))).unwrap_or_default().to_owned()
    };
    assert!(line("trowel").contains("fine") && line("trowel").contains("4.3"), "{ran}");
    assert!(line("rake").contains("problem") && line("rake").contains("1.9.0"), "{ran}");
    assert!(line("sieve").contains("fine"), "{ran}");
    assert!(line("hoe").contains("fine"), "{ran}");
    assert!(line("spade").contains("problem") && line("spade").contains("not found"), "{ran}");
    assert!(ran.stdout.contains("2 problems found"), "{ran}");
    let json = ready(&garden, &["--format", "json"]).expect(1).json();
    let found = json["findings"].as_array().unwrap();
    assert!(found.iter().any(|finding| finding["version"] == "4.3" && finding["level"] == "ok"), "{json}");
}

#[test]
fn a_tool_that_never_answers_holds_nobody_up() {
    let garden = garden("trowel = \"4\"");
    // The shell ends at once, and what it started keeps the outputs open.
    program(&garden, "trowel", "(while :; do :; done) & echo $! >> \"$0.pid\"");
    let ran = ready(&garden, &[]).expect(1);
    assert!(ran.stdout.contains("doesn't report its version"), "{ran}");
    let started = garden.read("bin/trowel.pid");
    assert!(std::process::Command::new("kill").args(started.split_whitespace()).status().unwrap().success());
    assert_eq!(started.lines().count(), 1, "it was asked again though time was up");
}

#[test]
fn what_locked_packages_ask_for_counts_and_a_missing_registry_is_told() {
    let garden = garden("");
    let card = r#"{"name":"valve-proto","version":"1.0.0","published":"2026-03-01T08:00:00Z","programs":{"trowel":"5"}}"#;
    garden.load(&format!("{card}\n"));
    garden.run(&["need", "valve-proto"]).expect(0);
    program(&garden, "trowel", "echo 4.3");
    let ran = ready(&garden, &[]).expect(1);
    assert!(ran.stdout.contains("required: 5 for valve-proto"), "{ran}");
    fs::remove_dir_all(garden.path("seedhouse")).unwrap();
    assert!(ready(&garden, &[]).expect(1).stdout.contains("there is no registry"));
}
