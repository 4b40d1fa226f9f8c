//! Records in the shapes that the format's documentation shows, ranges against the documentation's own algorithm, vectors against the
//! examples of the standard, package URLs.

use std::sync::Arc;

use proptest::prelude::*;
use serde_json::{Value, json};

use super::*;
use crate::card::{Card, Event};
use crate::history::History;
use crate::lock::samples::test_source;
use crate::name::PackageName;
use crate::package_url::PackageUrl;
use crate::resolve::Listing;
use crate::source::CommitId;
use crate::version::Version;

const MODIFIED: &str = "2026-02-01T09:00:00Z";

fn record(body: &Value) -> Result<Option<Advisory>, String> {
    let mut all = json!({ "schema_version": "1.7.0", "id": "FERN-2026-0001", "modified": MODIFIED });
    all.as_object_mut().unwrap().extend(body.as_object().unwrap().clone());
    let text = all.to_string();
    let brief = read_brief(text.as_bytes());
    let read = read(text.as_bytes());
    // What an index says and what a record says has to agree.
    if let (Ok(brief), Ok(Some(read))) = (&brief, &read) {
        let keys: BTreeSet<Key> = read.affected.iter().flat_map(Affected::keys).cloned().collect();
        assert_eq!((&brief.id, &brief.keys), (&read.id, &keys));
        // An independent reader, which knows only ecosystems that are registered.
        let others = serde_json::from_str(&text.replace(ECOSYSTEM, "PyPI"));
        let others: ::osv::schema::Vulnerability = others.unwrap_or_else(|error| panic!("{error}: {text}"));
        assert_eq!(others.id, read.id);
        let aliases: BTreeSet<String> = others.aliases.unwrap_or_default().into_iter().collect();
        assert!(aliases.is_superset(&read.aliases), "{text}");
    }
    read
}

fn ours(ranges: &Value) -> Value {
    json!({ "affected": [{ "package": { "ecosystem": ECOSYSTEM, "name": "dew-point" }, "ranges": ranges }] })
}

fn affects(record: &Advisory, version: &str) -> bool {
    record.affected.iter().any(|affected| affected.affects_ours(&version.parse().unwrap()))
}

#[test]
fn ranges_and_lists_of_versions_are_evaluated() {
    let range = |kind: &str, events: Value| json!([{ "type": kind, "events": events }]);
    let rows = [
        (range("SEMVER", json!([{ "introduced": "0" }, { "fixed": "1.4.2" }])), "0.1 1.4.1", "1.4.2 2.0"),
        (
            range("ECOSYSTEM", json!([{ "introduced": "1.2" }, { "last_affected": "1.4" }])),
            "1.2 1.4.0",
            "1.1 1.4.1 2",
        ),
        (
            range(
                "SEMVER",
                json!([{ "introduced": "1" }, { "fixed": "1.2" }, { "introduced": "2" }, { "fixed": "2.3" }]),
            ),
            "1.1.9 2.0 2.2",
            "0.9 1.2 1.9 2.3",
        ),
        // Events come in any order.
        (
            range(
                "SEMVER",
                json!([{ "fixed": "2.3" }, { "introduced": "2" }, { "introduced": "1" }, { "fixed": "1.2" }]),
            ),
            "1 2.2",
            "1.2 2.3",
        ),
        (range("ECOSYSTEM", json!([{ "introduced": "0" }])), "0.1 9", ""),
        (range("ECOSYSTEM", json!([{ "introduced": "0" }, { "limit": "2" }])), "0.1 1.9", "2 3"),
        (
            range("SEMVER", json!([{ "introduced": "1.0.0-rc.1" }, { "fixed": "1.0.0" }])),
            "1.0.0-rc.2",
            "1.0.0 1.0.0-beta.1",
        ),
    ];
    for (ranges, affected, sound) in rows {
        let record = record(&ours(&ranges)).unwrap().unwrap();
        for version in affected.split(' ') {
            assert!(affects(&record, version), "{version} of {ranges}");
        }
        for version in sound.split(' ').filter(|version| !version.is_empty()) {
            assert!(!affects(&record, version), "{version} of {ranges}");
        }
    }
    let listed = json!({ "affected": [{ "package": { "ecosystem": ECOSYSTEM, "name": "dew-point" }, "versions": ["1.4.0", "v1.5"] }] });
    let record = record(&listed).unwrap().unwrap();
    assert!(affects(&record, "1.4") && !affects(&record, "1.4.1"));
}

