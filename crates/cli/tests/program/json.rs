//! The JSON that commands print: valid by the program's own schemas, as an independent validator reads them.

use std::collections::{BTreeSet, HashMap};
use std::process::Command;
use std::sync::{Mutex, PoisonError};

use bibliotax_core::manifest::Manifest;
use jsonschema::Validator;
use serde_json::{Value, json};

use crate::garden::Garden;

/// The schemas that the program prints, by their names.
static SCHEMAS: Mutex<Option<HashMap<String, Validator>>> = Mutex::new(None);

/// Fails unless what a command printed is valid by its schema.
#[track_caller]
pub fn validate(printed: &Value) {
    let name = match &printed["error"] {
        Value::Object(_) => "error".to_owned(),
        _ => printed["command"].as_str().unwrap().replace(' ', "-"),
    };
    check(&name, printed);
}

/// Fails unless a value is valid by the schema of this name.
#[track_caller]
fn check(name: &str, value: &Value) {
    let mut schemas = SCHEMAS.lock().unwrap_or_else(PoisonError::into_inner);
    let schemas = schemas.get_or_insert_default();
    let validator = schemas.entry(name.to_owned()).or_insert_with(|| validator(name));
    let problems: Vec<String> =
        validator.iter_errors(value).map(|error| format!("{} at {}", error, error.instance_path())).collect();
    assert!(problems.is_empty(), "{name}: {problems:#?} in {value:#}");
}

fn validator(name: &str) -> Validator {
    let schema = schema(name);
    jsonschema::meta::validate(&schema).unwrap_or_else(|error| panic!("{name}: {error}"));
    jsonschema::validator_for(&schema).unwrap_or_else(|error| panic!("{name}: {error}"))
}

fn schema(name: &str) -> Value {
    let printed = Command::new(env!("CARGO_BIN_EXE_bibliotax")).args(["schema", name]).output().unwrap();
    assert!(printed.status.success(), "{name}");
    serde_json::from_slice(&printed.stdout).unwrap()
}

/// The names of the schemas of commands that print JSON and end; servers, sign-ins and the demo have tests of their own.
fn commands() -> BTreeSet<String> {
    let listed = Command::new(env!("CARGO_BIN_EXE_bibliotax")).args(["schema", "--format", "json"]).output();
    let listed: Value = serde_json::from_slice(&listed.unwrap().stdout).unwrap();
    validate(&listed);
    let schemas = listed["schemas"].as_array().unwrap();
    let of_commands =
        schemas.iter().filter(|schema| schema["about"].as_str().unwrap().contains("--format json"));
    of_commands.map(|schema| schema["name"].as_str().unwrap().to_owned()).collect()
}

/// A garden with something to tell for every command.
fn garden() -> Garden {
    let releases =
        ["dew-point 1.0.0:", "dew-point 1.2.0:", "dew-point 2.0.0:", "rain-ledger 2.4.0: dew-point 1"];
    let garden = Garden::needing(&releases, "rain-ledger = \"2\"\n[tasks]\nhello = \"echo hello\"");
    garden.write(
        "hand/bibliotax.toml",
        "[project]\nname = \"hand-unit\"\nversion = \"1.0.0\"\n\n[registries]\nseedhouse = \"../seedhouse\"\n\
         \n[fits]\nos = \"linux\"\n[targets.shed]\nos = \"linux\"\narch = \"x86_64\"\n[needs]\ndew-point = \"1\"\n",
    );
    garden
}

