//! What TOML says, without its layout: for comparing.

use std::collections::BTreeMap;

use toml_edit::{Item, TableLike, Value};

/// What an item says, without its layout; the order of keys doesn't matter.
pub fn canonical(item: &Item) -> String {
    match item {
        Item::None => String::new(),
        Item::Value(value) => canonical_value(value),
        Item::Table(table) => canonical_table(table),
        Item::ArrayOfTables(tables) => {
            let tables: Vec<String> = tables.iter().map(|table| canonical_table(table)).collect();
            format!("[{}]", tables.join(","))
        }
    }
}

pub fn canonical_value(value: &Value) -> String {
    match value {
        Value::Array(array) => {
            let values: Vec<String> = array.iter().map(canonical_value).collect();
            format!("[{}]", values.join(","))
        }
        Value::InlineTable(table) => canonical_table(table),
        Value::String(text) => format!("{:?}", text.value()),
        other => other.clone().decorated("", "").to_string(),
    }
}

pub fn canonical_table(table: &dyn TableLike) -> String {
    let keys: BTreeMap<&str, String> = table.iter().map(|(key, item)| (key, canonical(item))).collect();
    let keys: Vec<String> = keys.into_iter().map(|(key, text)| format!("{key:?}:{text}")).collect();
    format!("{{{}}}", keys.join(","))
}
