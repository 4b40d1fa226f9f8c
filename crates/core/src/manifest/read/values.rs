//! Reads values of one type each, with a fault for any other.

use std::ops::Range as Span;
use std::str::FromStr;

use toml_edit::{Item, Key, TableLike, Value};

use super::Reader;
use crate::fault::Fault;
use crate::nearest::{WordAt, push_with_nearest};

impl Reader<'_> {
    pub(super) fn each<T>(
        &mut self,
        top: &dyn TableLike,
        key: &str,
        read: impl FnMut(&mut Self, &Key, &Item) -> Option<T>,
    ) -> Vec<T> {
        let table = top.get(key).and_then(|item| self.table(item, key));
        table.map(|table| self.entries(table, read)).unwrap_or_default()
    }

    pub(super) fn entries<T>(
        &mut self,
        table: &dyn TableLike,
        mut read: impl FnMut(&mut Self, &Key, &Item) -> Option<T>,
    ) -> Vec<T> {
        let keys: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).collect();
        let pairs = keys.iter().filter_map(|key| table.get_key_value(key));
        pairs.filter_map(|(key, item)| read(self, key, item)).collect()
    }

    pub(super) fn only_known(&mut self, table: &dyn TableLike, what: &str, known: &[&str]) {
        for (name, _) in table.iter().filter(|(name, _)| !known.contains(name)) {
            let at = table.get_key_value(name).map_or(0..0, |(key, _)| key_span(key));
            let fault = Fault::new("manifest.unknown-key", format!("{what} has no key `{name}`"), at);
            push_with_nearest(&mut self.faults, fault, (name, WordAt::Fault), known.iter().copied());
        }
    }

    pub(super) fn table<'a>(&mut self, item: &'a Item, key: &str) -> Option<&'a dyn TableLike> {
        let table = item.as_table_like();
        if table.is_none() {
            self.wrong_kind(item, key, "a table");
        }
        table
    }

    pub(super) fn text(&mut self, item: &Item, key: &str) -> Option<String> {
        let text = item.as_str().map(str::to_owned);
        if text.is_none() {
            self.wrong_kind(item, key, "a text in quotes");
        }
        text
    }

    pub(super) fn flag(&mut self, item: &Item, key: &str) -> bool {
        if item.as_bool().is_none() {
            self.wrong_kind(item, key, "`true` or `false`");
        }
        item.as_bool().unwrap_or_default()
    }

    pub(super) fn texts(&mut self, table: &dyn TableLike, key: &str) -> Option<Vec<String>> {
        let item = table.get(key)?;
        let texts = item
            .as_array()
            .and_then(|array| array.iter().map(|value| value.as_str().map(str::to_owned)).collect());
        if texts.is_none() {
            self.wrong_kind(item, key, "a list of texts, such as `[\"…\"]`");
        }
        texts
    }

    /// Reads a text or a list of texts, each by `read`.
    pub(super) fn each_text<T>(
        &mut self,
        item: &Item,
        key: &str,
        read: impl Fn(&str) -> Result<T, Fault>,
    ) -> Vec<T> {
        let items: Vec<Item> = match item.as_array() {
            Some(array) => array.iter().cloned().map(Item::Value).collect(),
            None => vec![item.clone()],
        };
        let mut one = |item: &Item| {
            let text = self.text(item, key)?;
            read(&text).map_err(|fault| self.faults.push(placed(fault, &span(item), text.len()))).ok()
        };
        items.iter().filter_map(&mut one).collect()
    }

    pub(super) fn parsed_list<T: FromStr<Err = Fault>>(
        &mut self,
        table: &dyn TableLike,
        key: &str,
    ) -> Vec<T> {
        let Some(item) = table.get(key) else { return Vec::new() };
        let Some(array) = item.as_array() else {
            self.wrong_kind(item, key, "a list of names, such as `[\"…\"]`");
            return Vec::new();
        };
        let items: Vec<Item> = array.iter().cloned().map(Item::Value).collect();
        items.iter().filter_map(|item| self.parse(item, key)).collect()
    }

    /// Tables in a list, each read on its own.
    pub(super) fn tables<T>(
        &mut self,
        top: &dyn TableLike,
        key: &str,
        mut read: impl FnMut(&mut Self, &Item, &dyn TableLike) -> Option<T>,
    ) -> Vec<T> {
        let Some(item) = top.get(key) else { return Vec::new() };
        match (item.as_array_of_tables(), item.as_array()) {
            (Some(tables), _) => tables.iter().filter_map(|table| read(self, item, table)).collect(),
            (None, Some(array)) if array.iter().all(Value::is_inline_table) => {
                let tables = array.iter().filter_map(Value::as_inline_table);
                tables.filter_map(|table| read(self, item, table)).collect()
            }
            _ => {
                self.wrong_kind(item, key, &format!("a list of tables: `[[card.{key}]]`"));
                Vec::new()
            }
        }
    }

    /// One of the words that are possible at a place.
    pub(super) fn one_of<T: Copy>(
        &mut self,
        item: &Item,
        key: &str,
        code: &'static str,
        what: &str,
        known: &[(&str, T)],
    ) -> Option<T> {
        let word = self.text(item, key)?;
        let found = known.iter().find(|(name, _)| *name == word).map(|(_, value)| *value);
        if found.is_none() {
            let fault = Fault::new(code, format!("`{word}` isn't a {what}"), span(item));
            push_with_nearest(
                &mut self.faults,
                fault,
                (&word, WordAt::Fault),
                known.iter().map(|(name, _)| *name),
            );
        }
        found
    }

    pub(super) fn wrong_kind(&mut self, item: &Item, key: &str, expected: &str) {
        let message = format!("`{key}` has to be {expected}");
        self.faults
            .push(Fault::new("manifest.wrong-kind", message, span(item)).label(format!("is {}", kind(item))));
    }

    pub(super) fn parsed<T: FromStr<Err = Fault>>(&mut self, table: &dyn TableLike, key: &str) -> Option<T> {
        table.get(key).and_then(|item| self.parse(item, key))
    }

    pub(super) fn parse<T: FromStr<Err = Fault>>(&mut self, item: &Item, key: &str) -> Option<T> {
        let text = self.text(item, key)?;
        text.parse().map_err(|fault| self.faults.push(placed(fault, &span(item), text.len()))).ok()
    }

    pub(super) fn name<T: FromStr<Err = Fault>>(&mut self, key: &Key) -> Option<T> {
        key.get()
            .parse()
            .map_err(|fault| self.faults.push(placed(fault, &key_span(key), key.get().len())))
            .ok()
    }
}

/// A fault inside a value, at its place in the manifest.
///
/// A value without escapes stands in one quote on each side; of any other the whole is pointed at.
fn placed(fault: Fault, value: &Span<usize>, width: usize) -> Fault {
    match value.len().checked_sub(width) {
        Some(0) => fault.shifted(value.start),
        Some(2) => fault.shifted(value.start + 1),
        _ => Fault { span: value.clone(), fixes: Box::default(), ..fault },
    }
}

fn kind(item: &Item) -> &'static str {
    match item {
        Item::Value(Value::String(_)) => "a text",
        Item::Value(Value::Integer(_) | Value::Float(_)) => "a number",
        Item::Value(Value::Boolean(_)) => "`true` or `false`",
        Item::Value(Value::Datetime(_)) => "a date",
        Item::Value(Value::Array(_)) | Item::ArrayOfTables(_) => "a list",
        _ => "a table",
    }
}

pub(super) fn span(item: &Item) -> Span<usize> {
    item.span().unwrap_or(0..0)
}

pub(super) fn key_span(key: &Key) -> Span<usize> {
    key.span().unwrap_or(0..0)
}
