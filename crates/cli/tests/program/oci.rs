//! Packages in a registry of containers: published, found, resolved, installed and withdrawn there by the program.

use std::process::Command;
use std::thread;

use insta::assert_snapshot;
use serde_json::Value;

use crate::containers::{BASIC, Containers, Open, PASSWORD, USER};
use crate::credentials::{found_below, run_with_input};
use crate::garden::Garden;

const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";

/// A project that is published there.
fn author(garden: &Garden, folder: &str, place: &str, name: &str, version: &str, more: &str) {
    garden.write(
        &format!("{folder}/bibliotax.toml"),
        &format!(
            "[project]\nname = \"{name}\"\nversion = \"{version}\"\nlicense = \"MIT\"\n\
             [registries]\ncontainers = \"{place}\"\n{more}"
        ),
    );
    garden.write(&format!("{folder}/{name}.h"), &format!("#define VERSION \"{version}\"\n"));
}

fn publish(garden: &Garden, place: &str, name: &str, version: &str, more: &str) {
    let folder = format!("{name}-{version}");
    author(garden, &folder, place, name, version, more);
    garden.run_in(&folder, &["publish"]).expect(0);
}

fn user(garden: &Garden, place: &str, needs: &str) {
    let manifest =
        format!("[project]\nname = \"gate\"\n[registries]\ncontainers = \"{place}\"\n[needs]\n{needs}");
    garden.write("gate/bibliotax.toml", &manifest);
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn packages_live_in_a_registry_of_containers_from_publishing_to_withdrawal() {
    let garden = Garden::bare();
    let containers = Containers::start(&garden, Open::ToAll);
    let place = containers.place();
    author(&garden, "moss-map-1.0.0", &place, "moss-map", "1.0.0", "");
    let early = garden.run_in("moss-map-1.0.0", &["publish"]).expect(5);
    assert!(early.code() == "registry.missing" && early.stderr.contains("registry create"), "{early}");
    garden.run_in(".", &["registry", "create", &place, "--name", "containers"]).expect(0);
    assert_eq!(garden.run_in(".", &["registry", "create", &place]).expect(3).code(), "registry.not-empty");
    let plain = garden.run_in(".", &["registry", "create", &format!("{place}-plain"), "--plain"]).expect(0);
    assert!(plain.stdout.contains("plain = true"), "{plain}");
    publish(&garden, &place, "moss-map", "1.0.0", "[card]\nsummary = \"Where moss grows\"\n");
    publish(&garden, &place, "dew-point", "1.4.0", "[needs]\nmoss-map = \"1\"\n");
    publish(&garden, &place, "moss-map", "1.1.0+spring", "");
    garden.write("moss-map-1.0.0/moss-map.h", "other\n");
    assert_eq!(garden.run_in("moss-map-1.0.0", &["publish"]).expect(5).code(), "registry.exists");

    user(&garden, &place, "dew-point = \"1\"\n");
    let before = Containers::asked(&garden).len();
    garden.run(&["resolve"]).expect(0);
    let asked = Containers::asked(&garden).split_off(before);
    assert_eq!(asked.len(), 3, "a request for each package, and one for the registry: {asked:#?}");
    let index = "GET /v2/fernhollow/packages/moss-map/manifests/index ";
    assert!(asked.iter().any(|line| line.starts_with(index)), "{asked:#?}");
    garden.run(&["install"]).expect(0);
    assert!(garden.shelf().contains(&"#define VERSION \"1.1.0+spring\"".to_owned()), "{:?}", garden.shelf());
    garden.run(&["withdraw", "moss-map", "1.1.0", "--reason", "mould"]).expect(0);
    assert!(garden.run(&["withdraw", "moss-map", "1.1.0", "--reason", "mould"]).stdout.contains("already"));
    let updated = garden.run(&["update"]).expect(0);
    assert!(updated.stdout.contains("1.0.0"), "{updated}");
    let described = garden.run(&["describe", "moss-map"]).expect(0);
    assert!(described.stdout.contains("withdrawn (mould)"), "{described}");
    assert_snapshot!(garden.run(&["find", "where"]).expect(0), @"
      moss-map  1.0.0  used by 1  Where moss grows
    details: `bibliotax describe moss-map`
    ----- status 0
    ");

    let copied = garden.run_in(".", &["registry", "mirror", &place, "copy"]).expect(0);
    assert!(copied.stdout.contains("copied 4 events"), "{copied}");
    garden.run_in(".", &["registry", "check", "copy"]).expect(0);
    drop(containers);
    let output = garden.command("gate", &["find", "dew"]).env("BIBLIOTAX_OFFLINE", "1").output().unwrap();
    assert!(String::from_utf8_lossy(&output.stdout).contains("dew-point"), "{output:?}");
    assert_eq!(garden.run(&["find", "dew"]).expect(5).code(), "registry.unreachable");
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn a_charter_lives_in_a_registry_of_containers() {
    let garden = Garden::bare();
    let containers = Containers::start(&garden, Open::ToAll);
    let place = containers.place();
    garden.run_in(".", &["registry", "create", &place, "--name", "containers"]).expect(0);
    publish(&garden, &place, "dew-point", "1.4.0", "");
    publish(&garden, &place, "dew-point", "2.0.0", "");
    publish(&garden, &place, "season", "2026.1.0", "[charter.ranges]\ndew-point = \"1\"\n");
    user(&garden, &place, "dew-point = \"charter\"\n[charters]\nseason = \"2026\"\n");
    garden.run(&["install"]).expect(0);
    let lock = garden.read("gate/bibliotax.lock");
    assert!(lock.contains("\"dew-point\",\"version\":\"1.4.0\"") && lock.contains("\"season\""), "{lock}");
    garden.run(&["install", "--sealed"]).expect(0);
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn capabilities_and_many_publishers_at_once_leave_nothing_out() {
    let garden = Garden::bare();
    let containers = Containers::start(&garden, Open::ToAll);
    let place = containers.place();
    garden.run_in(".", &["registry", "create", &place]).expect(0);
    let provides = "[card]\nprovides = [\"soil-sensor\"]\n";
    for minor in 0..6 {
        author(&garden, &format!("moss-map-{minor}"), &place, "moss-map", &format!("1.{minor}.0"), provides);
    }
    thread::scope(|scope| {
        for minor in 0..6 {
            let (garden, folder) = (&garden, format!("moss-map-{minor}"));
            scope.spawn(move || garden.run_in(&folder, &["publish"]).expect(0));
        }
    });
    user(&garden, &place, "soil-sensor = \"any\"\nmoss-map = \"1\"\n");
    assert_eq!(releases(&garden), 6);
    garden.run(&["resolve"]).expect(0);
    assert!(garden.read("gate/bibliotax.lock").contains("\"1.5.0\""));

    let release: Value = serde_json::from_str(&containers.get(&manifest("1.0.0"), MANIFEST)).unwrap();
    assert_eq!(release["artifactType"], "application/vnd.bibliotax.release.v1", "{release}");
    assert_eq!(release["annotations"]["org.opencontainers.image.version"], "1.0.0");
}

/// The path of what a tag of moss-map names.
fn manifest(tag: &str) -> String {
    format!("fernhollow/packages/moss-map/manifests/{tag}")
}

fn releases(garden: &Garden) -> usize {
    let described = garden.run(&["describe", "moss-map", "--format", "json"]).expect(0).json();
    described["releases"].as_array().unwrap().len()
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn an_index_that_leaves_something_out_is_mended_by_the_next_who_publishes() {
    let garden = Garden::bare();
    let containers = Containers::start(&garden, Open::ToAll);
    let place = containers.place();
    garden.run_in(".", &["registry", "create", &place]).expect(0);
    user(&garden, &place, "");
    publish(&garden, &place, "moss-map", "1.0.0", "");
    let early = containers.get(&manifest("index"), MANIFEST);
    publish(&garden, &place, "moss-map", "1.1.0", "");
    garden.run(&["withdraw", "moss-map", "1.1.0", "--reason", "mould"]).expect(0);
    // What others keep beside the releases is none.
    assert_eq!(containers.put(&manifest("latest"), MANIFEST, &early), 201);
    assert_eq!(containers.put(&manifest("9.0.0"), MANIFEST, &early), 201);
    assert_eq!(containers.put(&manifest("index"), MANIFEST, &early), 201);
    assert_eq!(releases(&garden), 1);
    publish(&garden, &place, "moss-map", "1.2.0", "");
    assert_eq!(releases(&garden), 3);
    let described = garden.run(&["describe", "moss-map"]).expect(0);
    assert!(described.stdout.contains("withdrawn (mould)"), "{described}");
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn a_registry_that_wants_a_password_gets_it_from_where_people_keep_it() {
    let garden = Garden::bare();
    let containers = Containers::start(&garden, Open::WithPassword);
    let place = containers.place();
    let create = ["registry", "create", &place, "--name", "containers"];
    assert_snapshot!(garden.run_in(".", &create).stderr.replace(&containers.host, "HOST"), @"
    error: the registry `containers` refuses (401): it requires a valid token or password  (token.unknown)
    try: get a new token from its maintainers and save it: `bibliotax registry sign-in REGISTRY`
    ");
    let with = |variable: &str, value: &str, folder: &str, args: &[&str]| {
        let mut command: Command = garden.command(folder, args);
        let output = command.env(variable, value).output().unwrap();
        (output.status.code().unwrap(), String::from_utf8([output.stdout, output.stderr].concat()).unwrap())
    };
    let file = format!("{{\"auths\":{{\"{}\":{{\"auth\":\"{BASIC}\"}}}}}}", containers.host);
    garden.write("settings/config.json", &file);
    garden.write("settings/auth.json", &file);
    let settings = garden.path("settings").display().to_string();
    assert_eq!(with("DOCKER_CONFIG", &settings, ".", &create).0, 0);
    author(&garden, "moss-map", &place, "moss-map", "1.0.0", "");
    let ran = with("REGISTRY_AUTH_FILE", &format!("{settings}/auth.json"), "moss-map", &["publish", "-vv"]);
    assert!(ran.0 == 0 && !ran.1.contains(BASIC), "{}", ran.1);
    user(&garden, &place, "moss-map = \"1\"\n");
    let pair = format!("{place} {USER}:{PASSWORD}");
    assert_eq!(with("BIBLIOTAX_TOKENS", &pair, "gate", &["install"]).0, 0);
    let ready = with("DOCKER_CONFIG", &settings, "gate", &["ready"]);
    assert!(ready.1.contains("can be reached, with the credentials from the container tools"), "{}", ready.1);
    let wrong = with("BIBLIOTAX_TOKENS", &format!("{place} moss:wrong"), "gate", &["describe", "moss-map"]);
    assert!(wrong.0 == 5 && wrong.1.contains("token.unknown"), "{}", wrong.1);
    let sign_in = ["registry", "sign-in", &containers.host, "--user", USER, "--file"];
    assert_eq!(run_with_input(&garden, &sign_in, PASSWORD, None).0, 0);
    garden.run(&["describe", "moss-map"]).expect(0);
    let kept = found_below(&garden.path("."), PASSWORD);
    assert!(kept.len() == 1 && kept[0].ends_with("sign-ins.toml"), "{kept:?}");
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn a_registry_that_wants_tokens_gets_them_from_where_it_sends_us() {
    let garden = Garden::bare();
    let containers = Containers::start(&garden, Open::WithToken);
    let place = containers.place();
    garden.write("gate/bibliotax.toml", "[project]\nname = \"gate\"\n");
    let sign_in = ["registry", "sign-in", &containers.host, "--user", USER, "--file"];
    assert_eq!(run_with_input(&garden, &sign_in, PASSWORD, None).0, 0);
    garden.run_in(".", &["registry", "create", &place, "--name", "containers"]).expect(0);
    publish(&garden, &place, "moss-map", "1.0.0", "");
    user(&garden, &place, "moss-map = \"1\"\n");
    garden.run(&["install"]).expect(0);
    garden.run(&["withdraw", "moss-map", "1.0.0", "--reason", "mould"]).expect(0);
    let asked = containers.asked_for_tokens();
    assert!(asked.contains("scope=repository%3Afernhollow%2Fpackages%2Fmoss-map%3Apull%2Cpush"), "{asked}");
    assert!(asked.contains(BASIC), "the password goes to where tokens are given out: {asked}");
    // Its tokens are for repositories alone.
    let unlisted = garden.run(&["find", "moss"]).expect(5);
    assert!(
        unlisted.stderr.contains("registry.no-list") && unlisted.stderr.contains("describe"),
        "{unlisted}"
    );
    let nobody = garden.run(&["registry", "sign-out", "containers"]).expect(0);
    assert!(nobody.stdout.contains("deleted the credentials"));
    assert_eq!(garden.run(&["describe", "moss-map"]).expect(5).code(), "token.unknown");
    for secret in [PASSWORD, BASIC, "eyJ0eXAi", "eyJhbGci"] {
        assert_eq!(found_below(&garden.path("."), secret), [""; 0], "{secret}");
    }
}
