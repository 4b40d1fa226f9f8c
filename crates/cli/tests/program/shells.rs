//! Completions in real shells, and manual pages in `man`.

use std::fs;
use std::process::Command;

use crate::garden::Garden;

fn output(command: &mut Command) -> String {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

fn completions(garden: &Garden, shell: &str) -> std::path::PathBuf {
    garden.write(shell, &garden.run(&["completions", shell]).expect(0).stdout);
    garden.path(shell)
}

#[test]
fn bash_completes_commands_and_options() {
    let garden = Garden::bare();
    let script = completions(&garden, "bash");
    for (words, expected) in [
        ("bibliotax inst", "install"),
        ("bibliotax registry se", "serve"),
        ("bibliotax install --sea", "--sealed"),
        ("bibliotax registry token iss", "issue"),
    ] {
        let last = words.split(' ').next_back().unwrap();
        let complete = format!(
            ". {}; COMP_WORDS=({words}); COMP_CWORD=$((${{#COMP_WORDS[@]}} - 1)); _bibliotax bibliotax '{last}' x; echo \"${{COMPREPLY[@]}}\"",
            script.display()
        );
        assert_eq!(
            output(Command::new("bash").args(["--norc", "-c", &complete])).trim(),
            expected,
            "{words}"
        );
    }
}

#[test]
#[ignore = "needs fish, which `.ci/run` sets up"]
fn fish_completes_commands_and_options() {
    let garden = Garden::bare();
    let script = completions(&garden, "fish");
    let complete = |words: &str| {
        let command = format!("source {}; complete --do-complete '{words}'", script.display());
        output(Command::new("fish").args(["--no-config", "-c", &command]).env("HOME", garden.path("home")))
    };
    assert!(
        complete("bibliotax registry se").starts_with("serve\t"),
        "{}",
        complete("bibliotax registry se")
    );
    assert!(complete("bibliotax install --sea").starts_with("--sealed\t"));
}

#[test]
#[ignore = "needs zsh, which `.ci/run` sets up"]
fn zsh_loads_the_completions() {
    let garden = Garden::bare();
    fs::create_dir(garden.path("functions")).unwrap();
    fs::rename(completions(&garden, "zsh"), garden.path("functions/_bibliotax")).unwrap();
    let command = format!(
        "fpath=({} $fpath); autoload -U compinit; compinit -u -d {}; print $_comps[bibliotax]; autoload +X _bibliotax",
        garden.path("functions").display(),
        garden.path("dump").display()
    );
    assert_eq!(output(Command::new("zsh").args(["-f", "-c", &command])).trim(), "_bibliotax");
}

#[test]
#[ignore = "needs man, which `.ci/run` sets up"]
fn every_command_has_a_page_that_man_shows() {
    let garden = Garden::bare();
    let written = garden.run(&["manual", "pages", "--format", "json"]).expect(0).json();
    let pages: Vec<&str> =
        written["pages"].as_array().unwrap().iter().map(|page| page.as_str().unwrap()).collect();
    for page in ["bibliotax.1", "bibliotax-need.1", "bibliotax-registry-token-issue.1"] {
        assert!(pages.contains(&page), "{pages:?}");
    }
    for page in pages {
        let mut man = Command::new("man");
        man.args(["--warnings", "-l"]).arg(garden.path("gate/pages").join(page)).env("MANWIDTH", "80");
        let shown = man.output().unwrap();
        assert!(shown.status.success(), "{page}: {}", String::from_utf8_lossy(&shown.stderr));
        let text = String::from_utf8_lossy(&shown.stdout);
        assert!(text.contains("NAME") && text.contains("SYNOPSIS"), "{page}: {text}");
    }
}
