//! Sources that changed or went away: what is locked and on this machine still does, other work goes on, and a message says so.

use std::fs;
use std::process::Command;

use crate::garden::Garden;

/// A garden with a repository of two releases, an archive, and a project that needs both.
fn garden() -> Garden {
    let garden = Garden::needing(&["dew-point 1.4.0", "moss-map 1.0.0"], "");
    garden.write("leaf/bibliotax.toml", "[project]\nname = \"leaf-palette\"\nlicense = \"MIT\"\n");
    garden.write("leaf/leaf.h", "#define LEAF 1\n");
    git(&garden, "git init -q -b main && git add . && git commit -qm one && git tag v1.0.0");
    garden.write("leaf/leaf.h", "#define LEAF 2\n");
    git(&garden, "git commit -qam two && git tag v2.0.0");
    garden.write("up/frost-1.2/frost.csv", "1;2\n");
    let packed = Command::new("tar")
        .args(["czf", "frost-1.2.tar.gz", "frost-1.2"])
        .current_dir(garden.path("up"))
        .status();
    assert!(packed.unwrap().success());
    garden
}

fn git(garden: &Garden, script: &str) {
    let mut shell = Command::new("sh");
    shell.args(["-ec", script]).current_dir(garden.path("leaf")).env("HOME", garden.path("home"));
    for who in ["GIT_AUTHOR", "GIT_COMMITTER"] {
        shell.env(format!("{who}_NAME"), "garden").env(format!("{who}_EMAIL"), "garden@fernhollow.example");
        shell.env(format!("{who}_DATE"), "2026-03-01T09:00:00Z");
    }
    let ran = shell.output().unwrap();
    assert!(ran.status.success(), "{script}\n{}", String::from_utf8_lossy(&ran.stderr));
}

fn needs_both(garden: &Garden) {
    garden.run(&["need", "leaf-palette", "1", "--git", "../leaf", "--quiet"]).expect(0);
    garden.run(&["need", "--archive", "../up/frost-1.2.tar.gz", "--quiet"]).expect(0);
}

/// Lets a tag name another commit, and takes the commit away that it named.
fn move_tag(garden: &Garden) {
    git(
        garden,
        "git checkout -q --orphan other && git commit -qm 'one again' && git tag -f v1.0.0 >/dev/null && git branch -D main && \
         git tag -d v2.0.0 && git reflog expire --expire=now --all && git gc -q --prune=now",
    );
}

#[test]
fn newer_tags_that_the_range_or_the_manifest_keeps_out_are_told() {
    let garden = garden();
    needs_both(&garden);
    let newer = garden.run(&["newer"]).expect(0);
    assert!(newer.stdout.contains("2.0.0") && newer.stdout.contains("gate-kiosk (needs 1)"), "{newer}");
    assert!(newer.stdout.contains("not known, since they come from archives: frost"), "{newer}");
    let json = garden.run(&["newer", "--format", "json"]).expect(0).json();
    assert_eq!(json["packages"][0]["beyond"]["version"], "2.0.0", "{json}");
    assert_eq!(json["unknown"][0], "frost", "{json}");
    let why = garden.run(&["explain", "leaf-palette"]).expect(0);
    assert!(why.stdout.contains("2.0.0 is newer"), "{why}");
    let archive = garden.run(&["explain", "frost"]).expect(0);
    assert!(archive.stdout.contains("it isn't known whether there is a newer release"), "{archive}");
    garden.run(&["need", "leaf-palette", "--git", "../leaf", "--tag", "v1.0.0", "--quiet"]).expect(0);
    let newer = garden.run(&["newer"]).expect(0);
    assert!(
        newer.stdout.contains("2.0.0") && newer.stdout.contains("the manifest (takes tag v1.0.0)"),
        "{newer}"
    );
    let only = garden.run(&["newer", "frost"]).expect(0);
    assert!(only.stdout.contains("no updates known of 1 package"), "{only}");
}

#[test]
fn a_tag_that_moved_stops_nothing_else_and_is_followed_only_when_people_say_so() {
    let garden = garden();
    needs_both(&garden);
    let before = garden.read("gate/bibliotax.lock");
    move_tag(&garden);
    let other = garden.run(&["need", "dew-point"]).expect(0);
    assert!(other.stderr.contains("the tag v1.0.0 of leaf-palette named commit"), "{other}");
    garden.run(&["resolve"]).expect(0);
    garden.run(&["newer"]).expect(0);
    garden.run(&["update"]).expect(0);
    let line = |lock: &str| {
        lock.lines().find(|line| line.contains("\"name\":\"leaf-palette\",\"version\"")).map(str::to_owned)
    };
    assert_eq!(line(&garden.read("gate/bibliotax.lock")), line(&before), "the lock stays with its commit");
    let refused = garden.run(&["update", "leaf-palette"]).expect(6);
    assert_eq!(refused.code(), "git.moved-tag", "{refused}");
    assert!(refused.stderr.contains("bibliotax update leaf-palette --accept-moved"), "{refused}");
    let moved = garden.run(&["update", "leaf-palette", "--accept-moved"]).expect(0);
    assert!(
        moved.stdout.contains("from leaf at tag v1.0.0 (") && moved.stdout.contains(", before "),
        "{moved}"
    );
    assert_eq!(garden.read("gate/shelf/leaf-palette/leaf.h"), "#define LEAF 2\n");
    assert_eq!(garden.run(&["update", "--accept-moved"]).expect(2).code(), "usage.missing");
}