/// What is evaluated as the format's documentation writes it down, word by word.
fn as_documented(events: &[(&str, u32)], version: u32) -> bool {
    let mut sorted = events.to_vec();
    sorted.sort_by_key(|(kind, at)| {
        (*at, ["fixed", "introduced", "last_affected"].iter().position(|one| one == kind))
    });
    let mut vulnerable = false;
    for (kind, at) in sorted {
        match kind {
            "introduced" if version >= at => vulnerable = true,
            "fixed" if version >= at => vulnerable = false,
            "last_affected" if version > at => vulnerable = false,
            _ => {}
        }
    }
    vulnerable
}

proptest! {
    #[test]
    fn ranges_are_evaluated_as_documented(
        stretches in proptest::collection::vec((1..4_u32, 0..4_u32, any::<bool>()), 1..5), probe in 0..30_u32
    ) {
        // Stretches one behind the other, each with a beginning and an end of either kind.
        let (mut at, mut events) = (0, Vec::new());
        for (gap, length, is_fixed) in stretches {
            events.push(("introduced", at + gap));
            events.push((if is_fixed { "fixed" } else { "last_affected" }, at + gap + length + u32::from(is_fixed)));
            at += gap + length + 1;
        }
        let said: Vec<Value> = events.iter().map(|(kind, at)| json!({ *kind: at.to_string() })).collect();
        let record = record(&ours(&json!([{ "type": "ECOSYSTEM", "events": said }]))).unwrap().unwrap();
        prop_assert_eq!(affects(&record, &probe.to_string()), as_documented(&events, probe), "{:?} at {}", events, probe);
    }

    #[test]
    fn no_text_makes_the_reader_panic(text in "\\PC{0,200}") {
        let _ = (read(text.as_bytes()), read_brief(text.as_bytes()), text.parse::<PackageUrl>(), Rating::of_vector(&text));
    }
}

#[test]
fn ratings_come_from_vectors_else_from_words() {
    let v3 = |score: &str| json!({ "severity": [{ "type": "CVSS_V3", "score": score }] });
    let rows = [
        (v3("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"), Some((Severity::Critical, Some(9.8)))),
        (v3("CVSS:3.0/AV:L/AC:L/PR:N/UI:R/S:U/C:N/I:N/A:H"), Some((Severity::Medium, Some(5.5)))),
        (
            json!({ "severity": [
                { "type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H" },
                { "type": "CVSS_V4", "score": "CVSS:4.0/AV:L/AC:L/AT:P/PR:N/UI:N/VC:N/VI:N/VA:N/SC:N/SI:N/SA:N" }
            ] }),
            Some((Severity::None, Some(0.0))),
        ),
        (json!({ "database_specific": { "severity": "MODERATE" } }), Some((Severity::Medium, None))),
        (
            json!({ "affected": [{ "ecosystem_specific": { "severity": "high" } }] }),
            Some((Severity::High, None)),
        ),
        (
            json!({ "affected": [{ "severity": [{ "type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:N/I:L/A:N" }] }] }),
            Some((Severity::Medium, Some(5.3))),
        ),
        (v3("CVSS:3.1/nonsense"), None),
        (json!({}), None),
    ];
    for (body, expected) in rows {
        let rating = record(&body).unwrap().unwrap().rating;
        assert_eq!(rating.map(|rating| (rating.severity, rating.score)), expected, "{body}");
    }
}

