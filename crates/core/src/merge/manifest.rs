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
            found.push((position as isize, place.clone()));
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
mod tests {
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
        assert!(
            merged.text.contains("moss = { range = \"1.2\", targets = [\"kiosk\"] }\n"),
            "{}",
            merged.text
        );
        let other = BASE.replace("range = \"1\"", "range = \"2\"");
        let merged = merge(BASE, &ours, &other);
        assert!(merged.text.contains("<<<<<<< ours\nmoss = { range = \"1.2\" }\n=======\nmoss = { range = \"2\" }\n>>>>>>> theirs\n"), "{}", merged.text);
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
        let ours =
            base.replace("[\"a\"]", "[\"a\", \"b\"]") + "\n[[card.steps]]\nid = \"two\"\ntext = \"y\"\n";
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
            merged
                .text
                .contains("<<<<<<< ours\ntext = \"ours\"\n=======\ntext = \"theirs\"\n>>>>>>> theirs\n"),
            "{}",
            merged.text
        );
    }
}
