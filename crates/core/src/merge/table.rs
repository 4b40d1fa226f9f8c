//! Merges tables key by key.

use std::collections::BTreeMap;

use toml_edit::{InlineTable, Item, Table, TableLike, Value};

use super::array::{merge_arrays, merge_table_lists, tables_of};
use super::canonical::canonical;
use super::comments::merge_decor;
use super::{Side, changed};

/// Merges tables; where both sides changed one key differently, it takes that of one side and notes the key.
pub struct TableMerge {
    /// The side that has its way.
    pub preferred: Side,
    /// The keys that both sides changed, each as it stands in the document.
    pub conflicts: Vec<String>,
}

impl TableMerge {
    /// Brings what they changed since `base` into our table.
    pub fn merge(
        &mut self,
        base: Option<&dyn TableLike>,
        ours: &mut Table,
        theirs: &dyn TableLike,
        path: &str,
    ) {
        let own = keys_of(ours);
        self.merge_keys(base, ours, theirs, path);
        let before = base.map(keys_of).unwrap_or_default();
        let order = joined_order(&before, &own, &keys_of(theirs));
        let rank = |key: &str| order.iter().position(|one| one == key).unwrap_or(usize::MAX);
        ours.sort_values_by(|one, _, other, _| rank(one.get()).cmp(&rank(other.get())));
    }

    fn merge_inline(
        &mut self,
        base: Option<&dyn TableLike>,
        ours: &InlineTable,
        theirs: &InlineTable,
        path: &str,
    ) -> Option<InlineTable> {
        let mut merged = ours.clone();
        let mut inside = Self { preferred: self.preferred, conflicts: Vec::new() };
        inside.merge_keys(base, &mut merged, theirs, path);
        merged.fmt();
        // A table on one line is one thing where its keys contradict each other.
        inside.conflicts.is_empty().then_some(merged)
    }

    fn merge_keys(
        &mut self,
        base: Option<&dyn TableLike>,
        ours: &mut dyn TableLike,
        theirs: &dyn TableLike,
        path: &str,
    ) {
        let mut keys = keys_of(ours);
        let more = keys_of(theirs).into_iter().filter(|key| !keys.contains(key)).collect::<Vec<_>>();
        keys.extend(more);
        for key in keys {
            let place = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
            self.merge_key(base, ours, theirs, &key, &place);
        }
    }

    fn merge_key(
        &mut self,
        base: Option<&dyn TableLike>,
        ours: &mut dyn TableLike,
        theirs: &dyn TableLike,
        key: &str,
        place: &str,
    ) {
        let before = base.and_then(|base| base.get(key));
        let (our, their) = (ours.get(key).cloned(), theirs.get(key));
        let [was, is, comes] = [before, our.as_ref(), their].map(|item| item.map(canonical));
        match changed(was.as_deref(), is.as_deref(), comes.as_deref()) {
            Some(taken) if taken == is.as_deref() => {}
            Some(_) => set(ours, key, their.cloned()),
            None => {
                let merged = self.merge_items(before, our.as_ref(), their, place);
                set(ours, key, merged);
            }
        }
        merge_around(base, ours, theirs, key);
    }

    /// Merges what both sides changed; where that can't be, one of them.
    fn merge_items(
        &mut self,
        base: Option<&Item>,
        ours: Option<&Item>,
        theirs: Option<&Item>,
        place: &str,
    ) -> Option<Item> {
        let before = base.and_then(Item::as_table_like);
        if let (Some(our), Some(their)) = (table_or_none(ours), table_or_none(theirs)) {
            // What one side removed is an empty table: what the other side changed in it is still reported.
            let mut merged = our.or_else(|| Some(emptied(their.as_ref()?))).unwrap_or_default();
            let theirs = their.unwrap_or_default();
            self.merge(before, &mut merged, &theirs, place);
            return (!merged.is_empty() || ours.is_some()).then_some(Item::Table(merged));
        }
        let lists =
            (base.and_then(Item::as_array), ours.and_then(Item::as_array), theirs.and_then(Item::as_array));
        let inline = (ours.and_then(Item::as_inline_table), theirs.and_then(Item::as_inline_table));
        let merged = match (lists, inline) {
            ((before, Some(our), Some(their)), _) => merge_arrays(before, our, their).map(Value::Array),
            (_, (Some(our), Some(their))) => {
                self.merge_inline(before, our, their, place).map(Value::InlineTable)
            }
            _ => None,
        };
        if let Some(merged) = merged {
            return Some(Item::Value(merged));
        }
        if let (Some(before), Some(our), Some(their)) = (tables_of(base), tables_of(ours), tables_of(theirs))
            && let Some(merged) = merge_table_lists(Some(&before), &our, &their)
        {
            return Some(Item::ArrayOfTables(merged));
        }
        self.conflicts.push(place.to_owned());
        if self.preferred == Side::Ours { ours.cloned() } else { theirs.cloned() }
    }
}