/// Vectors with the scores that the standard's own documents give them: CVSS 3.1 Examples and CVSS 4.0 Examples (FIRST).
#[test]
fn the_standard_s_examples_have_the_standard_s_scores() {
    let rows = [
        ("CVSS:3.1/AV:N/AC:L/PR:L/UI:N/S:C/C:L/I:L/A:N", 6.4, Severity::Medium),
        ("CVSS:3.1/AV:N/AC:H/PR:N/UI:R/S:U/C:L/I:N/A:N", 3.1, Severity::Low),
        ("CVSS:3.1/AV:N/AC:L/PR:L/UI:N/S:C/C:H/I:H/A:H", 9.9, Severity::Critical),
        ("CVSS:3.1/AV:L/AC:L/PR:H/UI:N/S:U/C:L/I:L/A:L", 4.2, Severity::Medium),
        ("CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N", 7.5, Severity::High),
        ("CVSS:3.1/AV:P/AC:L/PR:N/UI:N/S:U/C:N/I:H/A:N", 4.6, Severity::Medium),
        ("CVSS:3.1/AV:N/AC:L/PR:N/UI:R/S:U/C:H/I:H/A:H", 8.8, Severity::High),
        ("CVSS:4.0/AV:L/AC:L/AT:P/PR:L/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N", 7.3, Severity::High),
        ("CVSS:4.0/AV:N/AC:L/AT:P/PR:N/UI:P/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N", 7.7, Severity::High),
        ("CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:H/SI:H/SA:H", 10.0, Severity::Critical),
        ("CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:A/VC:N/VI:N/VA:N/SC:L/SI:L/SA:N", 5.1, Severity::Medium),
    ];
    for (vector, score, severity) in rows {
        let rating = Rating::of_vector(vector).unwrap();
        assert_eq!((rating.score, rating.severity), (Some(score), severity), "{vector}");
    }
}

