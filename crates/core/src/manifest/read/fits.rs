//! Reads targets, facets and promises.

use toml_edit::{Item, Key, TableLike, Value};

use super::Reader;
use super::values::{key_span, span};
use crate::facet::{Facet, FitValue, Fits, Target};
use crate::fault::Fault;
use crate::name::{FacetName, RegistryName};
use crate::nearest::{WordAt, push_with_nearest};

pub(super) const FACET_KEYS: [&str; 4] = ["kind", "levels", "aliases", "values"];
const KINDS: [&str; 3] = ["ladder", "choice", "claim"];

impl Reader<'_> {
    pub(super) fn target(&mut self, key: &Key, item: &Item) -> Option<Target> {
        // A target names a folder of the shelf, so it has the form of other names.
        let name: RegistryName = self.name(key)?;
        if matches!(name.as_str(), Target::THIS_MACHINE | "links") {
            let message = format!("`{name}` means something else on the shelf");
            let fault = Fault::new("manifest.target", message, key_span(key));
            self.faults.push(fault.advice("give the target another name"));
        }
        let values = self.table(item, key.get()).map(|table| self.fits(table))?;
        if let Some((facet, _)) = values.iter().find(|(_, value)| matches!(value, FitValue::Many(_))) {
            let message = format!("a target has one value of `{facet}`, and this is a list");
            let fault = Fault::new("manifest.wrong-kind", message, span(item));
            self.faults.push(fault.advice("declare a target for each of them"));
        }
        Some(Target { name: name.to_string(), values, is_promise: false })
    }

    pub(super) fn facet(&mut self, key: &Key, item: &Item) -> Option<(FacetName, Facet)> {
        let name: FacetName = self.name(key)?;
        let table = self.table(item, key.get())?;
        self.only_known(table, "a facet", &FACET_KEYS);
        let kind = match table.get("kind") {
            Some(kind) => self.text(kind, "kind")?,
            None => String::new(),
        };
        let facet = match kind.as_str() {
            "ladder" => Facet::Ladder {
                levels: self.texts(table, "levels").unwrap_or_default(),
                aliases: self
                    .each(table, "aliases", |reader, key, item| {
                        Some((key.get().to_owned(), reader.text(item, key.get())?))
                    })
                    .into_iter()
                    .collect(),
            },
            "choice" => Facet::Choice { values: self.texts(table, "values").unwrap_or_default() },
            "claim" => Facet::Claim,
            other => {
                let message = format!("`{name}` has no valid kind of facet");
                let fault =
                    Fault::new("manifest.facet", message, table.get("kind").map_or(key_span(key), span));
                push_with_nearest(&mut self.faults, fault, (other, WordAt::Fault), KINDS.into_iter());
                return None;
            }
        };
        if let Err(problem) = facet.check() {
            let message = format!("the definition of `{name}` is invalid: {problem}");
            self.faults.push(Fault::new("manifest.facet", message, key_span(key)));
        }
        Some((name, facet))
    }

    /// What a table says of facets.
    pub(super) fn fits(&mut self, table: &dyn TableLike) -> Fits {
        self.entries(table, |reader, key, item| Some((reader.name(key)?, reader.fit_value(key, item)?)))
            .into_iter()
            .collect()
    }

    fn fit_value(&mut self, key: &Key, item: &Item) -> Option<FitValue> {
        match item {
            Item::Value(Value::Boolean(holds)) => Some(FitValue::Claim(*holds.value())),
            Item::Value(Value::String(text)) => Some(FitValue::One(text.value().clone())),
            Item::Value(Value::Array(array)) => {
                let values: Option<Vec<String>> =
                    array.iter().map(|value| value.as_str().map(str::to_owned)).collect();
                if values.is_none() {
                    self.wrong_kind(item, key.get(), "a list of texts");
                }
                values.map(FitValue::Many)
            }
            Item::Value(Value::Integer(number)) => {
                let message = format!("the value of `{}` needs quotes", key.get());
                let fault =
                    Fault::new("manifest.unquoted-value", message, span(item)).label("a number, not a text");
                let quoted = format!("\"{}\"", number.value());
                self.faults.push(fault.advice(format!("write `{quoted}`")).fix(span(item), quoted));
                None
            }
            _ => {
                self.wrong_kind(item, key.get(), "a text, a list of texts, `true` or `false`");
                None
            }
        }
    }
}
