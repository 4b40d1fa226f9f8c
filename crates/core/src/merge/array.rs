//! Merges lists: what each side added and took away.

use toml_edit::{Array, ArrayOfTables, Item, RawString, Value};

use super::Side;
use super::canonical::{canonical_table, canonical_value};

/// Merges lists of texts that are different in each list: which of each side's are taken, by their numbers. `None` where a list has one
/// twice, or where both sides put others in the place of one.
fn merged(base: &[String], ours: &[String], theirs: &[String]) -> Option<Vec<(Side, usize)>> {
    let is_set = |texts: &[String]| texts.iter().enumerate().all(|(at, text)| !texts[..at].contains(text));
    if ![base, ours, theirs].into_iter().all(is_set) {
        return None;
    }
    let is_new = |text: &String| !base.contains(text);
    let replaced = |side: &[String]| side.iter().any(is_new) && base.iter().any(|text| !side.contains(text));
    let is_gone_twice = base.iter().any(|text| !ours.contains(text) && !theirs.contains(text));
    if is_gone_twice && replaced(ours) && replaced(theirs) {
        return None;
    }
    let stays = |text: &String| is_new(text) || theirs.contains(text);
    let of_ours = ours.iter().enumerate().filter(|(_, text)| stays(text)).map(|(at, _)| (Side::Ours, at));
    let more = theirs.iter().enumerate().filter(|(_, text)| is_new(text) && !ours.contains(text));
    Some(of_ours.chain(more.map(|(at, _)| (Side::Theirs, at))).collect())
}

/// Merges lists of values.
pub fn merge_arrays(base: Option<&Array>, ours: &Array, theirs: &Array) -> Option<Array> {
    let texts = |array: &Array| array.iter().map(canonical_value).collect::<Vec<_>>();
    let before = base.map(texts).unwrap_or_default();
    let taken = merged(&before, &texts(ours), &texts(theirs))?;
    let mut array = ours.clone();
    array.clear();
    let prefix = |value: &Value| value.decor().prefix().and_then(RawString::as_str).map(str::to_owned);
    let is_tall = ours.iter().any(|value| prefix(value).is_some_and(|prefix| prefix.contains('\n')));
    for (side, at) in taken {
        let list = if side == Side::Ours { ours } else { theirs };
        let Some(value) = list.get(at) else { continue };
        match side {
            Side::Ours => array.push_formatted(value.clone()),
            // A list that has a line for each value goes on so.
            Side::Theirs if is_tall => {
                let mut value = value.clone();
                let before = array.iter().last().and_then(prefix);
                before.into_iter().for_each(|prefix| value.decor_mut().set_prefix(prefix));
                array.push_formatted(value);
            }
            Side::Theirs => array.push(value.clone()),
        }
    }
    // What stood behind a comma may be the first one now.
    if let Some(first) = array
        .get_mut(0)
        .filter(|first| prefix(first).is_some_and(|prefix| prefix.trim_matches(' ').is_empty()))
    {
        first.decor_mut().set_prefix("");
    }
    Some(array)
}

/// Merges lists of tables.
pub fn merge_table_lists(
    base: Option<&ArrayOfTables>,
    ours: &ArrayOfTables,
    theirs: &ArrayOfTables,
) -> Option<ArrayOfTables> {
    let texts =
        |tables: &ArrayOfTables| tables.iter().map(|table| canonical_table(table)).collect::<Vec<_>>();
    let before = base.map(texts).unwrap_or_default();
    let taken = merged(&before, &texts(ours), &texts(theirs))?;
    let table = |(side, at): (Side, usize)| match side {
        Side::Ours => ours.get(at),
        Side::Theirs => theirs.get(at),
    };
    Some(taken.into_iter().filter_map(table).cloned().collect())
}

/// The list of tables that an item is; an empty one where there is none.
pub fn tables_of(item: Option<&Item>) -> Option<ArrayOfTables> {
    match item {
        None | Some(Item::None) => Some(ArrayOfTables::new()),
        Some(item) => item.as_array_of_tables().cloned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lists(base: &str, ours: &str, theirs: &str) -> Option<String> {
        let array = |text: &str| text.parse::<Value>().unwrap().as_array().unwrap().clone();
        merge_arrays(Some(&array(base)), &array(ours), &array(theirs)).map(|array| array.to_string())
    }

    #[test]
    fn what_each_side_added_and_took_away_counts() {
        for (base, ours, theirs, merged) in [
            ("['a', 'b']", "['a', 'b', 'c']", "['b', 'd']", Some("['b', 'c', 'd']")),
            ("['a']", "[]", "['a', 'b']", Some("['b']")),
            ("['a']", "['b']", "['c']", None),
            ("['a', 'b']", "['b']", "['b']", Some("['b']")),
            ("['a']", "['a', 'a']", "['b']", None),
            ("[{n = 1}]", "[{n = 2}]", "[{n = 3}]", None),
            (
                "[\n  'a',\n]",
                "[\n  'a',\n  'b',\n]",
                "[\n  'a',\n  'c',\n]",
                Some("[\n  'a',\n  'b',\n  'c',\n]"),
            ),
        ] {
            assert_eq!(lists(base, ours, theirs).as_deref(), merged, "{base} {ours} {theirs}");
        }
    }
}
