//! A package whose programs would stand in for the system's, and tokens that they would find.

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::Garden;

const SECRET: &str = "moss-under-the-seventh-stone";

/// A project that needs `leaf-press`, which needs `moss-tools`; both have programs that call themselves `git` and `press`.
fn garden(need: &str, tasks: &str) -> Garden {
    let garden = Garden::needing(&[], &format!("leaf-press = {need}\n\n[tasks]\n{tasks}"));
    let mut cards = String::new();
    for (name, needs) in
        [("leaf-press", json!([{ "name": "moss-tools", "range": "1" }])), ("moss-tools", json!([]))]
    {
        let program =
            |called: &str| format!("#!/bin/sh\necho \"{called} of {name}, told: $BIBLIOTAX_TOKENS\"\n");
        let archive = format!("archives/{name}.tar");
        let programs = ["bin/git", "bin/press", "bin/ls"].map(|path| (path, program(path)));
        let mut builder = tar::Builder::new(Vec::new());
        for (path, text) in &programs {
            let mut header = tar::Header::new_gnu();
            header.set_mode(0o755);
            header.set_size(text.len() as u64);
            builder.append_data(&mut header, path, text.as_bytes()).unwrap();
        }
        garden.write(&archive, "");
        std::fs::write(garden.path(&archive), builder.into_inner().unwrap()).unwrap();
        let card = json!({ "name": name, "version": "1.0.0", "published": "2026-03-01T09:00:00Z", "needs": needs,
            "provides": if name == "leaf-press" { json!([{ "name": "pressing" }]) } else { json!([]) },
            "exposes": { "bin": ["bin"] }, "files": [{ "path": archive }] });
        cards += &format!("{card}\n");
    }
    garden.load(&cards);
    garden.run(&["install"]).expect(0);
    garden
}

fn said(garden: &Garden, args: &[&str]) -> String {
    let mut command = garden.command("gate", args);
    let output =
        command.env("BIBLIOTAX_TOKENS", format!("https://garden.example {SECRET}")).output().unwrap();
    String::from_utf8([output.stdout, output.stderr].concat()).unwrap()
}

#[test]
fn no_package_stands_in_for_a_program_of_the_system_or_reads_tokens() {
    let garden = garden(
        "\"1\"",
        "list = \"ls -d ../gate\"\nlook = \"git --version\"\npress = \"press\"\npath = \"echo $PATH\"\n",
    );
    for (args, ran) in [
        (&["task", "list"][..], "../gate"),
        (&["task", "look"], "git version"),
        (&["task", "press"], "bin/press of leaf-press, told: \n"),
        (&["with", "--", "git", "--version"], "git version"),
        (&["with", "--", "press"], "bin/press of leaf-press, told: \n"),
        (&["with", "--", "sh", "-c", "ls -d ../gate; press"], "../gate"),
    ] {
        let said = said(&garden, args);
        assert!(said.contains(ran) && !said.contains(SECRET), "{args:?}: {said}");
    }
    let path = garden.run(&["task", "path"]).expect(0).stdout;
    assert!(path.starts_with("/usr/bin:/bin:") && path.trim().ends_with("leaf-press/bin"), "{path}");
    assert!(!path.contains("moss-tools"), "what only other packages need has no place there: {path}");
}

#[test]
fn a_manifest_says_which_programs_come_first_and_which_tasks_get_tokens() {
    let garden = garden(
        "{ range = \"1\", programs = \"first\" }",
        "look = \"git\"\nsend = { do = \"press\", tokens = true }\n",
    );
    assert_eq!(said(&garden, &["task", "look"]), "bin/git of leaf-press, told: \n");
    assert!(said(&garden, &["task", "send"]).contains(SECRET));
    assert!(said(&garden, &["with", "--tokens", "--", "press"]).contains(SECRET));
    assert!(!said(&garden, &["with", "--", "press"]).contains(SECRET));
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &manifest.replace("leaf-press = { range = \"1\"", "pressing = { range = \"1\""),
    );
    let as_capability = said(&garden, &["task", "look"]);
    assert!(as_capability.contains("bin/git of leaf-press, told: \n"), "{as_capability}");
    garden.write("gate/bibliotax.toml", &manifest.replace("\"first\"", "\"before\""));
    assert_snapshot!(garden.run(&["install"]), @r#"
    ----- stderr
    error: `programs` has to be `"first"` (before the system's programs) or `"last"`  (manifest.wrong-kind)
      at bibliotax.toml:8:40
        7: [needs]
        8: leaf-press = { range = "1", programs = "before" }
                                                  ~~~~~~~~ is a text
    ----- status 3
    "#);
}
