//! Manifests as people write them, well and badly.

use proptest::prelude::*;

use super::{Manifest, ManifestText, RegistryLine, new_manifest};
use crate::name::{PackageName, Purpose};

const GATE: &str = r#"# The screen at the gate.
[project]
name = "fernhollow/gate-kiosk"
version = "0.3.0"
license = "EUPL-1.2"

[registries]
seedhouse = "../registry"
fernhollow = { url = "../own", owns = ["fernhollow/*"] }

[needs]
# Rain comes first.
rain-ledger = "2.4 .. 3"   # counts the drops
"fernhollow/glass-house" = { range = "1", from = "fernhollow" }

# Colours.
leaf-palette = "any"

[needs-for.test]
probe-sim = "0.9"
"#;

fn package(text: &str) -> PackageName {
    text.parse().unwrap()
}

fn faults(text: &str) -> Vec<(&'static str, &str, Option<String>)> {
    let faults = Manifest::read(text).unwrap_err();
    faults.into_iter().map(|fault| (fault.code, &text[fault.span], fault.advice)).collect()
}

#[test]
fn reads_what_is_written_in_its_order() {
    let manifest = Manifest::read(GATE).unwrap();
    let project = manifest.project.unwrap();
    assert_eq!(project.name.as_str(), "fernhollow/gate-kiosk");
    assert_eq!(project.version.unwrap().as_str(), "0.3.0");
    let needs: Vec<String> =
        manifest.needs.iter().map(|need| format!("{} {}", need.package, need.range)).collect();
    assert_eq!(
        needs,
        ["rain-ledger 2.4 .. 3", "fernhollow/glass-house 1", "leaf-palette any", "probe-sim 0.9"]
    );
    assert_eq!(manifest.needs[3].purpose.as_ref().unwrap().as_str(), "test");
    assert!(manifest.registries[1].owns[0].matches(&package("fernhollow/valve-core")));
    assert!(!manifest.registries[1].owns[0].matches(&package("rain-ledger")));
}

#[test]
fn each_slip_has_its_own_fault_at_its_place() {
    let project = "[project]\nname = \"gate\"\n";
    let rows: [(&str, &str, &str, Option<&str>); 29] = [
        ("[needs]\na = “1”", "manifest.curly-quotes", "“", Some("use straight quotes: `\"`")),
        ("[needs]\na = { range = \"1\" prereleases = true }", "manifest.missing-comma", "", None),
        ("[card]\nfiles = [\"a\" \"b\"]", "manifest.missing-comma", "", None),
        ("[neds]\n", "manifest.unknown-key", "neds", Some("`needs`")),
        ("[needs]\na = \"1\"\na = \"2\"", "manifest.duplicate-key", "a", Some("remove one of them")),
        ("[needs]\na = 2.4", "manifest.unquoted-value", "2.4", Some("write `\"2.4\"`")),
        ("[needs]\na = 2.4 .. 3 # x", "manifest.unquoted-value", "2.4 .. 3", Some("write `\"2.4 .. 3\"`")),
        ("[needs]\na/b = \"2\"", "manifest.unquoted-name", "/", Some("write `\"a/b\"`")),
        ("[needs]\na = \"1.x\"", "version.invalid", "x", Some("write `1`")),
        ("[needs]\nA_b = \"1\"", "name.invalid", "A_b", Some("`a-b` would be valid")),
        ("[needs]\na = { rnage = \"1\" }", "manifest.unknown-key", "rnage", Some("`range`")),
        ("[needs]\na = { git = \"x\" }", "manifest.git", "\"x\"", None),
        ("[needs]\na = { git = \"x\", branch = \"-f\" }", "manifest.git", "\"-f\"", None),
        ("[needs]\na = { git = \"x\", range = \"1\", tags = \"v\" }", "tags.pattern", "v", None),
        (
            "[needs]\na = { git = \"ext::sh -c x\", branch = \"b\" }",
            "manifest.place",
            "\"ext::sh -c x\"",
            None,
        ),
        (
            "[needs]\na = { path = \"../b\", from = \"c\" }",
            "manifest.two-sources",
            "a",
            Some("remove one of them"),
        ),
        ("[needs]\na = { path = \"/b\" }", "manifest.path", "\"/b\"", None),
        (
            "[needs]\na = { range = \"1\", subfolder = \"b\" }",
            "manifest.no-source",
            "subfolder",
            Some("remove it"),
        ),
        ("[needs]\na = { archive = \"b.zip\" }", "manifest.no-digest", "\"b.zip\"", None),
        ("[needs]\na = { archive = \"b\", format = \"rar\", sha256 = \"0\" }", "archive.format", "rar", None),
        ("[needs]\na = { archive = \"b\", exclude = [\"[\"], sha256 = \"0\" }", "pattern.invalid", "[", None),
        ("[needs]\na = { path = \"../b\", exclude = [\"c\"] }", "manifest.no-source", "exclude", None),
        (
            "[needs]\na = { git = \"x\", tag = \"t\", card = \"c.toml\" }",
            "manifest.no-card",
            "\"c.toml\"",
            None,
        ),
        ("[stand-ins]\na = { version = \"1\" }", "manifest.no-source", "{ version = \"1\" }", None),
        ("[needs]\na = [1]", "manifest.wrong-kind", "[1]", None),
        ("[needs]\na = { range = \"1\", from = \"x\" }", "manifest.unknown-registry", "a", None),
        ("[needs-for.run]\n", "manifest.purpose", "run", Some("write these needs under `[needs]`")),
        ("[registries]\nseedhouse = { owns = [] }", "manifest.no-url", "{ owns = [] }", None),
        ("[needs]\na = ", "manifest.syntax", "", None),
    ];
    for (rest, code, at, advice) in rows {
        let text = format!("{project}{rest}");
        let faults = faults(&text);
        let first = &faults[0];
        assert_eq!((first.0, first.1), (code, at), "{rest}: {faults:?}");
        assert!(advice.is_none() || first.2.as_deref() == advice, "{rest}: {faults:?}");
    }
}