#[test]
fn every_command_prints_what_its_schema_says() {
    let garden = garden();
    let mut seen = BTreeSet::new();
    let mut run = |folder: &str, words: &[&str], status: i32| -> Value {
        let printed = garden.run_in(folder, &[words, &["--format", "json"]].concat()).expect(status).json();
        seen.insert(printed["command"].as_str().unwrap().replace(' ', "-"));
        printed
    };
    run("gate", &["install"], 0);
    garden.write("new/keep", "");
    run("new", &["init", "--name", "valve-core"], 0);
    let needed = run("gate", &["need", "dew-point", "1"], 0);
    assert_eq!(needed["edits"][0]["file"], "bibliotax.toml", "{needed:#}");
    assert_eq!(needed["edits"][0]["added"], json!(["dew-point = \"1\""]));
    run("gate", &["explain", "dew-point"], 0);
    run("gate", &["explain", "dew-point", "2"], 4);
    run("gate", &["newer"], 0);
    run("gate", &["fit", "--try", "shed:os=linux"], 0);
    run("gate", &["drop", "dew-point"], 0);
    run("gate", &["resolve"], 0);
    run("gate", &["update", "--dry-run"], 0);
    run("gate", &["verify", "--full", "--store"], 0);
    run("gate", &["task"], 0);
    run("gate", &["graph"], 0);
    run("gate", &["links"], 0);
    run("gate", &["compare", "bibliotax.lock", "bibliotax.lock"], 0);
    run("gate", &["describe", "dew-point"], 0);
    run("gate", &["find", "dew"], 0);
    run("gate", &["steps"], 0);
    run("gate", &["steps", "check"], 0);
    run("gate", &["ready"], 0);
    run("gate", &["check"], 0);
    run("gate", &["accept", "--all", "--dry-run"], 0);
    run("gate", &["check", "--explain", "drift"], 0);
    run("hand", &["install"], 0);
    run("hand", &["publish", "--dry-run"], 0);
    let published = run("hand", &["publish"], 0);
    assert_eq!(published["registry"], "seedhouse");
    run("gate", &["withdraw", "hand-unit", "1.0.0", "--reason", "a try"], 0);
    run("gate", &["deprecate", "dew-point", "1", "--reason", "use 2"], 0);
    crate::sources::git(&garden, ".", &["init", "-q"]);
    run("gate", &["merge"], 0);
    crate::sources::commit(&garden, ".");
    run("gate", &["history"], 0);
    run("gate", &["survey", "."], 0);
    run("gate", &["export", "purls"], 0);
    run("gate", &["report"], 0);
    run("gate", &["help", "ranges"], 0);
    run("gate", &["merge", "--set-up"], 0);
    run(".", &["registry", "create", "other"], 0);
    run(".", &["registry", "load", "seedhouse", "cards.jsonl", "--dry-run"], 0);
    run(".", &["registry", "mirror", "seedhouse", "copy"], 0);
    run(".", &["registry", "check", "seedhouse"], 0);
    run(".", &["registry", "follow", "seedhouse"], 0);
    let token = run(".", &["registry", "token", "issue", "seedhouse", "gate", "--only", "*"], 0);
    run(".", &["registry", "token", "show", "seedhouse"], 0);
    run(".", &["registry", "token", "end", "seedhouse", token["id"].as_str().unwrap()], 0);
    run("gate", &["kit", "make", "gate.kit"], 0);
    run("gate", &["kit", "open", "gate.kit"], 0);
    run("gate", &["store", "show"], 0);
    run("gate", &["store", "check"], 0);
    run("gate", &["store", "trim", "--dry-run"], 0);
    run("gate", &["completions", "bash"], 0);
    run("gate", &["manual", "pages"], 0);
    run("gate", &["schema"], 0);
    let elsewhere = ["registry-serve", "registry-sign-in", "registry-sign-out", "steps-done", "demo"];
    let unseen: Vec<String> = commands().into_iter().filter(|name| !seen.contains(name)).collect();
    let unseen: Vec<&String> = unseen.iter().filter(|name| !elsewhere.contains(&name.as_str())).collect();
    assert!(unseen.is_empty(), "{unseen:?}");
}

#[test]
fn files_are_valid_by_their_schemas() {
    let garden = garden();
    garden.run(&["install"]).expect(0);
    let of = |text: &str| -> Value { serde_json::from_str(text).unwrap() };
    check("lock", &of(&garden.read("gate/bibliotax.lock")));
    check("registry", &of(&garden.read("seedhouse/registry.json")));
    check("links-file", &of(&garden.read("gate/shelf/links/gate-kiosk.json")));
    for manifest in ["gate/bibliotax.toml", "hand/bibliotax.toml"] {
        let toml: toml_edit::DocumentMut = garden.read(manifest).parse().unwrap();
        check("manifest", &of_toml(toml.as_item()));
    }
}

