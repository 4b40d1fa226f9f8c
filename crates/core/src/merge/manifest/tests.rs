//! Merging manifests: by example, and random edits against a model of keys.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;

fn merge(base: &str, ours: &str, theirs: &str) -> MergedManifest {
    merge_manifests(Versions { base, ours, theirs }, ["ours", "theirs"]).unwrap()
}

const BASE: &str = "[project]\nname = \"gate\"\n\n# what it needs\n[needs]\ndew-point = \"1\" # for rain\nmoss = { range = \"1\" }\n\n[targets.kiosk]\nos = \"linux\"\n";

#[test]
fn needs_that_both_add_at_one_place_are_both_there() {
    let ours = BASE.replace("moss = {", "leaf = \"2\"\nmoss = {");
    let theirs = BASE.replace("moss = {", "# measures\nsoil = \"3\"\nmoss = {");
    let merged = merge(BASE, &ours, &theirs);
    assert_eq!(merged.conflicts, [""; 0]);
    assert!(
        merged.text.contains("leaf = \"2\"\n# measures\nsoil = \"3\"\nmoss")
            || merged.text.contains("# measures\nsoil = \"3\"\nleaf = \"2\"\nmoss"),
        "{}",
        merged.text
    );
    assert!(merged.text.contains("# what it needs\n[needs]\ndew-point = \"1\" # for rain\n"));
}

#[test]
fn one_line_is_marked_where_both_changed_one_key() {
    let ours = BASE.replace("dew-point = \"1\"", "dew-point = \"1.4\"").replace("linux", "any");
    let theirs = BASE.replace("dew-point = \"1\"", "dew-point = \"2\"").replace("\"gate\"", "\"kiosk\"");
    let merged = merge(BASE, &ours, &theirs);
    assert_eq!(merged.conflicts, ["needs.dew-point"]);
    assert_eq!(
        merged.text,
        BASE.replace(
            "dew-point = \"1\" # for rain\n",
            "<<<<<<< ours\ndew-point = \"1.4\" # for rain\n=======\ndew-point = \"2\" # for rain\n>>>>>>> theirs\n"
        )
        .replace("linux", "any")
        .replace("\"gate\"", "\"kiosk\"")
    );
}

#[test]
fn keys_of_a_table_on_one_line_merge_and_a_contradiction_marks_the_line() {
    let ours = BASE.replace("range = \"1\"", "range = \"1.2\"");
    let theirs = BASE.replace("range = \"1\"", "range = \"1\", targets = [\"kiosk\"]");
    let merged = merge(BASE, &ours, &theirs);
    assert!(merged.text.contains("moss = { range = \"1.2\", targets = [\"kiosk\"] }\n"), "{}", merged.text);
    let other = BASE.replace("range = \"1\"", "range = \"2\"");
    let merged = merge(BASE, &ours, &other);
    assert!(
        merged.text.contains(
            "<<<<<<< ours\nmoss = { range = \"1.2\" }\n=======\nmoss = { range = \"2\" }\n>>>>>>> theirs\n"
        ),
        "{}",
        merged.text
    );
}

#[test]
fn a_table_that_one_side_moved_gets_what_the_other_side_changed() {
    let moved = "[project]\nname = \"gate\"\n\n[targets.kiosk]\nos = \"linux\"\n\n# what it needs\n[needs]\ndew-point = \"1\" # for rain\nmoss = { range = \"1\" }\n";
    let changed = BASE.replace("moss = { range = \"1\" }", "moss = { range = \"2\" }");
    let expected = moved.replace("moss = { range = \"1\" }", "moss = { range = \"2\" }");
    assert_eq!(merge(BASE, moved, &changed).text, expected);
    assert_eq!(merge(BASE, &changed, moved).text, expected);
}

#[test]
fn what_one_side_removed_and_the_other_changed_is_told() {
    let ours = BASE.replace("\n[targets.kiosk]\nos = \"linux\"\n", "");
    let theirs = BASE.replace("os = \"linux\"", "os = \"any\"");
    let merged = merge(BASE, &ours, &theirs);
    assert_eq!(merged.conflicts, ["targets.kiosk.os"]);
    assert!(merged.text.contains("os = \"any\""), "{}", merged.text);
    assert_eq!(merge(BASE, &ours, BASE).text, ours);
    assert_eq!(merge(BASE, BASE, &ours).text, ours);
}