/// The table that an item is, nothing where there is none; `None` where it is something else.
fn table_or_none(item: Option<&Item>) -> Option<Option<Table>> {
    match item {
        None | Some(Item::None) => Some(None),
        Some(Item::Table(table)) => Some(Some(table.clone())),
        Some(_) => None,
    }
}

/// A table with the same place and head, and nothing in it.
fn emptied(table: &Table) -> Table {
    let mut empty = table.clone();
    empty.clear();
    empty
}

fn set(table: &mut dyn TableLike, key: &str, item: Option<Item>) {
    match item {
        Some(item) => match table.get_mut(key) {
            Some(there) => *there = item,
            None => drop(table.insert(key, item)),
        },
        None => drop(table.remove(key)),
    }
}

/// Merges the comments around a key that is there now, and behind its value.
fn merge_around(base: Option<&dyn TableLike>, ours: &mut dyn TableLike, theirs: &dyn TableLike, key: &str) {
    let Some((their_key, their_item)) = theirs.get_key_value(key) else { return };
    let before = base.and_then(|base| base.get_key_value(key));
    if let Some(mut our_key) = ours.key_mut(key) {
        merge_decor(
            before.map(|(key, _)| key.leaf_decor()),
            our_key.leaf_decor_mut(),
            their_key.leaf_decor(),
        );
    }
    let Some(our_item) = ours.get_mut(key) else { return };
    let before = before.map(|(_, item)| item);
    match (our_item, their_item) {
        (Item::Value(our), Item::Value(their)) => {
            merge_decor(before.and_then(Item::as_value).map(Value::decor), our.decor_mut(), their.decor());
        }
        (Item::Table(our), Item::Table(their)) => {
            merge_decor(before.and_then(Item::as_table).map(Table::decor), our.decor_mut(), their.decor());
        }
        _ => {}
    }
}

fn keys_of(table: &dyn TableLike) -> Vec<String> {
    table.iter().map(|(key, _)| key.to_owned()).collect()
}

/// The order of keys: as we have those that were there before, with the new ones of each side behind the key that they stand behind.
/// Where both sides have new ones behind one key, they are sorted by name, whichever side is merged into which.
fn joined_order(base: &[String], ours: &[String], theirs: &[String]) -> Vec<String> {
    let [our_new, their_new] = [ours, theirs].map(|keys| new_behind(base, keys));
    let mut order: Vec<String> = Vec::new();
    let anchors = ours.iter().filter(|key| base.contains(key)).map(Some);
    for anchor in [None].into_iter().chain(anchors) {
        order.extend(anchor.cloned());
        let our = our_new.get(&anchor).cloned().unwrap_or_default();
        let their = their_new.get(&anchor).cloned().unwrap_or_default();
        let mut more: Vec<&String> =
            our.iter().chain(their.iter().filter(|key| !our.contains(*key))).copied().collect();
        if !our.is_empty() && !their.is_empty() {
            more.sort();
        }
        order.extend(more.into_iter().filter(|key| !base.contains(*key)).cloned());
    }
    // What stands behind a key that we don't have any more.
    let rest: Vec<String> = ours.iter().chain(theirs).filter(|key| !order.contains(key)).cloned().collect();
    order.extend(rest);
    order
}

/// The keys that weren't there before, by the key from before that they stand behind.
fn new_behind<'k>(base: &[String], keys: &'k [String]) -> BTreeMap<Option<&'k String>, Vec<&'k String>> {
    let mut new: BTreeMap<Option<&String>, Vec<&String>> = BTreeMap::new();
    let mut anchor = None;
    for key in keys {
        if base.contains(key) {
            anchor = Some(key);
        } else {
            new.entry(anchor).or_default().push(key);
        }
    }
    new
}
