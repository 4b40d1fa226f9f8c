//! Standard output that can't be written: the command does its work all the same, and no loss is silent.

use std::fs::OpenOptions;
use std::process::{Output, Stdio};

use crate::garden::Garden;

/// A project with something to say for every command.
fn garden() -> Garden {
    let garden = Garden::needing(
        &["dew-point 1.4.0", "dew-point 1.3.0", "soil-probe 1.0.0: dew-point 1"],
        "soil-probe = \"1\"",
    );
    garden.run(&["install"]).expect(0);
    garden.write("before.lock", &garden.read("gate/bibliotax.lock"));
    garden.write("moss/bibliotax.toml", "[project]\nname = \"moss-map\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n[registries]\nseedhouse = \"../seedhouse\"\n");
    garden.write("moss/moss.txt", "moss\n");
    garden
}

/// Commands that print results, each with the folder it runs in.
const COMMANDS: [(&str, &[&str]); 30] = [
    ("gate", &["--help"]),
    ("gate", &["--version"]),
    ("gate", &["need", "--help"]),
    ("new", &["init"]),
    ("gate", &["find", "dew"]),
    ("gate", &["need", "dew-point"]),
    ("gate", &["drop", "soil-probe"]),
    ("gate", &["resolve"]),
    ("gate", &["install"]),
    ("gate", &["update"]),
    ("gate", &["verify"]),
    ("gate", &["graph"]),
    ("gate", &["graph", "--format", "svg"]),
    ("gate", &["explain", "dew-point"]),
    ("gate", &["newer"]),
    ("gate", &["--format", "json", "newer"]),
    ("gate", &["compare", "../before.lock", "bibliotax.lock", "--format", "markdown"]),
    ("gate", &["describe", "dew-point"]),
    ("gate", &["fit", "dew-point", "--try", "hand:arch=x86_64"]),
    ("gate", &["ready"]),
    ("gate", &["check"]),
    ("gate", &["store", "show"]),
    ("gate", &["store", "trim"]),
    ("gate", &["store", "check"]),
    ("gate", &["kit", "make", "a.kit"]),
    ("moss", &["publish", "seedhouse"]),
    ("gate", &["deprecate", "dew-point", "1.3", "--reason", "slow", "--registry", "seedhouse"]),
    (".", &["registry", "create", "other"]),
    (".", &["registry", "check", "seedhouse"]),
    (".", &["registry", "token", "issue", "seedhouse", "a test", "--only", "moss-*"]),
];

fn ran_into(garden: &Garden, (folder, args): (&str, &[&str]), out: Stdio) -> Output {
    std::fs::create_dir_all(garden.path(folder)).unwrap();
    garden.command(folder, args).stdout(out).output().unwrap()
}

#[test]
fn results_that_can_not_be_written_are_an_error_and_the_work_is_done() {
    for command in COMMANDS {
        let garden = garden();
        let full = OpenOptions::new().write(true).open("/dev/full").unwrap();
        let ran = ran_into(&garden, command, full.into());
        let stderr = String::from_utf8(ran.stderr).unwrap();
        assert_eq!(ran.status.code(), Some(74), "{command:?}: {stderr}");
        assert!(stderr.contains("output.lost"), "{command:?}: {stderr}");
    }
}

#[test]
fn a_reader_that_goes_away_changes_nothing() {
    for command in COMMANDS {
        let (read, closed) = (garden(), garden());
        let usual = ran_into(&read, command, Stdio::piped());
        let (reader, writer) = std::io::pipe().unwrap();
        drop(reader);
        let ran = ran_into(&closed, command, writer.into());
        let stderr = String::from_utf8_lossy(&ran.stderr).into_owned();
        assert_eq!(ran.status.code(), usual.status.code(), "{command:?}: {stderr}");
        for file in
            ["gate/bibliotax.toml", "gate/bibliotax.lock", "new/bibliotax.toml", "other/registry.json"]
        {
            let text = |garden: &Garden| std::fs::read_to_string(garden.path(file)).ok();
            assert_eq!(text(&closed), text(&read), "{command:?}: {file}");
        }
    }
}

#[test]
fn colours_are_where_they_are_asked_for() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let has_colours = |args: &[&str], variables: &[(&str, &str)]| {
        let mut command = garden.command("gate", &[args, &["describe", "kettle"]].concat());
        let error = command.envs(variables.iter().copied()).output().unwrap().stderr;
        let mut command = garden.command("gate", &[args, &["upgrade"]].concat());
        let usage = command.envs(variables.iter().copied()).output().unwrap().stderr;
        assert_eq!(error.contains(&b'\x1b'), usage.contains(&b'\x1b'), "{args:?}");
        error.contains(&b'\x1b')
    };
    for (args, variables, expected) in [
        (&[][..], &[][..], false),
        (&["--color", "always"], &[], true),
        (&[], &[("CLICOLOR_FORCE", "1")], true),
        (&["--color", "never"], &[("CLICOLOR_FORCE", "1")], false),
        (&["--color", "always"], &[("NO_COLOR", "1")], true),
    ] {
        assert_eq!(has_colours(args, variables), expected, "{args:?} {variables:?}");
    }
}
