//! Several processes at once on one registry, one project, one store.

use crate::garden::Garden;

#[test]
fn publishers_of_one_package_at_once_lose_nothing() {
    let garden = Garden::bare();
    let author = |n: usize| {
        let text = format!("[project]\nname = \"valve-core\"\nversion = \"1.{}.0\"\n", n / 2);
        garden.write(&format!("author-{n}/bibliotax.toml"), &text);
        // Two authors each publish one version: with the same bytes, so both succeed.
        garden.start(&format!("author-{n}"), &["publish", "../seedhouse"])
    };
    let started: Vec<_> = (0..16).map(author).collect();
    for mut child in started {
        assert!(child.wait().unwrap().success());
    }
    garden.write(
        "gate/bibliotax.toml",
        "[project]\nname = \"gate\"\n[registries]\nseedhouse = \"../seedhouse\"\n",
    );
    for n in 0..8 {
        garden.run(&["need", "valve-core", &format!("= 1.{n}.0"), "--dry-run"]).expect(0);
    }
}

#[test]
fn of_two_publishers_of_one_version_with_other_contents_one_wins() {
    let garden = Garden::bare();
    let started: Vec<_> = (0..6)
        .map(|n| {
            garden.write(
                &format!("author-{n}/bibliotax.toml"),
                "[project]\nname = \"valve-core\"\nversion = \"1.0.0\"\n",
            );
            garden.write(&format!("author-{n}/contents.txt"), &n.to_string());
            garden.start(&format!("author-{n}"), &["publish", "../seedhouse"])
        })
        .collect();
    let won = started.into_iter().map(|mut child| child.wait().unwrap().success()).filter(|won| *won).count();
    assert_eq!(won, 1);
}

#[test]
fn installs_at_once_in_one_project_and_one_store_all_end_right() {
    let releases: Vec<String> =
        (0..30).map(|n| format!("bed-{n} 1.0.0")).map(|r| r.replace("bed-", "bed-n")).collect();
    let releases: Vec<&str> = releases.iter().map(String::as_str).collect();
    let needs: Vec<String> = (0..30).map(|n| format!("bed-n{n} = \"1\"")).collect();
    let garden = Garden::needing(&releases, &needs.join("\n"));
    let manifest = garden.read("gate/bibliotax.toml");
    for other in ["second", "third", "fourth", "fifth", "sixth"] {
        garden.write(&format!("{other}/bibliotax.toml"), &manifest);
    }
    let folders = ["gate", "gate", "second", "third", "fourth", "fifth", "sixth", "gate"];
    let started: Vec<_> = folders.iter().map(|folder| garden.start(folder, &["install"])).collect();
    for mut child in started {
        assert!(child.wait().unwrap().success());
    }
    for folder in ["gate", "second", "third", "fourth", "fifth", "sixth"] {
        garden.run_in(folder, &["verify"]).expect(0);
    }
    assert_eq!(garden.shelf().len(), 30);
}

#[test]
fn needs_declared_at_once_are_all_declared() {
    let garden = Garden::with(&["moss-map 1.0.0", "dew-point 1.0.0", "soil-curve 1.0.0"]);
    let names = ["moss-map", "dew-point", "soil-curve"];
    let started: Vec<_> = names.iter().map(|name| garden.start("gate", &["need", name])).collect();
    for mut child in started {
        assert!(child.wait().unwrap().success());
    }
    garden.run(&["install", "--sealed"]).expect(0);
    assert_eq!(garden.shelf(), ["dew-point 1.0.0", "moss-map 1.0.0", "soil-curve 1.0.0"]);
}