/// Faults that are about the shape of a manifest, for which its schema refuses it as well.
const OF_SHAPE: [&str; 4] = ["card.upstream", "manifest.rule", "manifest.unknown-key", "manifest.wrong-kind"];

/// Fails where the reader takes a manifest that its schema refuses, or refuses one for its shape that the schema takes.
#[track_caller]
pub fn agree_on_manifest(text: &str) {
    let Ok(toml) = text.parse::<toml_edit::DocumentMut>() else { return };
    let manifest = of_toml(toml.as_item());
    let mut schemas = SCHEMAS.lock().unwrap_or_else(PoisonError::into_inner);
    let validator =
        schemas.get_or_insert_default().entry("manifest".to_owned()).or_insert_with(|| validator("manifest"));
    match Manifest::read(text) {
        Ok(_) => {
            let problems: Vec<String> = validator
                .iter_errors(&manifest)
                .map(|error| format!("{error} at {}", error.instance_path()))
                .collect();
            assert!(problems.is_empty(), "the schema refuses what the reader takes: {problems:#?}\n{text}");
        }
        Err(faults) if faults.iter().any(|fault| OF_SHAPE.contains(&fault.code)) => {
            assert!(
                !validator.is_valid(&manifest),
                "the schema takes what the reader refuses: {faults:#?}\n{text}"
            );
        }
        Err(_) => {}
    }
}