#[test]
fn records_with_errors_say_what_is_wrong() {
    let rows = [
        ("{", "EOF"),
        ("[]", "invalid"),
        (r#"{"id":"","modified":"2026-02-01T09:00:00Z"}"#, "`id`"),
        (r#"{"id":"A B","modified":"2026-02-01T09:00:00Z"}"#, "`id`"),
        (r#"{"id":"FERN-1","modified":"yesterday"}"#, "`modified`"),
        (r#"{"modified":"2026-02-01T09:00:00Z"}"#, "`id`"),
        (
            r#"{"id":"FERN-1","modified":"2026-02-01T09:00:00Z","affected":[{"ranges":[{"type":"SEMVER","events":[{"fixed":"1"}]}]}]}"#,
            "introduced",
        ),
        (
            r#"{"id":"FERN-1","modified":"2026-02-01T09:00:00Z","affected":[{"ranges":[{"type":"GIT","events":[{"introduced":"0"}]}]}]}"#,
            "repo",
        ),
        (
            r#"{"id":"FERN-1","modified":"2026-02-01T09:00:00Z","affected":[{"ranges":[{"type":"ROUGH","events":[{"introduced":"0"}]}]}]}"#,
            "ROUGH",
        ),
        (r#"{"id":"FERN-1","modified":"2026-02-01T09:00:00Z","affected":{}}"#, "invalid type"),
    ];
    for (text, why) in rows {
        let error = read(text.as_bytes()).unwrap_err();
        assert!(error.contains(why), "{text}: {error}");
    }
    let withdrawn = json!({ "withdrawn": "2026-03-01T00:00:00Z", "affected": ours(&json!([]))["affected"] });
    assert_eq!(record(&withdrawn).unwrap(), None);
    let text = json!({ "id": "FERN-2", "modified": MODIFIED, "withdrawn": MODIFIED, "affected": ours(&json!([]))["affected"] });
    assert!(read_brief(text.to_string().as_bytes()).unwrap().keys.is_empty(), "nobody finds it");
}

#[test]
fn what_a_record_says_of_itself_is_read_and_bounded() {
    let body = json!({
        "aliases": ["CVE-2026-1", "no name"],
        "details": "\n\nTells dew where there is none.\nMore.",
        "references": [{ "type": "WEB", "url": "https://a.example/" }, { "type": "ADVISORY", "url": "https://b.example/1" }],
        "credits": [{ "name": "Moss" }],
        "database_specific": { "anything": [1, 2] },
    });
    let advisory = record(&body).unwrap().unwrap();
    assert_eq!(advisory.summary, "Tells dew where there is none.");
    assert_eq!(advisory.url.as_deref(), Some("https://b.example/1"));
    assert_eq!(advisory.aliases, ["CVE-2026-1".to_owned()].into());
    let long = "a\u{1b}[31m".repeat(1000);
    let long = json!({ "summary": long, "references": [{ "type": "WEB", "url": "javascript:1" }] });
    let advisory = record(&long).unwrap().unwrap();
    let summary = advisory.summary;
    assert!(summary.chars().count() == 300 && !summary.contains('\u{1b}') && advisory.url.is_none());
}

/// A package whose releases are upstream's, at these versions of it.
fn listing(releases: &[(&str, &str)]) -> Listing {
    let name: PackageName = "dew-point".parse().unwrap();
    let mut history = History::default();
    for (version, upstream) in releases {
        let card = Card {
            upstream: upstream
                .split(' ')
                .filter(|url| !url.is_empty())
                .map(|url| url.parse().unwrap())
                .collect(),
            ..Card::bare(name.clone(), version.parse().unwrap(), MODIFIED.parse().unwrap())
        };
        let entry = card.entry(crate::digest::Digest::of(version.as_bytes()));
        history.apply(&name, Event::Release(Box::new(entry))).unwrap();
    }
    Listing::new(test_source("seedhouse"), history)
}

fn affected(listing: &Listing, bodies: &[Value]) -> Vec<(String, String)> {
    let records: Vec<Arc<Advisory>> =
        bodies.iter().filter_map(|body| record(body).unwrap()).map(Arc::new).collect();
    let releases: Vec<_> = listing.sourced_releases().collect();
    let found = affecting(&releases, &records, &NoCommits);
    let versions =
        |versions: &BTreeSet<Version>| versions.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    found.iter().map(|one| (one.advisory.id.clone(), versions(&one.versions))).collect()
}

#[test]
fn what_a_team_packages_of_upstream_is_found_by_package_url_and_repository() {
    let listing = listing(&[
        ("1.0", "pkg:github/Fern-Labs/Dew@v1.3.1"),
        ("1.1", "pkg:github/fern-labs/dew@1.4.0?arch=arm pkg:pypi/leaf@2.0"),
        ("2.0", ""),
    ]);
    let rows = [
        (json!([{ "package": { "ecosystem": "PyPI", "name": "leaf" }, "versions": ["2.0"] }]), "1.1"),
        (
            json!([{ "package": { "ecosystem": "PyPI", "name": "leaf", "purl": "pkg:pypi/leaf" }, "ranges": [{ "type": "ECOSYSTEM", "events": [{ "introduced": "0" }, { "fixed": "2.1" }] }] }]),
            "1.1",
        ),
        // Versions that only their ecosystem can order aren't guessed at.
        (
            json!([{ "package": { "ecosystem": "PyPI", "name": "leaf" }, "ranges": [{ "type": "ECOSYSTEM", "events": [{ "introduced": "0" }, { "fixed": "2.1.post1" }] }] }]),
            "",
        ),
        (
            json!([{ "package": { "ecosystem": "GitHub Actions", "name": "fern-labs/dew" }, "ranges": [{ "type": "SEMVER", "events": [{ "introduced": "1.3.0" }, { "fixed": "1.4.0" }] }] }]),
            "1.0",
        ),
        (
            json!([{ "ranges": [{ "type": "GIT", "repo": "https://github.com/fern-labs/dew.git", "events": [{ "introduced": "0" }] }], "versions": ["v1.4.0"] }]),
            "1.1",
        ),
        (json!([{ "package": { "ecosystem": "npm", "name": "leaf" }, "versions": ["2.0"] }]), ""),
    ];
    for (affected_body, expected) in rows {
        let found = affected(&listing, &[json!({ "affected": affected_body })]);
        let versions = found.first().map_or("", |(_, versions)| versions.as_str());
        assert_eq!(versions, expected, "{affected_body}");
    }
}

#[test]
fn records_of_one_thing_are_one_and_ours_speaks_for_it() {
    let listing = listing(&[("1.0", "pkg:pypi/leaf@2.0"), ("1.1", "")]);
    let foreign = |id: &str, aliases: &Value| {
        json!({ "id": id, "aliases": aliases, "database_specific": { "severity": "CRITICAL" },
            "affected": [{ "package": { "ecosystem": "PyPI", "name": "leaf" }, "versions": ["2.0"] }] })
    };
    let own = json!({ "id": "FERN-9", "aliases": ["CVE-2026-7"],
        "affected": [{ "package": { "ecosystem": ECOSYSTEM, "name": "dew-point" }, "versions": ["1.1"] }] });
    let all = [
        foreign("AAA-1", &json!(["CVE-2026-7"])),
        own,
        foreign("ZZZ-1", &json!([])),
        foreign("CVE-2026-7", &json!([])),
    ];
    assert_eq!(
        affected(&listing, &all),
        [("FERN-9".to_owned(), "1.0 1.1".to_owned()), ("ZZZ-1".to_owned(), "1.0".to_owned())]
    );
}

/// A straight line of commits.
struct Line(Vec<String>);

impl CommitHistory for Line {
    fn leads_to(&self, commit: &str, other: &CommitId) -> Option<bool> {
        let at = |name: &str| self.0.iter().position(|one| one == name);
        Some(at(commit)? <= at(other.as_str())?)
    }

    fn comes_before(&self, other: &CommitId, commit: &str) -> Option<bool> {
        self.leads_to(other.as_str(), &commit.parse().ok()?)
    }
}

#[test]
fn commits_are_evaluated_along_their_history() {
    let line = Line((0..6_u8).map(|number| format!("{number:040}")).collect());
    let key = Key::of_repository("git@git.example:garden/leaf.git").unwrap();
    let events = |events: Value| {
        let body = json!({ "affected": [{ "ranges": [{ "type": "GIT", "repo": "https://git.example/garden/leaf", "events": events }] }] });
        record(&body).unwrap().unwrap().affected.remove(0)
    };
    let rows = [
        (json!([{ "introduced": "0" }, { "fixed": line.0[3] }]), "0 1 2"),
        (json!([{ "introduced": line.0[1] }, { "last_affected": line.0[2] }]), "1 2"),
        (json!([{ "introduced": line.0[2] }]), "2 3 4 5"),
        (json!([{ "introduced": "0" }, { "limit": line.0[1] }]), "0 1"),
        (json!([{ "introduced": "f".repeat(40) }]), ""),
    ];
    for (said, expected) in rows {
        let affected = events(said.clone());
        let is_affected = |at: &usize| affected.affects_commit(&key, &line.0[*at].parse().unwrap(), &line);
        let found: Vec<String> = (0..6).filter(is_affected).map(|at| at.to_string()).collect();
        assert_eq!(found.join(" "), expected, "{said}");
    }
}

#[test]
fn package_urls_are_checked_and_compared_without_their_version() {
    let base = |text: &str| text.parse::<PackageUrl>().unwrap().base().to_owned();
    assert_eq!(base("pkg:github/Fern-Labs/Dew@1.3.1?a=b#src"), "pkg:github/fern-labs/dew");
    assert_eq!(base("pkg:maven/org.fern/dew@1"), base("pkg:maven/org.fern/dew@2?type=jar"));
    assert_eq!("pkg:pypi/leaf@2.0".parse::<PackageUrl>().unwrap().version(), Some("2.0"));
    for text in
        ["", "pkg:", "https://a.example/", "leaf", "pkg:pypi", &format!("pkg:pypi/{}", "a".repeat(2000))]
    {
        assert_eq!(text.parse::<PackageUrl>().unwrap_err().code, "card.upstream", "{text}");
    }
}
