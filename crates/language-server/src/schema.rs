//! What can stand where, by the JSON Schema of manifests (`bibliotax_core::schema`).

use std::sync::LazyLock;

use bibliotax_core::schema;
use serde_json::Value;

use crate::scan::Step;

/// The schema of manifests.
static MANIFEST: LazyLock<Value> = LazyLock::new(|| schema::manifest().to_value());

/// What may stand at a place: one of several things.
#[derive(Debug, Clone, Default)]
pub struct Allowed(Vec<Node>);

/// A part of the schema, with the name that it has there.
#[derive(Debug, Clone, Copy)]
struct Node {
    schema: &'static Value,
    name: Option<&'static str>,
}

/// A key that may stand in a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KnownKey {
    /// The key.
    pub key: &'static str,
    /// What it is for.
    pub description: &'static str,
    /// Whether only a table can be its value.
    pub is_table: bool,
    /// Whether a text can be its value.
    pub is_text: bool,
    /// Whether a list can be its value.
    pub is_list: bool,
}

impl Allowed {
    /// What may stand at the end of a way through a manifest.
    pub fn in_manifest(path: &[Step]) -> Self {
        path.iter().fold(Self::of(&MANIFEST), |allowed, step| allowed.behind(step))
    }

    /// What may stand at the end of a way through a card beside a manifest.
    pub fn in_card(path: &[Step]) -> Self {
        let card = MANIFEST.pointer("/$defs/stated-card").unwrap_or(&Value::Null);
        path.iter().fold(Self::of(card), |allowed, step| allowed.behind(step))
    }

    fn of(schema: &'static Value) -> Self {
        let mut found = Vec::new();
        resolve(Node { schema, name: None }, &mut found);
        Self(found)
    }

    /// What may stand behind a key, or in a list.
    fn behind(&self, step: &Step) -> Self {
        let mut found = Vec::new();
        for node in &self.0 {
            let next = match step {
                Step::Item => node.schema.get("items"),
                Step::Key(key) => node
                    .schema
                    .get("properties")
                    .and_then(|keys| keys.get(key))
                    .or_else(|| node.schema.get("additionalProperties").filter(|more| more.is_object())),
            };
            if let Some(schema) = next {
                resolve(Node { schema, name: None }, &mut found);
            }
            // An element of a list may stand alone.
            if let (Step::Item, None) = (step, next) {
                found.push(*node);
            }
        }
        Self(found)
    }

    /// The keys that have a meaning of their own.
    pub fn keys(&self) -> Vec<KnownKey> {
        let tables = self.0.iter().filter_map(|node| node.schema.get("properties")?.as_object());
        let key = |(key, schema): (&'static String, &'static Value)| {
            let values = Self::of(schema);
            KnownKey {
                key,
                description: schema.get("description").and_then(Value::as_str).unwrap_or_default(),
                is_table: values.0.iter().all(|node| node.is("object")) && !values.0.is_empty(),
                is_text: values.0.iter().any(|node| node.is("string") || node.schema.get("enum").is_some()),
                is_list: values.0.iter().any(|node| node.is("array")),
            }
        };
        tables.flatten().map(key).collect()
    }

    /// Whether keys are names of this kind: `package-name`.
    pub fn has_keys_of(&self, kind: &str) -> bool {
        let names = self.0.iter().filter_map(|node| node.schema.pointer("/propertyNames/$ref")?.as_str());
        names.into_iter().any(|name| name.rsplit('/').next() == Some(kind))
    }

    /// The words that are possible, and `true` or `false`.
    pub fn words(&self) -> Vec<&'static str> {
        let mut words = Vec::new();
        for node in &self.0 {
            if node.is("boolean") {
                words.extend(["true", "false"]);
            }
            let listed = node.schema.get("enum").and_then(Value::as_array).into_iter().flatten();
            words.extend(listed.chain(node.schema.get("const")).filter_map(Value::as_str));
        }
        words.dedup();
        words
    }

    /// Whether something of this name in the schema may stand there: `range`.
    pub fn is(&self, name: &str) -> bool {
        self.0.iter().any(|node| node.name == Some(name))
    }

    /// Whether a text may stand there.
    pub fn is_text(&self) -> bool {
        self.0.iter().any(|node| node.is("string"))
    }
}

impl Node {
    fn is(&self, kind: &str) -> bool {
        self.schema.get("type").and_then(Value::as_str) == Some(kind)
    }
}

/// The alternatives that a schema stands for, with what it refers to.
fn resolve(node: Node, found: &mut Vec<Node>) {
    if let Some(reference) = node.schema.get("$ref").and_then(Value::as_str) {
        let name = reference.rsplit('/').next();
        let target = MANIFEST.pointer(reference.trim_start_matches('#'));
        if let Some(schema) = target {
            resolve(Node { schema, name }, found);
        }
        return;
    }
    match node.schema.get("anyOf").and_then(Value::as_array) {
        Some(alternatives) => {
            alternatives.iter().for_each(|schema| resolve(Node { schema, name: node.name }, found));
        }
        None => found.push(node),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(keys: &str) -> Vec<Step> {
        let step = |key: &str| if key == "[]" { Step::Item } else { Step::Key(key.to_owned()) };
        keys.split('.').filter(|key| !key.is_empty()).map(step).collect()
    }

    #[test]
    fn keys_and_words_are_those_of_the_schema() {
        let keys = |at: &str| -> Vec<&str> {
            Allowed::in_manifest(&path(at)).keys().iter().map(|key| key.key).collect()
        };
        assert!(keys("").contains(&"needs") && keys("project").contains(&"license"));
        assert!(keys("needs.rain-ledger").contains(&"targets"), "{:?}", keys("needs.rain-ledger"));
        assert!(keys("rules.waivers.[]").contains(&"until"), "{:?}", keys("rules.waivers.[]"));
        assert!(Allowed::in_manifest(&path("needs")).has_keys_of("package-name"));
        assert!(Allowed::in_manifest(&path("needs.rain-ledger")).is("range"));
        assert_eq!(
            Allowed::in_manifest(&path("rules.licenses.otherwise")).words(),
            ["accept", "ask", "refuse"]
        );
        assert!(Allowed::in_card(&[]).keys().iter().any(|key| key.key == "license"));
        assert!(Allowed::in_manifest(&path("no.such.[]")).keys().is_empty());
    }
}
