//! The reference of the JSON, in Markdown, made from the schemas.

use std::collections::BTreeSet;
use std::fmt::Write;

use serde_json::{Map, Value};

use super::schemas::of_commands;

/// Keys that every result has.
const COMMON: [&str; 3] = ["format", "command", "warnings"];

const HEAD: &str = "\
# JSON

Every command prints JSON with `--format json`: one object on one line of stdout. This page is made from the program's
own schemas (`bibliotax schema --format markdown`); `bibliotax schema NAME` prints the JSON Schema of one command, to
validate against or to generate code from.

- `format` is the version of this format, now 1. It changes when a key is removed or changes its meaning; new keys may
  come without a new version, so ignore keys that you don't know.
- `command` is the command with its subcommands, `warnings` what people should know beside the result.
- A key that is always there and has no value is `null`. A key marked *optional* is left out instead.
- A command that fails prints the object under [`error`](#error); its exit status says what kind of error it is.
- Text in JSON is what registries and files say, unchanged; characters that a terminal would act on are escaped as
  `\\uXXXX`.
- One thing has one shape in all commands. A key `package` or `project` is always a name, and what *is* a package has
  `name`, `version` and `source`.
";

/// The reference of what all commands print.
pub fn markdown() -> String {
    let mut text = HEAD.to_owned();
    let mut types: Map<String, Value> = Map::new();
    for command in of_commands() {
        let schema = command.schema().to_value();
        // Both are texts written here; a String takes everything.
        let _ = writeln!(text, "\n## `{}`\n\n{}.\n", command.name, upper_first(&command.about));
        let own = command.name != "error";
        write_keys(&mut text, &schema, if own { &COMMON } else { &[] });
        let definitions = schema["$defs"].as_object().cloned().unwrap_or_default();
        types.extend(definitions);
    }
    text.push_str("\n# Types\n");
    let mut names: Vec<&String> = types.keys().collect();
    names.sort_unstable();
    for name in names {
        write_type(&mut text, name, &types[name]);
    }
    text
}

fn upper_first(text: &str) -> String {
    let mut letters = text.chars();
    letters
        .next()
        .map(|first| first.to_uppercase().collect::<String>() + letters.as_str())
        .unwrap_or_default()
}

/// A type that several keys have.
fn write_type(text: &mut String, name: &str, schema: &Value) {
    let about = schema["description"].as_str().unwrap_or_default();
    let _ = writeln!(text, "\n## {name}\n\n{}", one_line(about));
    if has_keys(schema) {
        text.push('\n');
        write_keys(text, schema, &[]);
    } else {
        write_values(text, schema);
    }
}

fn has_keys(schema: &Value) -> bool {
    let alternatives = ["anyOf", "oneOf"].iter().flat_map(|key| schema[key].as_array().into_iter().flatten());
    schema.get("properties").is_some() || alternatives.into_iter().any(|one| one.get("properties").is_some())
}

/// The values of a type that is one of several texts, or what its text looks like.
fn write_values(text: &mut String, schema: &Value) {
    let listed = schema["enum"].as_array().into_iter().flatten().map(|value| (value, ""));
    let described = schema["oneOf"].as_array().into_iter().flatten().flat_map(|one| {
        let about = one["description"].as_str().unwrap_or_default();
        let values = one["enum"].as_array().into_iter().flatten().chain(one.get("const"));
        values.map(move |value| (value, about))
    });
    let values: Vec<(&Value, &str)> = listed.chain(described).collect();
    if values.is_empty() {
        let _ = writeln!(text, "\nJSON: {}.", type_of(schema));
        return;
    }
    text.push_str("\n| value | meaning |\n|---|---|\n");
    for (value, about) in values {
        let _ = writeln!(text, "| `{value}` | {} |", one_line(about));
    }
}

/// The keys of an object but for some; of one with several forms, those of each.
fn write_keys<'s>(text: &mut String, schema: &'s Value, but: &[&'s str]) {
    text.push_str("| key | type | meaning |\n|---|---|---|\n");
    let mut seen: BTreeSet<&str> = but.iter().copied().collect();
    write_rows(text, schema, schema, &mut seen, false);
}

fn write_rows<'s>(
    text: &mut String,
    schema: &'s Value,
    root: &'s Value,
    seen: &mut BTreeSet<&'s str>,
    is_form: bool,
) {
    let required: Vec<&str> =
        schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    for (key, of_key) in schema["properties"].as_object().into_iter().flatten() {
        if !seen.insert(key) {
            continue;
        }
        let about = one_line(of_key["description"].as_str().unwrap_or_default());
        let is_optional = is_form || !required.contains(&key.as_str());
        let optional = if is_optional { " *Optional.*" } else { "" };
        let _ = writeln!(text, "| `{key}` | {} | {about}{optional} |", type_of(of_key));
    }
    if schema.get("$ref").is_some() {
        write_rows(text, resolved(schema, root), root, seen, is_form);
    }
    for form in
        ["anyOf", "oneOf", "allOf"].iter().flat_map(|key| schema[key].as_array().into_iter().flatten())
    {
        let is_form = is_form || schema.get("allOf").is_none();
        write_rows(text, resolved(form, root), root, seen, is_form);
    }
}

/// What a reference to a definition of the same schema leads to.
fn resolved<'s>(schema: &'s Value, root: &'s Value) -> &'s Value {
    let name = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/$defs/"));
    name.map_or(schema, |name| &root["$defs"][name])
}

/// A type in words, with a link where it has a section of its own.
fn type_of(schema: &Value) -> String {
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/$defs/")) {
        return format!("[{name}](#{})", name.to_lowercase());
    }
    for key in ["anyOf", "oneOf"] {
        if let Some(forms) = schema[key].as_array() {
            return forms.iter().map(type_of).collect::<Vec<_>>().join(" or ");
        }
    }
    match &schema["type"] {
        Value::String(one) => type_named(one, schema),
        Value::Array(several) => {
            let words = several.iter().filter_map(Value::as_str).map(|one| type_named(one, schema));
            words.collect::<Vec<_>>().join(" or ")
        }
        _ if schema.get("const").is_some() => format!("`{}`", schema["const"]),
        _ if schema.get("enum").is_some() => "one of several texts".to_owned(),
        _ => "any".to_owned(),
    }
}

fn type_named(name: &str, schema: &Value) -> String {
    match name {
        "array" => format!("list of {}", type_of(&schema["items"])),
        "object" => match schema.get("additionalProperties") {
            Some(value) if value.is_object() => format!("object: key to {}", type_of(value)),
            _ => "object".to_owned(),
        },
        "boolean" => "`true` or `false`".to_owned(),
        "string" if schema["format"] == "date-time" => "time (RFC 3339)".to_owned(),
        other => other.to_owned(),
    }
}

/// A text in one line of a table.
fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").replace('|', "\\|")
}