/// TOML as the JSON that an editor checks.
fn of_toml(item: &toml_edit::Item) -> Value {
    if let Some(table) = item.as_table_like() {
        return table.iter().map(|(key, item)| (key.to_owned(), of_toml(item))).collect();
    }
    if let Some(tables) = item.as_array_of_tables() {
        return tables.iter().map(|table| of_toml(&toml_edit::Item::Table(table.clone()))).collect();
    }
    match item.as_value() {
        Some(toml_edit::Value::Array(array)) => {
            array.iter().map(|value| of_toml(&toml_edit::Item::Value(value.clone()))).collect()
        }
        Some(toml_edit::Value::String(text)) => text.value().as_str().into(),
        Some(toml_edit::Value::Integer(number)) => (*number.value()).into(),
        Some(toml_edit::Value::Boolean(flag)) => (*flag.value()).into(),
        Some(toml_edit::Value::Float(number)) => (*number.value()).into(),
        Some(toml_edit::Value::Datetime(date)) => date.value().to_string().into(),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_wrong_manifest_is_invalid_by_its_schema() {
    let wrong = [
        json!({ "neds": {} }),
        json!({ "project": {} }),
        json!({ "needs": { "Rain": "1" } }),
        json!({ "needs": { "rain": { "rnage": "1" } } }),
        json!({ "rules": { "undeclared": "perhaps" } }),
    ];
    let validator = validator("manifest");
    wrong.iter().for_each(|manifest| assert!(!validator.is_valid(manifest), "{manifest}"));
}

#[test]
fn reader_and_schema_agree_on_each_key_that_is_wrong() {
    Manifest::read(MANIFEST).unwrap_or_else(|faults| panic!("{faults:#?}"));
    let whole: toml_edit::DocumentMut = MANIFEST.parse().unwrap();
    let ways = ways(whole.as_table(), &[]);
    assert!(ways.len() > 100, "{}", ways.len());
    agree_on_manifest(MANIFEST);
    for way in ways {
        let (last, parents) = way.split_last().unwrap();
        let (mut renamed, mut odd) = (whole.clone(), whole.clone());
        let table = table_at(&mut renamed, parents);
        let value = table.remove(last).unwrap();
        table.insert(&format!("{last}x"), value);
        table_at(&mut odd, parents).insert(last, toml_edit::value(7.5));
        agree_on_manifest(&renamed.to_string());
        agree_on_manifest(&odd.to_string());
    }
}

/// A manifest that says something of nearly everything.
const MANIFEST: &str = r#"
[project]
name = "gate-kiosk"
version = "0.3.0"
license = "MIT"

[workspace]
folders = ["hand"]
apart = ["old"]

[registries]
seedhouse = "../seedhouse"
shed = { url = "https://packages.example/", mirrors = ["https://mirror.example/"], owns = ["fern/*"], plain = false }

[shared]
bark-log = "1"

[families]
pergola = "3"

[capabilities]
tls = "pond-tls"

[needs]
dew-point = { range = "1", targets = ["kiosk"], from = "seedhouse", components = ["fog"], parts = ["headers"], prereleases = true, without = ["bark-log"] }
"pergola/core" = "family"
bark-log = "shared"
leaf-palette = { git = "https://git.example/leaf.git", tag = "v1", subfolder = "src", include = ["*.h"], exclude = ["old/**"] }

[needs-for.test]
probe-sim = "0.9"

[targets.kiosk]
os = "linux"
arch = "x86_64"
shade = "2"

[facets.shade]
kind = "ladder"
levels = ["1", "2"]
aliases = { deep = "2" }

[fits]
os = ["linux", "macos"]

[devices]
hand-3 = "kiosk"

[links]
for = ["make"]

[tools.kiosk]
cc = "gcc"

[environment]
SEEDS = { role = "python", prefix = "src", separator = ":" }

[shelf]
link = "hard"
absolute = true

[stand-ins]
moss-map = { path = "../moss-map" }

[tasks]
hello = { do = "echo hello", after = ["first"], in = "src", tokens = false }
first = "true"

[rules]
min-age = "5 days"
sources = ["seedhouse"]
withdrawn = "warn"
licenses = { accept = ["MIT"], ask = ["MPL-2.0"], refuse = ["GPL-3.0-only"], otherwise = "ask" }
barred = { moss-map = { range = "2", reason = "leaks" } }
accepted = { dew-point = { license = "MIT", range = "1" } }
advisories = { feeds = ["../advisories"], refuse = "high", warn = "low" }

[[rules.waivers]]
rule = "min-age"
package = "dew-point"
range = "1"
reason = "known"
until = 2027-01-31

[charters]
season = { range = "2026", prereleases = false, except = [{ package = "dew-point", reason = "the new probes" }] }

[card]
summary = "Opens the gate"
description = "A longer text"
tags = ["gate"]
homepage = "https://gate.example/"
repository = "https://git.example/gate.git"
notes = "First"
upstream = ["pkg:generic/gate@1"]

[card.components.fog]
summary = "Measures fog"
needs = { dew-point = "1" }

[[card.steps]]
id = "calibrate"
text = "Calibrate the probe"
"#;

/// The ways to all keys of a table and of those below it.
fn ways(table: &dyn toml_edit::TableLike, before: &[String]) -> Vec<Vec<String>> {
    let mut all = Vec::new();
    for (key, item) in table.iter() {
        let way = [before, &[key.to_owned()]].concat();
        all.extend(item.as_table_like().map(|below| ways(below, &way)).into_iter().flatten());
        all.push(way);
    }
    all
}

fn table_at<'d>(
    document: &'d mut toml_edit::DocumentMut,
    way: &[String],
) -> &'d mut dyn toml_edit::TableLike {
    let table = way.iter().fold(document.as_item_mut(), |item, key| &mut item[key.as_str()]);
    table.as_table_like_mut().unwrap()
}

#[test]
fn the_reference_is_what_the_schemas_say() {
    let printed =
        Command::new(env!("CARGO_BIN_EXE_bibliotax")).args(["schema", "--format", "markdown"]).output();
    let page = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json.md");
    let said = "write it again: bibliotax schema --format markdown > docs/json.md";
    assert!(printed.unwrap().stdout == std::fs::read(page).unwrap(), "{said}");
}

#[test]
fn errors_and_warnings_have_one_shape() {
    let garden = garden();
    let failed = garden.run(&["need", "moss-mpa", "--format", "json"]).json();
    assert_eq!((&failed["command"], &failed["format"]), (&json!("need"), &json!(1)));
    let usage = garden.run(&["nede", "--format", "json"]).json();
    assert_eq!(usage["command"], Value::Null);
    garden.run(&["deprecate", "rain-ledger", "2", "--reason", "use another"]).expect(0);
    let warned = garden.run(&["resolve", "--format", "json"]).json();
    assert!(warned["warnings"][0].as_str().unwrap().contains("deprecated"), "{warned:#}");
}