#[test]
fn a_sealed_install_without_a_store_says_at_once_that_a_tag_moved() {
    let garden = garden();
    needs_both(&garden);
    move_tag(&garden);
    for folder in ["store", "gate/shelf"] {
        fs::remove_dir_all(garden.path(folder)).unwrap();
    }
    let refused = garden.run(&["install", "--sealed"]).expect(6);
    assert_eq!(refused.code(), "git.moved-tag", "{refused}");
    assert!(!garden.path("gate/shelf/frost").exists(), "nothing is installed: {refused}");
}

#[test]
fn what_is_in_the_store_installs_and_goes_into_kits_after_its_sources_are_gone() {
    let garden = garden();
    needs_both(&garden);
    garden.run(&["need", "dew-point", "--quiet"]).expect(0);
    fs::remove_dir_all(garden.path("leaf")).unwrap();
    fs::remove_dir_all(garden.path("up")).unwrap();
    // What was asked and answered before isn't known any more either.
    fs::remove_dir_all(garden.path("store/registries")).unwrap();
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(garden.read("gate/shelf/leaf-palette/leaf.h"), "#define LEAF 1\n");
    let other = garden.run(&["need", "moss-map"]).expect(0);
    assert!(other.stderr.contains("leaf-palette stays as it is locked"), "{other}");
    garden.run(&["kit", "make", "../garden.kit"]).expect(0);
    for folder in ["store", "gate/shelf", "seedhouse"] {
        fs::remove_dir_all(garden.path(folder)).unwrap();
    }
    garden.run(&["kit", "open", "../garden.kit"]).expect(0);
    garden.run(&["install", "--sealed", "--offline"]).expect(0);
    assert_eq!(garden.read("gate/shelf/frost/frost.csv"), "1;2\n");
}

#[test]
fn a_registry_that_can_not_be_reached_stops_only_what_it_alone_may_have() {
    let garden =
        Garden::needing(&["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "bark-log 1.0.0"], "");
    let manifest = garden.read("gate/bibliotax.toml");
    let away = |owns: &str| {
        let declared = format!("[registries]\nfernhollow = {{ url = \"http://127.0.0.1:9/\"{owns} }}");
        garden.write("gate/bibliotax.toml", &manifest.replace("[registries]", &declared));
    };
    away(", owns = [\"fernhollow/*\"]");
    let needed = garden.run(&["need", "rain-ledger"]).expect(0);
    assert!(needed.stderr.contains("the registry `fernhollow` can't be reached"), "{needed}");
    let owned = garden.run(&["need", "fernhollow/valve-core"]).expect(5);
    assert_eq!(owned.code(), "registry.unreachable", "{owned}");
    let nobody = garden.run(&["need", "moss-map"]).expect(5);
    assert_eq!(nobody.code(), "registry.unreachable", "it may have that: {nobody}");
    for args in
        [&["resolve"][..], &["update"], &["newer"], &["explain", "dew-point"], &["describe", "bark-log"]]
    {
        garden.run(args).expect(0);
    }
    // A name that anybody may have is only sure where it is locked.
    let text = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &text.replace(", owns = [\"fernhollow/*\"]", ""));
    garden.run(&["update"]).expect(0);
    assert_eq!(garden.run(&["need", "bark-log"]).expect(5).code(), "registry.unreachable");
    garden.run(&["need", "bark-log", "--from", "seedhouse"]).expect(0);
}

#[test]
fn a_need_moves_from_an_archive_to_a_registry_and_its_line_stays_straight() {
    let garden = garden();
    garden.publish(&["frost 2.0.0"]);
    garden.run(&["need", "--archive", "../up/frost-1.2.tar.gz", "--quiet"]).expect(0);
    garden.run(&["need", "frost", "2", "--from", "seedhouse", "--quiet"]).expect(0);
    assert!(
        garden.read("gate/bibliotax.toml").contains("frost = { from = \"seedhouse\", range = \"2\" }\n")
            || garden
                .read("gate/bibliotax.toml")
                .contains("frost = { range = \"2\", from = \"seedhouse\" }\n"),
        "{}",
        garden.read("gate/bibliotax.toml")
    );
    garden.run(&["need", "leaf-palette", "--git", "../leaf", "--tag", "v1.0.0", "--quiet"]).expect(0);
    garden.run(&["need", "leaf-palette", "1", "--git", "../leaf", "--quiet"]).expect(0);
    let text = garden.read("gate/bibliotax.toml");
    assert!(text.contains("leaf-palette = { git = \"../leaf\", range = \"1\" }\n"), "{text}");
}

#[test]
fn a_change_of_a_card_at_the_same_version_is_seen() {
    let garden = garden();
    garden.run(&["need", "--archive", "../up/frost-1.2.tar.gz", "--quiet"]).expect(0);
    fs::copy(garden.path("gate/bibliotax.lock"), garden.path("before.lock")).unwrap();
    garden.write(
        "gate/cards/frost.toml",
        "version = \"1.2\"\nlicense = \"MIT\"\nexposes = { assets = \"frost.csv\" }\n",
    );
    let resolved = garden.run(&["resolve"]).expect(0);
    assert!(resolved.stdout.contains("changed  frost"), "{resolved}");
    let compared =
        garden.run(&["compare", "../before.lock", "bibliotax.lock", "--format", "json"]).expect(0).json();
    let differs = &compared["changes"][0]["differs"];
    assert!(differs.to_string().contains("license") && differs.to_string().contains("exposes"), "{compared}");
}

#[test]
fn files_of_a_card_say_how_the_archive_of_a_need_is_unpacked() {
    let garden = garden();
    garden.run(&["need", "--archive", "../up/frost-1.2.tar.gz", "--quiet"]).expect(0);
    let text = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &text.replace(", strip = \"frost-1.2\"", ""));
    let sha256 = text.split("sha256 = \"").nth(1).unwrap()[..64].to_owned();
    let card = |digest: &str| {
        format!(
            "version = \"1.2\"\n[[files]]\nurl = \"https://files.example/frost-1.2.tar.gz\"\nsha256 = \"{digest}\"\nsize = 1\nstrip = \"frost-1.2\"\n"
        )
    };
    garden.write("gate/cards/frost.toml", &card(&sha256));
    garden.run(&["install", "--quiet"]).expect(0);
    assert_eq!(garden.read("gate/shelf/frost/frost.csv"), "1;2\n");
    garden.write("gate/cards/frost.toml", &card(&"0".repeat(64)));
    assert_eq!(garden.run(&["install"]).expect(3).code(), "card.file");
}

