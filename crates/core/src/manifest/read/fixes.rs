//! Fixes of faults in manifests: keys and elements to remove, keys to add.

use std::ops::Range;

use toml_edit::{Item, TableLike};

use super::values::{key_span, span};
use crate::fix::Fix;

/// Removes a key with its value; nothing of a key that isn't there.
pub(super) fn remove_key(table: &dyn TableLike, key: &str) -> Option<Fix> {
    let (key, item) = table.get_key_value(key)?;
    let span = key_span(key).start..span(item).end;
    (!span.is_empty()).then_some(Fix::Remove { span })
}

/// Removes a text from the list behind a key.
pub(super) fn remove_element(table: &dyn TableLike, key: &str, text: &str) -> Option<Fix> {
    let array = table.get(key)?.as_array()?;
    let span = array.iter().find(|element| element.as_str() == Some(text))?.span()?;
    Some(Fix::Remove { span })
}

/// Adds a key without a value to a table: what to write there is a person's to say.
pub(super) fn add_key(key: &str, table: Range<usize>) -> Fix {
    Fix::Add { table, line: format!("{key} = \"\"") }
}

/// Adds a range that contains every version.
pub(super) fn add_any_range(item: &Item) -> Fix {
    Fix::Add { table: span(item), line: "range = \"any\"".to_owned() }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use crate::fault::Fault;
    use crate::manifest::Manifest;

    const PROJECT: &str = "[project]\nname = \"gate\"\n";

    fn faults(text: &str) -> Vec<Fault> {
        Manifest::read(text).err().unwrap_or_default()
    }

    /// What a fault's fixes would make of a text, each by its title.
    fn fixed(text: &str, code: &str) -> Vec<(String, String)> {
        let all = faults(text);
        let fault = all.iter().find(|fault| fault.code == code).unwrap_or_else(|| panic!("{code}: {all:?}"));
        let done = fault.fixes.iter().map(|fix| {
            let (span, new) = fix.edit(text).unwrap_or_else(|| panic!("{fix:?} has no place in {text}"));
            let mut made = text.to_owned();
            made.replace_range(span, &new);
            (fix.title(text).unwrap(), made)
        });
        done.collect()
    }

    #[test]
    fn what_a_hint_says_is_a_fix_after_which_the_fault_is_gone() {
        for (text, code, titles) in [
            (
                "[needs]\na = \"1\"\na = \"2\"\n",
                "manifest.duplicate-key",
                &["Remove `a = \"1\"`", "Remove `a = \"2\"`"][..],
            ),
            (
                "[needs]\na = { path = \"../a\", from = \"b\" }\n",
                "manifest.two-sources",
                &["Remove `from = \"b\"`", "Remove `path = \"../a\"`"],
            ),
            (
                "[needs.a]\nfrom = \"b\"\npath = \"../a\"\n",
                "manifest.two-sources",
                &["Remove `from = \"b\"`", "Remove `path = \"../a\"`"],
            ),
            (
                "[needs]\na = { range = \"1\", branch = \"b\" }\n",
                "manifest.no-source",
                &["Remove `branch = \"b\"`"],
            ),
            (
                "[families]\nf = \"1\"\n[needs]\na = { range = \"1\", family = \"f\" }\n",
                "manifest.two-ranges",
                &["Remove `range = \"1\"`", "Remove `family = \"f\"`"],
            ),
            ("[needs]\na = { targets = [\"t\"] }\n", "manifest.no-range", &["Add `range = \"any\"`"]),
            ("[needs.a]\ntargets = [\"t\"]\n", "manifest.no-range", &["Add `range = \"any\"`"]),
            (
                "[needs]\n\"pergola/core\" = \"family\"\n",
                "manifest.no-family",
                &["Add `pergola = \"any\"` under `[families]`"],
            ),
            (
                "[tasks]\na = { do = \"make\", after = [\"b\"] }\nb = { do = \"make\", after = [\"a\"] }\n",
                "manifest.task",
                &["Remove `\"b\"`", "Remove `\"a\"`"],
            ),
            (
                "[rules.licenses]\naccept = [\"MIT\", \"0BSD\"]\nrefuse = [\"MIT\"]\n",
                "rules.contradiction",
                &["Remove `\"MIT\"`", "Remove `\"MIT\"`"],
            ),
            (
                "[[rules.waivers]]\nrule = \"licenses\"\npackage = \"a\"\nreason = \"b\"\nuntil = 2027-01-31\nstatus = \"fixed\"\n",
                "rules.waiver",
                &["Remove `status = \"fixed\"`"],
            ),
            (
                "[needs]\na = { range = \"1\", targets = [\"kisk\"] }\n[targets.kiosk]\nos = \"linux\"\n",
                "manifest.unknown-target",
                &["Write `kiosk`"],
            ),
            (
                "[devices]\nhand-3 = \"kisk\"\n[targets.kiosk]\nos = \"linux\"\n",
                "manifest.unknown-target",
                &["Write `\"kiosk\"`"],
            ),
            (
                "[registries]\nseedhouse = \"x\"\n[needs.a]\nrange = \"1\"\nfrom = \"seedhous\"\n",
                "manifest.unknown-registry",
                &["Write `seedhouse`"],
            ),
            (
                "[tasks]\nbuild = \"make\"\nall = { after = [\"biuld\"] }\n",
                "manifest.task",
                &["Write `build`"],
            ),
            (
                "[shared]\ndew-point = \"1\"\n[needs]\ndew-piont = \"shared\"\n",
                "manifest.no-shared",
                &["Add `dew-piont = \"any\"` under `[shared]`", "Write `dew-point`"],
            ),
            ("[links]\nfor = [\"cmak\"]\n", "links.tool", &["Write `cmake`"]),
        ] {
            let text = format!("{PROJECT}{text}");
            let fixes = fixed(&text, code);
            assert_eq!(fixes.iter().map(|(title, _)| title.as_str()).collect::<Vec<_>>(), titles, "{text}");
            for (title, made) in fixes {
                let left: BTreeSet<&str> = faults(&made).iter().map(|fault| fault.code).collect();
                assert!(!left.contains(code), "{title}: {made}");
            }
        }
    }

    #[test]
    fn a_key_that_a_person_has_to_fill_is_added_without_a_value() {
        let waiver = "[[rules.waivers]]\nrule = \"licenses\"\npackage = \"a\"\n";
        for (text, code, title) in [
            ("[project]\nversion = \"1.0.0\"\n".to_owned(), "manifest.no-project", "Add `name = \"\"`"),
            (format!("{PROJECT}{waiver}"), "rules.no-reason", "Add `reason = \"\"`"),
            (
                format!("{PROJECT}[environment]\nA = {{ prefix = \"x\" }}\n"),
                "manifest.variable",
                "Add `role = \"\"`",
            ),
            (format!("{PROJECT}[[card.steps]]\nid = \"a\"\n"), "manifest.step", "Add `text = \"\"`"),
        ] {
            let fixes = fixed(&text, code);
            assert_eq!(fixes.len(), 1, "{text}");
            assert_eq!(fixes[0].0, title);
            let key = title.trim_start_matches("Add `").trim_end_matches('`');
            assert!(fixes[0].1.contains(key), "{}", fixes[0].1);
        }
        // What was added and is still empty is a fault at its place, which nothing more can be added to.
        let (_, made) = fixed(&format!("{PROJECT}{waiver}"), "rules.no-reason").remove(0);
        assert_eq!(fixed(&made, "rules.no-reason"), []);
    }

    #[test]
    fn a_text_without_a_project_begins_with_one() {
        for (text, code) in [("", "manifest.empty"), ("[needs]\na = \"1\"\n", "manifest.no-project")] {
            let (_, made) = fixed(text, code).remove(0);
            assert!(made.starts_with("[project]\nname = \"\"\n") && made.ends_with(text), "{made}");
        }
    }
}
