//! `--in` and `--target`: commands narrowed to projects and targets, each in the same way.

use crate::garden::Garden;

/// A workspace of two projects with a target each, that need different packages.
fn garden() -> Garden {
    let garden = Garden::with(&[
        "dew-point 1.4.0",
        "dew-point 1.5.0",
        "dew-point 2.0.0",
        "moss-map 1.0.0: dew-point 1",
        "rain-ledger 2.4.0",
    ]);
    let step = r#"{"name":"soil-probe","version":"1.0.0","published":"2026-03-01T08:00:00Z","license":"MIT","fits":{"arch":["aarch64"]},"steps":[{"id":"calibrate","text":"Hold it into fog","per":"target"}],"programs":{"trowel":"1"}}"#;
    garden.load(&format!("{step}\n"));
    garden.write(
        "gate/bibliotax.toml",
        "[workspace]\nfolders = [\"kiosk\", \"hand\"]\n[registries]\nseedhouse = \"../seedhouse\"\n[rules]\nundeclared = \"accept\"\n",
    );
    let project = |name: &str, arch: &str, needs: &str| {
        format!(
            "[project]\nname = \"{name}\"\n[targets.{name}-target]\nos = \"linux\"\narch = \"{arch}\"\n[needs]\n{needs}"
        )
    };
    garden.write(
        "gate/kiosk/bibliotax.toml",
        &project("kiosk", "x86_64", "moss-map = \"1\"\ndew-point = \"1.4.0\"\n"),
    );
    garden.write(
        "gate/hand/bibliotax.toml",
        &project("hand", "aarch64", "soil-probe = \"1\"\ndew-point = \"1.4\"\n"),
    );
    garden.run(&["install"]).expect(0);
    garden
}

#[test]
fn commands_are_narrowed_to_projects() {
    let garden = garden();
    let shown = |args: &[&str]| garden.run(args).stdout;
    let (kiosk, hand) = (["--in", "kiosk"], ["--in", "hand"]);
    let of = |command: &[&'static str], scope: &[&'static str]| shown(&[command, scope].concat());
    assert!(
        of(&["explain", "dew-point"], &kiosk).contains("by kiosk itself")
            && !of(&["explain", "dew-point"], &kiosk).contains("by hand")
    );
    assert!(of(&["explain", "dew-point"], &hand).contains("by hand itself"));
    assert!(of(&["check"], &[]).contains("dew-point is declared with different ranges"));
    assert!(of(&["steps"], &hand).contains("calibrate") && !of(&["steps"], &kiosk).contains("calibrate"));
    assert!(of(&["ready"], &hand).contains("trowel") && !of(&["ready"], &kiosk).contains("trowel"));
    assert!(of(&["ready"], &hand).contains("hand-target") && !of(&["ready"], &kiosk).contains("hand-target"));
    let described = of(&["describe", "soil-probe"], &hand);
    assert!(
        described.contains("hand-target not declared") && !described.contains("kiosk-target"),
        "{described}"
    );
    assert!(
        of(&["find", "soil-probe"], &kiosk).contains("none fits")
            && !of(&["find", "soil-probe"], &hand).contains("none fits")
    );
    assert_eq!(garden.run(&["steps", "--in", "shed"]).expect(2).code(), "workspace.unknown-project");
}

#[test]
fn commands_are_narrowed_to_targets() {
    let garden = garden();
    let shown = |args: &[&str]| garden.run(args).stdout;
    let of =
        |command: &[&'static str], target: &'static str| shown(&[command, &["--target", target]].concat());
    assert!(
        of(&["steps"], "hand-target").contains("calibrate")
            && !of(&["steps"], "kiosk-target").contains("calibrate")
    );
    let of_kiosk = of(&["explain", "soil-probe"], "kiosk-target");
    assert!(of(&["explain", "soil-probe"], "hand-target").contains("by hand itself"));
    assert!(of_kiosk.contains("is locked, but not needed by these projects on these targets"), "{of_kiosk}");
    let dew_point = of(&["explain", "dew-point"], "kiosk-target");
    assert!(dew_point.contains("by kiosk itself") && !dew_point.contains("by hand"), "{dew_point}");
    assert!(!of(&["find", "soil-probe"], "hand-target").contains("none fits"));
    assert!(of(&["find", "soil-probe"], "kiosk-target").contains("none fits"));
    assert!(!of(&["describe", "soil-probe"], "hand-target").contains("kiosk-target"));
    assert!(!of(&["fit", "soil-probe", "--in", "all"], "hand-target").contains("kiosk-target"));
    garden.publish(&["moss-map 1.1.0: dew-point 1"]);
    let lists_moss = |target| of(&["newer"], target).lines().any(|line| line.starts_with("  moss-map"));
    assert!(lists_moss("kiosk-target") && !lists_moss("hand-target"));
    std::fs::remove_dir_all(garden.path("gate/shelf/kiosk-target/moss-map")).unwrap();
    garden.run(&["verify", "--target", "hand-target"]).expect(0);
    garden.run(&["verify", "--target", "kiosk-target"]).expect(1);
    for command in
        [&["find", "dew"][..], &["describe", "dew-point"], &["fit"], &["newer"], &["steps"], &["verify"]]
    {
        let wrong = garden.run(&[command, &["--target", "moon"]].concat()).expect(2);
        assert_eq!(wrong.code(), "install.target", "{wrong}");
    }
}