#[test]
fn a_folder_beside_is_where_a_command_works() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    garden.write(
        "ws/bibliotax.toml",
        "[workspace]\nfolders = [\"hand\", \"kiosk\"]\n[registries]\nseedhouse = \"../seedhouse\"\n",
    );
    for project in ["hand", "kiosk"] {
        garden.write(
            &format!("ws/{project}/bibliotax.toml"),
            &format!("[project]\nname = \"{project}\"\n[needs]\n"),
        );
    }
    let ran = garden.run_in("ws/hand", &["--directory", "../kiosk", "need", "dew-point"]).expect(0);
    assert!(garden.read("ws/kiosk/bibliotax.toml").contains("dew-point"), "{ran}");
    assert!(!garden.path("ws/kiosk/shelf").exists());
}

#[test]
fn a_path_to_a_project_leads_to_the_parts_that_a_target_takes() {
    let garden = Garden::needing(&[], "\"fernhollow/valve\" = { path = \"../valve\" }");
    let manifest = garden.read("gate/bibliotax.toml");
    let targets = "[targets.hand]\nos = \"linux\"\narch = \"aarch64\"\n[targets.kiosk]\nos = \"linux\"\narch = \"x86_64\"\n";
    garden.write("gate/bibliotax.toml", &format!("{manifest}{targets}"));
    garden.write(
        "valve/bibliotax.toml",
        "[project]\nname = \"fernhollow/valve\"\nversion = \"1.0.0\"\n[card.exposes]\ninclude = \"include\"\nlib = \"lib/valve.a\"\n\
         [[card.parts]]\npart = \"natives\"\nfor = { arch = \"aarch64\" }\nfrom = \"out/hand\"\n\
         [[card.parts]]\npart = \"natives\"\nfor = { arch = \"x86_64\" }\nfrom = \"out/kiosk\"\n",
    );
    for (path, text) in [("include/valve.h", ""), ("out/hand/lib/valve.a", ""), ("out/kiosk/lib/valve.a", "")]
    {
        garden.write(&format!("valve/{path}"), text);
    }
    garden.run(&["install", "--quiet"]).expect(0);
    for target in ["hand", "kiosk"] {
        let links: serde_json::Value =
            serde_json::from_str(&garden.read(&format!("gate/shelf/links/gate-kiosk.{target}.json")))
                .unwrap();
        let lib = links["roles"]["lib"][0].as_str().unwrap();
        assert_eq!(lib, format!("../valve/out/{target}/lib/valve.a"));
        assert!(garden.path("gate").join(lib).is_file());
        assert_eq!(links["roles"]["include"][0], "../valve/include");
    }
}
