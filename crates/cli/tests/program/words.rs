//! Typing mistakes on the command line and in files: the error says what was meant, and nothing is done.

use crate::garden::Garden;

#[test]
fn a_program_that_can_not_be_run_ends_as_a_shell_has_it() {
    let garden = Garden::with(&[]);
    assert_eq!(garden.run(&["with", "--", "no-such-program"]).expect(127).code(), "task.no-program");
    assert_eq!(garden.run(&["with", "--", "/etc/passwd"]).expect(126).code(), "task.not-started");
    let _ = garden.run(&["with", "--", "sh", "-c", "exit 3"]).expect(3);
}

#[test]
fn a_manifest_with_both_sides_of_a_merge_is_told_as_such() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}<<<<<<< HEAD\ndew-point = \"1\"\n=======\ndew-point = \"2\"\n>>>>>>> other\n"),
    );
    let ran = garden.run(&["install"]).expect(3);
    assert!(ran.stderr.contains("manifest.conflict") && ran.stderr.contains("resolve"), "{ran}");
}

#[test]
fn packages_in_another_form_are_told_in_the_right_one() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    for word in ["dew-point@1.4.0", "dew-point==1.4.0"] {
        let ran = garden.run(&["need", word]).expect(2);
        assert!(ran.stderr.contains("dew-point \"= 1.4.0\""), "{ran}");
    }
    let ran = garden.run(&["install", "dew-point"]).expect(2);
    assert!(ran.stderr.contains("bibliotax need dew-point"), "{ran}");
}

#[test]
fn purposes_and_lifetimes_that_there_are_not_are_refused() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "[needs-for.test]\ndew-point = \"1\"");
    for command in ["install", "graph"] {
        garden.run(&["install"]).expect(0);
        let ran = garden.run(&[command, "--leave-out", "tests"]).expect(2);
        assert!(ran.stderr.contains("install.purpose") && ran.stderr.contains("`test`"), "{ran}");
    }
    let args = ["registry", "token", "issue", "../seedhouse", "a", "--only", "*", "--days", "0"];
    let _ = garden.run(&args).expect(2);
}

#[test]
fn nothing_is_deprecated_that_is_not_there_and_nobody_is_sent_where_nothing_is() {
    let garden = Garden::with(&["dew-point 1.4.0", "bark-log 1.0.0"]);
    for args in [&["9"][..], &["1", "--instead", "dew-piont"], &["1", "--instead", "dew-point"]] {
        let all = [&["deprecate", "dew-point", "--reason", "old"], args].concat();
        let ran = garden.run(&all).expect(4);
        assert!(ran.stderr.contains("package.unknown"), "{ran}");
    }
    let _ =
        garden.run(&["deprecate", "dew-point", "1", "--reason", "old", "--instead", "bark-log"]).expect(0);
    garden.run(&["need", "dew-point"]).expect(0);
    let says_old = |garden: &Garden| garden.run(&["check"]).expect(0).stdout.contains("old");
    garden.run(&["update"]).expect(0);
    assert!(says_old(&garden));
    let back = ["deprecate", "dew-point", "1.4", "--undo"];
    assert!(garden.run(&back).expect(0).stdout.contains("dew-point 1.4 is no longer deprecated"));
    assert!(garden.run(&back).expect(0).stdout.contains("already"));
    garden.run(&["update"]).expect(0);
    assert!(!says_old(&garden));
    garden.run(&["deprecate", "dew-point", "9", "--undo"]).expect(4);
    garden.run(&["deprecate", "dew-point", "1", "--undo", "--reason", "x"]).expect(2);
}

#[test]
fn a_manifest_under_a_near_name_is_noticed() {
    for name in ["Bibliotax.toml", "bibliotax.yaml", "bibilotax.toml"] {
        let garden = Garden::bare();
        garden.write(&format!("gate/{name}"), "[project]\nname = \"gate-kiosk\"\n");
        let ran = garden.run(&["install"]).expect(3);
        assert!(ran.stderr.contains(name) && ran.stderr.contains("rename"), "{ran}");
    }
    let garden = Garden::bare();
    garden.write("gate/package.toml", "");
    assert!(!garden.run(&["install"]).expect(3).stderr.contains("package.toml"));
}

