//! Differences of locks for people who review them: what matters first, where it comes from, and what is inside.

use std::fs;

use serde_json::json;

use crate::garden::Garden;
use crate::sources::{self, git};

/// A release with notes and these files in its archive.
fn publish(garden: &Garden, name: &str, version: &str, more: &str, files: &[(&str, &[u8])]) {
    garden.write_tar(&format!("{name}-{version}.tar"), files);
    garden.load(&format!(
        r#"{{"name":"{name}","version":"{version}","published":"2026-03-01T08:00:00Z"{more},"files":[{{"path":"{name}-{version}.tar"}}]}}"#
    ));
}

/// A garden whose lock is to be compared with that of before.
fn garden() -> Garden {
    let garden = Garden::needing(
        &["bark-log 1.0.0"],
        "moss-map = \"1\"\n[rules.advisories]\nfeeds = [\"../advisories\"]",
    );
    publish(
        &garden,
        "dew-point",
        "1.4.0",
        r#","license":"MIT""#,
        &[("dew.h", b"one\ntwo\nthree\n"), ("old.h", b"x")],
    );
    publish(
        &garden,
        "dew-point",
        "1.4.1",
        r#","license":"MIT","notes":"No dew where there is none.""#,
        &[("dew.h", b"one\ntwo\nthree\n")],
    );
    publish(
        &garden,
        "dew-point",
        "2.0.0",
        r#","license":"ISC","notes":"In kelvin.""#,
        &[("dew.h", b"one\n\x1b[2Jtwo\nthree\n"), ("new.h", b"``` `````\n"), ("dew.png", b"\x89PNG\0\0")],
    );
    publish(
        &garden,
        "moss-map",
        "1.0.0",
        r#","license":"MIT","needs":[{"name":"dew-point","range":"1"}]"#,
        &[("m", b"1")],
    );
    publish(
        &garden,
        "moss-map",
        "1.1.0",
        r#","license":"MIT","needs":[{"name":"dew-point","range":"2"}]"#,
        &[("m", b"1")],
    );
    for (id, introduced, fixed) in [("FERN-1", "1", "2"), ("FERN-2", "2", "3")] {
        let record = json!({ "schema_version": "1.7.0", "id": id, "modified": "2026-02-01T09:00:00Z", "summary": "It overruns",
            "affected": [{ "package": { "ecosystem": "Bibliotax", "name": "dew-point" },
                "ranges": [{ "type": "ECOSYSTEM", "events": [{ "introduced": introduced }, { "fixed": fixed }] }] }] });
        garden.write(&format!("advisories/{id}.json"), &record.to_string());
    }
    garden.run(&["resolve", "--prefer", "oldest", "--quiet"]).expect(0);
    fs::copy(garden.path("gate/bibliotax.lock"), garden.path("gate/before.lock")).unwrap();
    garden.run(&["need", "bark-log", "--quiet"]).expect(0);
    garden.run(&["update", "--quiet"]).expect(0);
    garden
}

#[test]
fn a_review_opens_with_what_matters_and_ends_with_release_notes() {
    let garden = garden();
    let review = garden.run(&["compare", "before.lock", "--format", "markdown", "--why"]).expect(0);
    insta::assert_snapshot!(review);
    let text = garden.run(&["compare", "before.lock", "--review"]).expect(0);
    assert!(text.stdout.starts_with("opens 1 advisory: FERN-2"), "{text}");
    assert!(text.stdout.contains("dew-point 2.0.0: In kelvin."), "{text}");
    let json =
        garden.run(&["compare", "before.lock", "--review", "--why", "--format", "json"]).expect(0).json();
    assert_eq!(json["causes"]["dew-point"], json!(["moss-map"]));
    assert_eq!(json["review"]["closed"][0]["id"], "FERN-1");
    assert_eq!(json["review"]["notes"]["dew-point"].as_array().unwrap().len(), 2);
    let plain = garden.run(&["compare", "before.lock", "--format", "json"]).expect(0).json();
    assert!(plain["causes"].is_null() && plain["review"].is_null(), "{plain}");
    // Locks can be compared where nobody can be asked.
    fs::rename(garden.path("seedhouse"), garden.path("gone")).unwrap();
    let alone = garden.run(&["compare", "before.lock", "--review"]).expect(0);
    assert!(alone.stdout.contains("raised") && alone.stderr.contains("weren't asked"), "{alone}");
}

#[test]
fn files_that_differ_are_listed_and_their_texts_are_shown() {
    let garden = garden();
    let listed = garden.run(&["compare", "before.lock", "--files"]).expect(0);
    for part in
        ["dew-point: 4 files differ", "changed  dew.h    14 B -> 18 B", "added    new.h", "gone     old.h"]
    {
        assert!(listed.stdout.contains(part), "{part}: {listed}");
    }
    assert!(!listed.stdout.contains("moss-map: "), "its file is the same: {listed}");
    let diff = garden.run(&["compare", "before.lock", "--diff", "dew-point"]).expect(0);
    assert!(diff.stdout.contains("--- a/dew.h\n+++ b/dew.h\n@@ -1,3 +1,3 @@\n one\n-two\n"), "{diff}");
    assert!(!diff.stdout.contains('\u{1b}'), "nothing in a package acts on the terminal: {diff}");
    let markdown =
        garden.run(&["compare", "before.lock", "--diff", "dew-point", "--format", "markdown"]).expect(0);
    assert!(markdown.stdout.contains("\n``````diff\n--- /dev/null\n+++ b/new.h\n"), "{markdown}");
    let json =
        garden.run(&["compare", "before.lock", "--diff", "dew-point", "--format", "json"]).expect(0).json();
    let files = json["files"][0]["files"].as_array().unwrap();
    let picture = files.iter().find(|file| file["path"] == "dew.png").unwrap();
    assert!(picture["diff"].is_null() && picture["to"] == 6, "{picture}");
    assert_eq!(garden.run(&["compare", "before.lock", "--diff", "soil"]).expect(2).code(), "compare.unknown");
}

#[test]
fn kits_and_moved_tags_are_compared() {
    let garden = garden();
    garden.run(&["install", "--quiet"]).expect(0);
    garden.run(&["kit", "make", "gate.kit", "--quiet"]).expect(0);
    let same = garden.run(&["compare", "gate.kit"]).expect(0);
    assert_eq!(same.stdout, "no difference\n");
    let kit = garden.run(&["compare", "before.lock", "gate.kit", "--format", "json"]).expect(0).json();
    assert_eq!(kit["changes"].as_array().unwrap().len(), 3, "{kit}");
    garden.write("gate/broken.kit", "\0\0");
    assert!(garden.run(&["compare", "broken.kit"]).status != 0);

    let garden = sources::garden();
    sources::need(&garden, "git = \"../leaf\", tag = \"v1.2.0\"");
    garden.run(&["install", "--quiet"]).expect(0);
    fs::copy(garden.path("gate/bibliotax.lock"), garden.path("gate/before.lock")).unwrap();
    git(&garden, "leaf", &["tag", "-f", "v1.2.0", "HEAD"]);
    garden.run(&["update", "leaf-palette", "--accept-moved", "--quiet"]).expect(0);
    let review = garden.run(&["compare", "before.lock", "--review"]).expect(0);
    assert!(review.stdout.contains("moved tags: leaf-palette"), "{review}");
}