#[test]
fn several_faults_are_told_at_once() {
    let text = "[project]\nname = \"Gate\"\nversion = \"1.x\"\ncolour = 1\n[needs]\na = \"^1\"\n";
    let codes: Vec<&str> = faults(text).into_iter().map(|(code, ..)| code).collect();
    assert_eq!(codes, ["manifest.unknown-key", "version.invalid", "name.invalid", "range.unexpected"]);
    assert_eq!(faults(" \n")[0].0, "manifest.empty");
    assert_eq!(faults("[needs]\n")[0].0, "manifest.no-project");
}

#[test]
fn edits_change_one_line_and_nothing_else() {
    let mut text = ManifestText::open(GATE).unwrap();
    text.set_need(None, &package("rain-ledger"), &"2.5 .. 3".parse().unwrap());
    assert_eq!(text.to_string(), GATE.replace("2.4 .. 3", "2.5 .. 3"));
    text.set_need(None, &package("fernhollow/glass-house"), &"2".parse().unwrap());
    assert!(text.to_string().contains("{ range = \"2\", from = \"fernhollow\" }"), "{text}");
    text.set_need(None, &package("moss-map"), &"1".parse().unwrap());
    assert!(text.to_string().contains("leaf-palette = \"any\"\nmoss-map = \"1\"\n"), "{text}");
    let docs: Purpose = "docs".parse().unwrap();
    text.set_need(Some(&docs), &package("page-press"), &"1".parse().unwrap());
    assert!(text.to_string().ends_with("\n[needs-for.docs]\npage-press = \"1\"\n"), "{text}");
    text.accept_prereleases(None, &package("moss-map"));
    assert!(text.to_string().contains("moss-map = { range = \"1\", prereleases = true }"), "{text}");
    assert!(Manifest::read(&text.to_string()).is_ok());
}

#[test]
fn a_dropped_need_leaves_the_comments_above_it() {
    let mut text = ManifestText::open(GATE).unwrap();
    assert!(text.remove_need(None, &package("leaf-palette")));
    assert!(!text.remove_need(None, &package("leaf-palette")));
    assert!(text.to_string().contains("from = \"fernhollow\" }\n\n# Colours.\n\n[needs-for.test]"), "{text}");
    assert!(text.remove_need(None, &package("rain-ledger")));
    assert!(text.to_string().contains("# Rain comes first.\n\"fernhollow/glass-house\""), "{text}");
    assert!(text.remove_need(Some(&"test".parse().unwrap()), &package("probe-sim")));
    assert!(Manifest::read(&text.to_string()).is_ok());
}

#[test]
fn a_new_manifest_reads_and_takes_needs() {
    let registries = [RegistryLine { name: "seedhouse".parse().unwrap(), url: "../a \"b\"\\c".into() }];
    for registries in [&registries[..], &[]] {
        let text = new_manifest(&package("garden"), registries);
        let manifest = Manifest::read(&text).unwrap_or_else(|faults| panic!("{faults:?}\n{text}"));
        assert_eq!(
            manifest.registries.iter().map(|r| r.url.as_str()).collect::<Vec<_>>().len(),
            registries.len()
        );
        let mut edited = ManifestText::open(&text).unwrap();
        edited.set_need(None, &package("moss-map"), &"1 .. 2".parse().unwrap());
        assert!(edited.to_string().contains("[needs]\nmoss-map = \"1 .. 2\"\n"), "{edited}");
    }
}

/// A text with a piece of it replaced by another: what a slip of the keys, an editor or a merge leaves.
fn slips(text: &'static str) -> impl Strategy<Value = String> {
    let pieces = [
        "",
        "\"",
        "“",
        "=",
        "[",
        "]",
        "{",
        "}",
        ",",
        "\n",
        "\t",
        "\\",
        "#",
        "é",
        "\u{0}",
        "<<<<<<< a\n",
        "needs",
        "1.x",
    ];
    let pieces = proptest::sample::select(pieces.to_vec());
    proptest::collection::vec((0..text.len(), 0..9_usize, pieces), 1..4).prop_map(move |slips| {
        let mut slipped = text.to_owned();
        for (at, width, piece) in slips {
            let at = (0..=at.min(slipped.len())).rev().find(|at| slipped.is_char_boundary(*at)).unwrap();
            let end = (at + width).min(slipped.len());
            let end = (end..=slipped.len()).find(|end| slipped.is_char_boundary(*end)).unwrap();
            slipped.replace_range(at..end, piece);
        }
        slipped
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]

    #[test]
    fn any_slip_gets_an_answer_with_spans_inside_the_text(text in slips(GATE)) {
        match Manifest::read(&text) {
            Ok(_) => {
                let mut edited = ManifestText::open(&text).unwrap();
                edited.set_need(None, &package("moss-map"), &"1".parse().unwrap());
                edited.remove_need(None, &package("rain-ledger"));
                prop_assert!(Manifest::read(&edited.to_string()).is_ok(), "{edited}");
            }
            Err(faults) => {
                prop_assert!(!faults.is_empty());
                for fault in faults {
                    prop_assert!(text.get(fault.span.clone()).is_some(), "{:?} of {:?}", fault, text);
                    for fix in &fault.fixes {
                        let edit = fix.edit(&text);
                        prop_assert!(edit.is_none_or(|(span, _)| text.get(span).is_some()), "{:?} of {:?}", fix, text);
                        prop_assert!(fix.title(&text).is_none_or(|title| !title.contains('\n')));
                    }
                }
            }
        }
    }
}
