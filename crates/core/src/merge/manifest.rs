//! Merges manifests key by key, with the comments and the layout of both sides.

use similar::{ChangeTag, TextDiff};
use toml_edit::{DocumentMut, Item, Table};

use super::Side;
use super::canonical::canonical_table;
use super::comments::merge_text;
use super::table::TableMerge;

/// The texts that are merged.
#[derive(Debug, Clone, Copy)]
pub struct Versions<'v> {
    /// The text before.
    pub base: &'v str,
    /// Ours.
    pub ours: &'v str,
    /// Theirs.
    pub theirs: &'v str,
}

/// What two texts come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MergedManifest {
    /// The text; with markers around the lines of keys that both sides changed.
    pub text: String,
    /// These keys, as they stand in the document.
    pub conflicts: Vec<String>,
}

/// Merges manifests, or other texts in TOML, that came from one; `None` where one of them is no TOML. Sides are named in markers.
pub fn merge_manifests(versions: Versions<'_>, names: [&str; 2]) -> Option<MergedManifest> {
    let document = |text: &str| text.parse::<DocumentMut>().ok();
    let (base, ours, theirs) =
        (document(versions.base)?, document(versions.ours)?, document(versions.theirs)?);
    // The side that moved tables around is the one that the other's changes come into.
    let order = |document: &DocumentMut| heads(document.as_table(), "");
    let keeps_order = is_in_order(&order(&base), &order(&ours));
    let host =
        if keeps_order && !is_in_order(&order(&base), &order(&theirs)) { Side::Theirs } else { Side::Ours };
    let merge = |preferred: Side| match host {
        Side::Ours => merged(&base, &ours, &theirs, preferred),
        Side::Theirs => merged(&base, &theirs, &ours, preferred.other()),
    };
    let (our_way, conflicts) = merge(Side::Ours);
    if !conflicts.is_empty() {
        let (their_way, _) = merge(Side::Theirs);
        return Some(MergedManifest { text: with_markers(&our_way, &their_way, names), conflicts });
    }
    // Line by line, more of both layouts stays; it counts where it says the same.
    let by_lines = merge_lines(versions).ok();
    let says = |text: &str| document(text).map(|document| canonical_table(document.as_table()));
    let meant = says(&our_way);
    let by_lines = by_lines.filter(|text| meant.is_some() && says(text) == meant);
    Some(MergedManifest { text: by_lines.unwrap_or(our_way), conflicts })
}

/// Merges texts line by line; with markers where both changed the same lines.
pub fn merge_lines(versions: Versions<'_>) -> Result<String, String> {
    diffy::merge(versions.base, versions.ours, versions.theirs)
}

/// Brings what came into a document; the keys that both changed have it as one side does.
fn merged(
    base: &DocumentMut,
    ours: &DocumentMut,
    theirs: &DocumentMut,
    preferred: Side,
) -> (String, Vec<String>) {
    let mut merge = TableMerge { preferred, conflicts: Vec::new() };
    let mut document = ours.clone();
    merge.merge(Some(base.as_table()), document.as_table_mut(), theirs.as_table(), "");
    let end = |document: &DocumentMut| document.trailing().as_str().unwrap_or_default().to_owned();
    document.set_trailing(merge_text(&end(base), &end(ours), &end(theirs)));
    (document.to_string(), merge.conflicts)
}

/// The heads of all tables, in the order in which they stand.
fn heads(table: &Table, path: &str) -> Vec<String> {
    let mut found: Vec<(isize, String)> = Vec::new();
    collect_heads(table, path, &mut found);
    found.sort_by_key(|(position, _)| *position);
    found.into_iter().map(|(_, head)| head).collect()
}

fn collect_heads(table: &Table, path: &str, found: &mut Vec<(isize, String)>) {
    for (key, item) in table.iter() {
        let Item::Table(inner) = item else { continue };
        let place = format!("{path}.{key}");
        if let Some(position) = inner.position() {
            found.push((position, place.clone()));
        }
        collect_heads(inner, &place, found);
    }
}

/// Whether the heads that both have stand in the same order.
fn is_in_order(base: &[String], other: &[String]) -> bool {
    let shared = |one: &[String], other: &[String]| {
        one.iter().filter(|head| other.contains(head)).cloned().collect::<Vec<_>>()
    };
    shared(base, other) == shared(other, base)
}

/// A text with markers around the lines in which two ways to merge differ.
fn with_markers(ours: &str, theirs: &str, [our_name, their_name]: [&str; 2]) -> String {
    let diff = TextDiff::from_lines(ours, theirs);
    let mut text = String::new();
    let (mut our_lines, mut their_lines) = (String::new(), String::new());
    let flush = |text: &mut String, ours: &mut String, theirs: &mut String| {
        if !ours.is_empty() || !theirs.is_empty() {
            text.push_str(&format!("<<<<<<< {our_name}\n{ours}=======\n{theirs}>>>>>>> {their_name}\n"));
            ours.clear();
            theirs.clear();
        }
    };
    for change in diff.iter_all_changes() {
        let line = format!("{}\n", change.value().trim_end_matches('\n'));
        match change.tag() {
            ChangeTag::Delete => our_lines.push_str(&line),
            ChangeTag::Insert => their_lines.push_str(&line),
            ChangeTag::Equal => {
                flush(&mut text, &mut our_lines, &mut their_lines);
                text.push_str(&line);
            }
        }
    }
    flush(&mut text, &mut our_lines, &mut their_lines);
    text
}

#[cfg(test)]
mod tests;
