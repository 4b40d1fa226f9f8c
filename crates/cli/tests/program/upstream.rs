//! Upstream software as it is: archives of every make, versions and tags as their authors write them, cards begun from their files.

use std::fs;
use std::process::Command;

use insta::assert_snapshot;

use crate::garden::Garden;

/// An empty garden.
fn garden() -> Garden {
    Garden::needing(&["dew-point 1.4.0"], "")
}

/// Runs a shell script in the garden's folder.
fn sh(garden: &Garden, script: &str) {
    let pack = "pack() { tar --sort=name --mtime=@1700000000 --owner=0 --group=0 --numeric-owner -cf - \"$2\" | gzip -n > \"$1\"; }";
    let mut shell = Command::new("sh");
    shell.args(["-ec", &format!("umask 022; {pack}; {script}")]).current_dir(garden.path("."));
    for date in ["GIT_AUTHOR_DATE", "GIT_COMMITTER_DATE"] {
        shell.env(date, "2026-03-01T09:00:00Z");
    }
    let ran = shell.output().unwrap();
    assert!(ran.status.success(), "{script}\n{}", String::from_utf8_lossy(&ran.stderr));
}

/// The sources of a small library with upstream's usual files.
fn soil(garden: &Garden, version: &str) {
    garden.write(&format!("soil-{version}/LICENSE"), include_str!("../../../../LICENSE-MIT"));
    garden.write(&format!("soil-{version}/include/soil.h"), &format!("#define SOIL \"{version}\"\n"));
    garden.write(&format!("soil-{version}/src/soil.c"), "int soil(void) { return 1; }\n");
}

#[test]
fn an_archive_is_read_by_its_bytes_whatever_it_is_called() {
    let garden = garden();
    soil(&garden, "1.7.15");
    for (make, name) in [
        ("tar cf soil_1.7.15.orig.tgz soil-1.7.15", "soil_1.7.15.orig.tgz"),
        ("tar cJf soil-v1.7.15 soil-1.7.15", "soil-v1.7.15"),
        ("tar cf - soil-1.7.15 | bzip2 > soil-1.7.15.zip", "soil-1.7.15.zip"),
        ("python3 -m zipfile -c soil-1.7.15-py3-none-any.whl soil-1.7.15", "soil-1.7.15-py3-none-any.whl"),
        ("pack soil-1.7.15.tar.xz soil-1.7.15", "soil-1.7.15.tar.xz"),
    ] {
        sh(&garden, make);
        garden.run(&["need", "--archive", &format!("../{name}"), "--quiet"]).expect(0);
        let told = garden.run(&["describe", "soil", "--format", "json"]).expect(0).json();
        assert_eq!(told["card"]["version"], "1.7.15", "{name}: {told}");
        assert_eq!(garden.read("gate/shelf/soil/include/soil.h"), "#define SOIL \"1.7.15\"\n", "{name}");
        garden.run(&["drop", "soil", "--quiet"]).expect(0);
        fs::remove_dir_all(garden.path("gate/cards")).unwrap();
    }
    garden.write("soil-1.8.tar.gz", "<!DOCTYPE html><title>Sign in</title>");
    let page = garden.run(&["need", "--archive", "../soil-1.8.tar.gz"]).expect(6);
    assert!(page.code() == "archive.none" && page.stderr.contains("It is a web page."), "{page}");
    sh(&garden, "pack soil-1.7.tgz soil-1.7.15");
    let wrong = garden.run(&["need", "--archive", "../soil-1.7.tgz", "--packed-as", "tar.xz"]).expect(6);
    assert!(wrong.code() == "archive.unreadable", "{wrong}");
    let none = ["need", "--archive", "../soil-1.7.tgz", "--include", "*.rs"];
    assert_eq!(garden.run(&none).expect(3).code(), "archive.nothing");
}