#[test]
fn lists_and_lists_of_tables_take_what_each_side_added() {
    let base = "[workspace]\nfolders = [\"a\"]\n\n[[card.steps]]\nid = \"one\"\ntext = \"x\"\n";
    let ours = base.replace("[\"a\"]", "[\"a\", \"b\"]") + "\n[[card.steps]]\nid = \"two\"\ntext = \"y\"\n";
    let theirs =
        base.replace("[\"a\"]", "[\"a\", \"c\"]") + "\n[[card.steps]]\nid = \"three\"\ntext = \"z\"\n";
    let merged = merge(base, &ours, &theirs);
    assert_eq!(merged.conflicts, [""; 0]);
    for part in ["[\"a\", \"b\", \"c\"]", "\"one\"", "\"two\"", "\"three\""] {
        assert!(merged.text.contains(part), "{part}: {}", merged.text);
    }
    let both = |text: &str| base.replace("text = \"x\"", text);
    let merged = merge(base, &both("text = \"ours\""), &both("text = \"theirs\""));
    assert_eq!(merged.conflicts, ["card.steps"]);
    assert!(
        merged.text.contains("<<<<<<< ours\ntext = \"ours\"\n=======\ntext = \"theirs\"\n>>>>>>> theirs\n"),
        "{}",
        merged.text
    );
}

/// A manifest with these needs and targets.
type Model = BTreeMap<(&'static str, &'static str), u8>;

const TABLES: [&str; 3] = ["needs", "targets.kiosk", "families"];
const KEYS: [&str; 5] = ["ash", "beech", "cedar", "dogwood", "elm"];

fn written(model: &Model) -> String {
    let mut text = "# the gate\n[project]\nname = \"gate\"\n".to_owned();
    for table in TABLES {
        let keys: Vec<_> = model.iter().filter(|((of, _), _)| *of == table).collect();
        if !keys.is_empty() {
            text.push_str(&format!("\n# {table}\n[{table}]\n"));
        }
        for ((_, key), value) in keys {
            text.push_str(&format!("{key} = \"{value}\" # {key}\n"));
        }
    }
    text
}

fn models() -> impl Strategy<Value = Model> {
    let place = (proptest::sample::select(&TABLES[..]), proptest::sample::select(&KEYS[..]));
    proptest::collection::btree_map(place, 0..4_u8, 0..10)
}

/// What is done to a key: it is removed, or has another value.
type Edit = ((&'static str, &'static str), Option<u8>);

fn edits() -> impl Strategy<Value = Vec<Edit>> {
    let place = (proptest::sample::select(&TABLES[..]), proptest::sample::select(&KEYS[..]));
    proptest::collection::vec((place, proptest::option::of(4..7_u8)), 0..6)
}

fn edited(model: &Model, edits: &[Edit]) -> Model {
    let mut edited = model.clone();
    for (place, value) in edits {
        match value {
            Some(value) => drop(edited.insert(*place, *value)),
            None => drop(edited.remove(place)),
        }
    }
    edited
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn no_change_of_one_side_is_lost_and_all_others_are_told(base in models(), one in edits(), other in edits()) {
        let (ours, theirs) = (edited(&base, &one), edited(&base, &other));
        let texts = [&base, &ours, &theirs].map(written);
        let merged = merge(&texts[0], &texts[1], &texts[2]);
        let mirrored = merge(&texts[0], &texts[2], &texts[1]);
        let mut expected = Model::new();
        let mut conflicts = Vec::new();
        for table in TABLES {
            for key in KEYS {
                let at = |model: &Model| model.get(&(table, key)).copied();
                let (was, our, their) = (at(&base), at(&ours), at(&theirs));
                if our != their && was != our && was != their {
                    conflicts.push(format!("{table}.{key}"));
                } else {
                    let value = if was == our { their } else { our };
                    expected.extend(value.map(|value| ((table, key), value)));
                }
            }
        }
        let told = |merged: &MergedManifest| {
            let mut told = merged.conflicts.clone();
            told.sort();
            told
        };
        conflicts.sort();
        prop_assert_eq!(&told(&merged), &conflicts);
        prop_assert_eq!(&told(&mirrored), &conflicts);
        if conflicts.is_empty() {
            let says = |text: &str| canonical_table(text.parse::<DocumentMut>().unwrap().as_table());
            // A table that lost its last key may stay behind empty.
            let filled = |text: &str| says(text).replace(",\"families\":{}", "").replace(",\"targets\":{\"kiosk\":{}}", "");
            let filled = |text: &str| filled(text).replace("\"families\":{},", "").replace("\"needs\":{},", "");
            prop_assert_eq!(filled(&merged.text), filled(&written(&expected)));
            prop_assert_eq!(filled(&merged.text), filled(&mirrored.text));
            let again = merge(&merged.text, &merged.text, &merged.text);
            prop_assert_eq!(&again.text, &merged.text);
        } else {
            prop_assert_eq!(merged.text.matches("<<<<<<< ours\n").count(), merged.text.matches(">>>>>>> theirs\n").count());
            prop_assert!(merged.text.contains("<<<<<<< ours\n"));
        }
        prop_assert_eq!(&merge(&texts[0], &texts[1], &texts[0]).text, &texts[1]);
        prop_assert_eq!(&merge(&texts[0], &texts[0], &texts[2]).text, &texts[2]);
    }
}