#[test]
fn a_registry_that_is_not_there_is_told_when_a_project_begins() {
    let garden = Garden::bare();
    for (place, is_missing) in [("seedhouse=../seedhuose", true), ("seedhouse=../seedhouse", false)] {
        let ran = garden.run(&["init", "--registry", place, "--dry-run"]).expect(0);
        assert_eq!(ran.stderr.contains("no registry in"), is_missing, "{ran}");
    }
}

#[test]
fn a_name_that_lacks_its_scope_is_found_by_the_rest() {
    let garden = Garden::with(&["skerry/morse 1.0.0", "dew-point 1.0.0"]);
    let ran = garden.run(&["need", "morse"]).expect(4);
    assert!(ran.code() == "package.unknown" && ran.stderr.contains("`skerry/morse`"), "{ran}");
    let manifest = garden.read("gate/bibliotax.toml");
    for needs in ["[needs-for.test]\nmorse = \"1\"\n", "[needs]\nmorze = \"1\"\n"] {
        garden.write("gate/bibliotax.toml", &format!("{}\n{needs}", manifest.replace("[needs]\n", "")));
        let ran = garden.run(&["install"]).expect(4);
        assert!(
            ran.code() == "resolve.conflict" && ran.stderr.contains("Did you mean `skerry/morse`?"),
            "{ran}"
        );
    }
}

#[test]
fn facets_of_targets_are_told_at_their_place_with_what_was_meant() {
    let garden = Garden::with(&[]);
    let manifest = garden.read("gate/bibliotax.toml");
    for (line, place, meant) in [
        ("arch = \"amd64\"", "~~~~", "use `x86_64`"),
        ("os = \"linus\"", "~~", "use `linux`"),
        ("orchid = \"3\"", "~~~~~~", "the facet `orchid` isn't defined"),
    ] {
        garden.write("gate/bibliotax.toml", &format!("{manifest}\n[targets.shed]\n{line}\n"));
        let ran = garden.run(&["install"]).expect(3);
        assert!(ran.code() == "facet.value" && ran.stderr.contains(meant), "{ran}");
        assert!(ran.stderr.contains(line) && ran.stderr.contains(&format!(" {place}\n")), "{ran}");
    }
    for line in ["arch = \"riscv128\"", "os = \"bare\""] {
        garden.write("gate/bibliotax.toml", &format!("{manifest}\n[targets.shed]\n{line}\n"));
        garden.run(&["install"]).expect(0);
    }
}

#[test]
fn wrong_command_lines_are_refused_in_the_shape_of_all_errors() {
    let garden = Garden::bare();
    for (args, code, advice) in [
        (&["instal"][..], "usage.unknown-command", "`bibliotax install`"),
        (&["registry", "chek"], "usage.unknown-command", "`bibliotax registry check`"),
        (&["upgrade"], "usage.unknown-command", "`bibliotax update`"),
        (&["why"], "usage.unknown-command", "`bibliotax explain PACKAGE`"),
        (&["graph", "--dept", "2"], "usage.unknown-option", "`--depth`"),
        (&["compare", "a", "b", "c"], "usage.unexpected", "`bibliotax compare --help`"),
        (&["need"], "usage.missing", "`bibliotax need --help`"),
        (&["find", "--page", "many"], "usage.value", ""),
        (&["install", "--quiet", "-v"], "usage.conflict", "`bibliotax install --help`"),
    ] {
        let ran = garden.run(args).expect(2);
        assert_eq!(ran.code(), code, "{ran}");
        assert!(ran.stderr.starts_with("error: ") && ran.stderr.contains(advice), "{ran}");
        let json = garden.run(&[args, &["--format", "json"]].concat()).expect(2);
        assert_eq!((json.json()["error"]["code"].as_str(), json.stderr.as_str()), (Some(code), ""));
    }
}

#[test]
fn no_command_and_help_show_the_help_and_succeed() {
    let garden = Garden::bare();
    let all = garden.run(&[]).expect(0);
    assert_eq!(all.stdout, garden.run(&["help"]).expect(0).stdout);
    assert_eq!(all.stdout, garden.run(&["--help"]).expect(0).stdout);
    let of_command = garden.run(&["help", "registry", "serve"]).expect(0);
    assert_eq!(of_command.stdout, garden.run(&["registry", "serve", "--help"]).expect(0).stdout);
}
