//! That the manifest's JSON Schema, which is written by hand, names the keys that the reader knows, and no others.

use std::collections::BTreeSet;

use serde_json::Value;

use super::{
    LINKS_KEYS, PROJECT_KEYS, REGISTRY_KEYS, SHELF_KEYS, SOURCE_KEYS, TOP_KEYS, VARIABLE_KEYS, WORKSPACE_KEYS,
};
use super::{card, charters, fits, needs, rules, sources, tasks};

/// The places of the schema that have keys, each with those that the reader knows.
fn known() -> Vec<(&'static str, Vec<&'static str>)> {
    vec![
        ("", TOP_KEYS.to_vec()),
        ("/properties/project", PROJECT_KEYS.to_vec()),
        ("/properties/workspace", WORKSPACE_KEYS.to_vec()),
        ("/properties/rules", [&rules::SET_KEYS[..], &rules::ROOT_KEYS].concat()),
        ("/$defs/rule-set", rules::SET_KEYS.to_vec()),
        ("/$defs/license-rules", rules::LICENSES_KEYS.to_vec()),
        ("/$defs/barred", rules::BARRED_KEYS.to_vec()),
        ("/$defs/accepted-license", rules::ACCEPTED_KEYS.to_vec()),
        ("/properties/rules/properties/advisories", [&rules::LEVEL_KEYS[..], &rules::FEED_KEYS].concat()),
        ("/$defs/advisory-levels", rules::LEVEL_KEYS.to_vec()),
        ("/$defs/waiver", rules::WAIVER_KEYS.to_vec()),
        ("/properties/charter", charters::CHARTER_KEYS.to_vec()),
        ("/$defs/charter-rules", [&rules::SET_KEYS[..], &rules::CHARTER_KEYS].concat()),
        ("/$defs/declared-charter", charters::DECLARED_KEYS.to_vec()),
        ("/$defs/exception", charters::EXCEPTION_KEYS.to_vec()),
        ("/properties/shelf", SHELF_KEYS.to_vec()),
        ("/properties/links", LINKS_KEYS.to_vec()),
        ("/$defs/role-variable", VARIABLE_KEYS.to_vec()),
        ("/properties/card", card::CARD_KEYS.to_vec()),
        ("/$defs/need-table", [&needs::NEED_KEYS[..], &SOURCE_KEYS].concat()),
        ("/$defs/stand-in", [&SOURCE_KEYS[..], &["version"]].concat()),
        ("/$defs/stated-card", sources::STATED_KEYS.to_vec()),
        ("/$defs/registry-table", REGISTRY_KEYS.to_vec()),
        ("/$defs/facet", fits::FACET_KEYS.to_vec()),
        ("/$defs/task-table", tasks::TASK_KEYS.to_vec()),
        ("/$defs/component", card::COMPONENT_KEYS.to_vec()),
        ("/$defs/part", card::PART_KEYS.to_vec()),
        ("/$defs/step", card::STEP_KEYS.to_vec()),
        ("/$defs/check", card::CHECK_KEYS.to_vec()),
    ]
}

/// The places below `place` that have keys.
fn places_with_keys(schema: &Value, place: &str) -> BTreeSet<String> {
    let Some(object) = schema.as_object() else { return BTreeSet::new() };
    let here = object.get("properties").is_some_and(Value::is_object).then(|| place.to_owned());
    let below = object.iter().flat_map(|(key, value)| places_with_keys(value, &format!("{place}/{key}")));
    here.into_iter().chain(below).collect()
}

#[test]
fn the_schema_names_the_keys_that_the_reader_knows() {
    let schema = Value::from(crate::schema::manifest());
    for (place, keys) in known() {
        let table = schema.pointer(place).unwrap_or_else(|| panic!("nothing at `{place}`"));
        let named: BTreeSet<&str> =
            table["properties"].as_object().unwrap().keys().map(String::as_str).collect();
        assert_eq!(named, keys.into_iter().collect(), "at `{place}`");
        assert_eq!(table["additionalProperties"], false, "at `{place}`");
    }
    let compared = known().iter().map(|(place, _)| (*place).to_owned()).collect();
    assert_eq!(places_with_keys(&schema, ""), compared);
}
