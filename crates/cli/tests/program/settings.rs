//! A person's settings, and looking packages up without a project.

use crate::garden::Garden;

/// A garden with a registry, and a folder in which there is no project.
fn garden() -> Garden {
    let garden = Garden::with(&["dew-point 1.4.0", "rain-ledger 2.4.0: dew-point 1"]);
    garden.write("elsewhere/keep", "");
    garden
}

const SETTINGS: &str = "home/.config/bibliotax/settings.toml";

#[test]
fn without_a_project_packages_are_looked_up_in_a_registry_that_is_named() {
    let garden = garden();
    let lost = garden.run_in("elsewhere", &["find", "rain"]).expect(3);
    assert_eq!(lost.code(), "manifest.missing");
    assert!(lost.stderr.contains("--registry") && lost.stderr.contains("settings"), "{lost}");
    for place in ["../seedhouse", "../seedhouse/"] {
        let found = garden.run_in("elsewhere", &["find", "rain", "--registry", place]).expect(0);
        assert!(found.stdout.contains("rain-ledger") && found.stdout.contains("2.4.0"), "{found}");
        assert!(found.stdout.contains(&format!("describe rain-ledger --registry {place}")), "{found}");
    }
    let described = garden.run_in("elsewhere", &["describe", "dew-point", "--registry", "../seedhouse"]);
    assert!(described.expect(0).stdout.contains("1.4.0"));
    let wrong = garden.run_in("elsewhere", &["find", "rain", "--registry", "nowhere"]).expect(2);
    assert_eq!(wrong.code(), "registry.which");
    // Inside a project the one that is named counts, and no other.
    garden.run_in(".", &["registry", "create", "other"]).expect(0);
    let other = garden.run(&["find", "rain", "--registry", "../other"]).expect(0);
    assert!(other.stdout.contains("no package has"), "{other}");
    assert!(
        garden.run(&["find", "rain", "--registry", "seedhouse"]).expect(0).stdout.contains("rain-ledger")
    );
}

#[test]
fn settings_give_default_registries_and_say_where_they_are() {
    let garden = garden();
    let none = garden.run_in("elsewhere", &["ready"]).expect(0);
    assert!(none.stdout.contains("there is no GARDEN/home/.config/bibliotax/settings.toml"), "{none}");
    garden.write(SETTINGS, "color = \"always\"\n[registries]\nseedhouse = \"../../../seedhouse\"\n");
    let found = garden.run_in("elsewhere", &["find", "rain"]).expect(0);
    assert!(found.stdout.contains("rain-ledger") && found.stdout.contains('\u{1b}'), "{found}");
    assert!(!garden.run_in("elsewhere", &["--color", "never", "find", "rain"]).stdout.contains('\u{1b}'));
    let described = garden.run_in("elsewhere", &["describe", "rain-ledger", "--color", "never"]).expect(0);
    assert!(described.stdout.contains("2.4.0"), "{described}");
    let ready = garden.run_in("elsewhere", &["ready", "--color", "never"]).expect(0);
    assert!(ready.stdout.contains("settings.toml sets registries, color"), "{ready}");
    assert!(ready.stdout.contains("registry seedhouse  can be reached"), "{ready}");
}

#[test]
fn the_store_and_the_network_are_set_for_all_projects() {
    let garden = garden();
    garden.write("gate/bibliotax.toml", "[project]\nname = \"gate-kiosk\"\n[registries]\nfar = \"http://127.0.0.1:9/\"\n[needs]\ndew-point = \"1\"\n");
    garden.write(SETTINGS, "offline = true\nstore = \"my-store\"\nconcurrency = 2\n");
    assert_eq!(garden.run(&["resolve"]).expect(5).code(), "registry.offline");
    let online = garden.command("gate", &["resolve"]).env("BIBLIOTAX_OFFLINE", "0").output().unwrap();
    assert!(
        String::from_utf8_lossy(&online.stderr).contains("registry.unreachable"),
        "the variable comes first"
    );
    let shown = garden.command("gate", &["store", "show"]).env_remove("BIBLIOTAX_STORE").output().unwrap();
    let shown = String::from_utf8(shown.stdout).unwrap();
    assert!(shown.contains("home/.config/bibliotax/my-store"), "{shown}");
}

#[test]
fn wrong_settings_are_shown_at_their_place() {
    let garden = garden();
    garden.write(SETTINGS, "colour = \"never\"\n");
    let wrong = garden.run(&["install"]).expect(3);
    assert!(wrong.stderr.contains("settings.toml") && wrong.stderr.contains("`color`"), "{wrong}");
    garden.write(SETTINGS, "concurrency = 1000\n");
    assert_eq!(garden.run(&["install"]).expect(3).code(), "settings.value");
    let named =
        garden.command("gate", &["install"]).env("BIBLIOTAX_SETTINGS", "nowhere.toml").output().unwrap();
    assert!(String::from_utf8_lossy(&named.stderr).contains("(settings.missing)"));
}