#[test]
fn a_card_is_begun_from_the_files_and_stays_what_people_make_of_it() {
    let garden = garden();
    soil(&garden, "1.1.1v");
    sh(&garden, "mkdir up; pack up/soil-1.1.1v.tar.gz soil-1.1.1v");
    assert_snapshot!(garden.run(&["need", "--archive", "../up/soil-1.1.1v.tar.gz"]), @r#"
    archive: ../up/soil-1.1.1v.tar.gz (939 B, 3 files), SHA-256 1a6123a772900d9827b23a1de2cdbbc21f4fa4bfe94f7c130d3912609c16a415
      soil-1.1.1v/LICENSE         1.1 KiB
      soil-1.1.1v/include/soil.h  22 B
      soil-1.1.1v/src/soil.c      29 B
    found: version 1.1.1.22 (upstream's 1.1.1v), licence MIT, exposes include, source src/*.c
    manifest: [needs] soil = { archive = "../up/soil-1.1.1v.tar.gz", sha256 = "1a6123a772900d9827b23a1de2cdbbc21f4fa4bfe94f7c130d3912609c16a415", strip = "soil-1.1.1v", card = "cards/soil.toml" }
    lock: 1 added
      added  soil  1.1.1.22  939 B  MIT  needed here, from soil-1.1.1v.tar.gz
    shelf: 1 package installed, 939 B downloaded (TIME)
    ----- stderr
    warning: version 1.1.1.22 was read off the archive's name; if it is another: `bibliotax need --archive ../up/soil-1.1.1v.tar.gz --as soil VERSION`
    ----- status 0
    "#);
    assert_snapshot!(garden.read("gate/cards/soil.toml"), @r#"
    # What soil is, as far as its files tell. Check it: from here on it is yours to edit.

    version = "1.1.1.22"
    upstream-version = "1.1.1v" # as upstream writes it
    license = "MIT" # the text in LICENSE is 100 % like it
    # summary = "one line that says what it is for"
    # homepage = "https://…"
    # repository = "https://…"

    # What builds find under which role; paths and patterns are below the package's folder.
    [exposes]
    include = ["include"] # 1 header
    source = ["src/*.c"] # 1 file; leave out programs and other systems' files with "!FILE"
    # defines = ["NAME=1"], libraries = ["m"], link-flags = ["-pthread"] are values, not paths
    "#);
    let card = garden.read("gate/cards/soil.toml");
    let edited =
        card.replace("# summary = \"one line that says what it is for\"", "summary = \"Soil\" # ours");
    assert_ne!(edited, card);
    garden.write("gate/cards/soil.toml", &edited);
    soil(&garden, "1.1.1w");
    sh(&garden, "pack up/soil-1.1.1w.tar.gz soil-1.1.1w");
    garden.run(&["need", "--archive", "../up/soil-1.1.1w.tar.gz", "--quiet"]).expect(0);
    let card = garden.read("gate/cards/soil.toml");
    assert!(
        card.contains("version = \"1.1.1.23\"\n") && card.contains("upstream-version = \"1.1.1w\""),
        "{card}"
    );
    assert!(card.contains("summary = \"Soil\" # ours\n"), "{card}");
    assert_eq!(garden.read("gate/shelf/soil/include/soil.h"), "#define SOIL \"1.1.1w\"\n");
}

#[test]
fn a_version_is_proposed_and_never_an_early_release_without_a_word() {
    let garden = garden();
    soil(&garden, "1.0b2");
    sh(&garden, "pack soil-1.0b2.tgz soil-1.0b2; cp soil-1.0b2.tgz latest.tgz");
    let early = garden.run(&["need", "--archive", "../soil-1.0b2.tgz"]).expect(3);
    assert_eq!(early.code(), "need.no-version", "{early}");
    assert!(
        early.stderr.contains("bibliotax need --archive ../soil-1.0b2.tgz --as soil 1.0-beta.2"),
        "{early}"
    );
    let (status, said) = garden.typed("need --archive ../soil-1.0b2.tgz", "n\\n");
    assert!(status == 1 && said.contains("(need.declined)"), "{said}");
    let none = garden.run(&["need", "moss", "--archive", "../latest.tgz"]).expect(3);
    assert_eq!(none.code(), "need.no-version", "{none}");
    assert!(!garden.path("gate/cards").exists() && !garden.path("gate/bibliotax.lock").exists());
    garden.run(&["need", "--archive", "../latest.tgz", "--as", "moss", "2.5", "--quiet"]).expect(0);
    let locked = garden.read("gate/bibliotax.lock");
    assert!(locked.contains("\"moss\"") && locked.contains("\"2.5\""), "{locked}");
    garden
        .run(&["need", "--archive", "../soil-1.0b2.tgz", "--as", "soil", "1.0-beta.2", "--quiet"])
        .expect(0);
    assert_eq!(garden.read("gate/shelf/soil/include/soil.h"), "#define SOIL \"1.0b2\"\n");
}

#[test]
fn what_can_not_be_part_of_a_package_is_listed_at_once_with_a_line_that_leaves_it_out() {
    let garden = garden();
    soil(&garden, "1.2");
    sh(
        &garden,
        "cd soil-1.2; ln -s nowhere gone; ln -s include inc; mkfifo pipe; mkdir spool man; echo x > man/Soil::Curve.3pm; \
         echo x > src/aux.c; echo x > Readme; echo x > README; cd ..; pack soil-1.2.tgz soil-1.2",
    );
    assert_snapshot!(garden.run(&["need", "--archive", "../soil-1.2.tgz", "--quiet"]), @r#"
    ----- stderr
    error: the archive of soil can't be used  (archive.refused)
      `pipe`: it is neither file, folder nor link
      `gone`: it is a link, and `nowhere` isn't a file of the package
      `Readme`: it clashes with `README`
      `man/Soil::Curve.3pm`: it has a character that some systems refuse: control characters and any of \ : * ? " < > |
      `src/aux.c`: a part of it is a device on some systems
    try: if the package works without them, leave them out in its need or card: `exclude = ["Readme", "gone", "man/Soil::Curve.3pm", "pipe", "src/aux.c"]` (nothing was installed)
    ----- status 6
    "#);
    let without = ["--exclude", "gone", "--exclude", "pipe"];
    assert_snapshot!(garden.run(&[&["need", "--archive", "../soil-1.2.tgz", "--quiet"], &without[..]].concat()), @r#"
    ----- stderr
    error: the archive of soil can't be used  (archive.refused)
      `Readme`: it clashes with `README`
      `man/Soil::Curve.3pm`: it has a character that some systems refuse: control characters and any of \ : * ? " < > |
      `src/aux.c`: a part of it is a device on some systems
    try: if the package works without them, leave them out in its need or card: `exclude = ["Readme", "man/Soil::Curve.3pm", "src/aux.c"]` (nothing was installed)
    ----- status 6
    "#);
    let target = "\n[targets.kiosk]\nos = \"linux\"\narch = \"x86_64\"\n";
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}{target}"));
    let ran = garden.run(&[&["need", "--archive", "../soil-1.2.tgz"], &without[..]].concat()).expect(0);
    assert!(ran.stderr.contains("soil has 3 files that not every system can have"), "{ran}");
    let shelf = garden.path("gate/shelf/kiosk/soil");
    assert!(shelf.join("man/Soil::Curve.3pm").is_file() && shelf.join("spool").is_dir());
    assert!(shelf.join("inc/soil.h").symlink_metadata().unwrap().is_file(), "a link became a copy");
    assert!(garden.run(&["install"]).expect(0).stdout.contains("nothing to do"));
    garden.run(&["verify", "--full"]).expect(0);
    let windows = garden.read("gate/bibliotax.toml").replace("\"linux\"", "\"windows\"");
    garden.write("gate/bibliotax.toml", &windows);
    let refused = garden.run(&["install"]).expect(6);
    assert!(refused.stderr.contains("exclude = ["), "{refused}");
}

#[test]
fn tags_are_read_as_repositories_write_them_and_what_is_left_out_is_listed() {
    let garden = garden();
    soil(&garden, "1");
    sh(
        &garden,
        "mv soil-1 leaf; cd leaf; git init -q; git add .; \
         git -c user.name=g -c user.email=g@g.example commit -qm one; \
         for tag in VER-2-9-1 VER-2-13-0 VER-2-13-2 nightly VER-next; do git tag $tag; done",
    );
    assert_snapshot!(garden.run(&["need", "leaf-palette", "--git", "../leaf"]), @r#"
    tags: 3 releases by `VER-*`: 2.13.2 (VER-2-13-2), 2.13.0 (VER-2-13-0), 2.9.1 (VER-2-9-1)
      2 tags left out; `--tags PATTERN` reads them otherwise
        VER-next  `next` can't be read as a version
        nightly   not like the pattern
    manifest: [needs] leaf-palette = { git = "../leaf", range = "2.13.2 .. 3", tags = "VER-*" }
    lock: 1 added
      added  leaf-palette  2.13.2  5.0 KiB  licence not declared  needed here, from leaf at tag VER-2-13-2 (401ad42)
    shelf: 1 package installed, 5.0 KiB downloaded (TIME)
    ----- status 0
    "#);
    assert!(garden.read("gate/bibliotax.toml").contains("range = \"2.13.2 .. 3\", tags = \"VER-*\""));
    let json = garden
        .run(&["need", "leaf-palette", "--git", "../leaf", "--dry-run", "--format", "json"])
        .expect(0)
        .json();
    assert_eq!(json["tags"]["left-out"].as_array().unwrap().len(), 2, "{json}");
    let said = [
        "need",
        "leaf-palette",
        "2.9",
        "--git",
        "../leaf",
        "--tags",
        "VER-{major}-{minor}-{patch}",
        "--quiet",
    ];
    garden.run(&said).expect(0);
    let none = garden.run(&["need", "leaf-palette", "--git", "../leaf", "--tags", "moss-*"]).expect(4);
    assert_eq!(none.code(), "git.no-commit", "{none}");
    let wrong = garden.run(&["need", "leaf-palette", "--git", "../leaf", "--tags", "moss-"]).expect(3);
    assert_eq!(wrong.code(), "tags.pattern", "{wrong}");
}

#[test]
fn a_card_that_can_not_be_read_says_what_to_write() {
    let garden = garden();
    soil(&garden, "1.2");
    sh(&garden, "pack soil-1.2.tgz soil-1.2");
    garden.run(&["need", "--archive", "../soil-1.2.tgz", "--quiet"]).expect(0);
    let card = garden.read("gate/cards/soil.toml");
    for (line, code, advice) in [
        ("upstream-version = \"\"", "upstream.version", "one line"),
        ("license = \"GPLv2+\"", "license.invalid", "`GPL-2.0-or-later`"),
        ("license = \"MIT/Apache-2.0\"", "license.invalid", "`MIT OR Apache-2.0`"),
        ("license = \"BSD\"", "license.invalid", "`BSD-2-Clause` or `BSD-3-Clause`"),
        ("exposes = { defines = [\"A=$(id)\"] }", "card.value", "one value in each text"),
        ("exposes = { source = [\"src/[\"] }", "pattern.invalid", "src/*.c"),
    ] {
        let others: Vec<&str> =
            card.lines().filter(|line| line.starts_with("version")).chain([line]).collect();
        garden.write("gate/cards/soil.toml", &others.join("\n"));
        let ran = garden.run(&["install"]).expect(3);
        assert_eq!(ran.code(), code, "{line}: {ran}");
        assert!(ran.stderr.contains(advice), "{line}: {ran}");
    }
}

#[test]
fn roles_hold_patterns_and_values_and_a_stand_in_without_a_manifest_has_the_cards() {
    let garden = garden();
    soil(&garden, "1.2");
    garden.write("soil-1.2/src/main.c", "int main(void) { return 0; }\n");
    sh(&garden, "pack soil-1.2.tgz soil-1.2");
    garden.run(&["need", "--archive", "../soil-1.2.tgz", "--quiet"]).expect(0);
    let card = "version = \"1.2\"\nexposes = { include = \"include\", source = [\"src/*.c\", \"!src/main.c\"], \
                defines = [\"SOIL_DEPTH=3\"], libraries = \"m\" }\n";
    garden.write("gate/cards/soil.toml", card);
    garden.run(&["install", "--quiet"]).expect(0);
    let links = || {
        serde_json::from_str::<serde_json::Value>(&garden.read("gate/shelf/links/gate-kiosk.json")).unwrap()
    };
    let roles = |of: &str| -> String {
        let links = links();
        links["roles"][of]
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(|path| path.as_str())
            .collect::<Vec<_>>()
            .join(" ")
    };
    assert_eq!(roles("source"), "shelf/soil/src/soil.c");
    assert_eq!((roles("defines"), roles("libraries")), ("SOIL_DEPTH=3".into(), "m".into()));
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}\n[stand-ins]\nsoil = {{ path = \"../soil-1.2\" }}\n"),
    );
    garden.run(&["install", "--quiet"]).expect(0);
    assert_eq!(roles("source"), "../soil-1.2/src/soil.c");
    assert_eq!(roles("include"), "../soil-1.2/include");
    let missing = garden.read("gate/bibliotax.toml").replace("../soil-1.2\" }", "../soil-1.3\" }");
    garden.write("gate/bibliotax.toml", &missing);
    assert_eq!(garden.run(&["install"]).expect(3).code(), "workspace.no-project");
}

#[test]
fn a_package_is_found_by_upstreams_version() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    garden.load(
        "{\"name\":\"frost\",\"version\":\"1.1.1.23\",\"upstream-version\":\"1.1.1w\",\"published\":\"2026-03-01T09:00:00Z\",\
         \"summary\":\"Ice on leaves\"}\n",
    );
    for words in [&["1.1.1w"][..], &["frost", "1.1.1w"]] {
        let found = garden.run(&[&["find"], words].concat()).expect(0);
        assert!(found.stdout.contains("frost  1.1.1.23 (1.1.1w)"), "{found}");
    }
    let found = garden.run(&["find", "ice", "--format", "json"]).expect(0).json();
    assert_eq!(found["packages"][0]["upstream-version"], "1.1.1w", "{found}");
}
