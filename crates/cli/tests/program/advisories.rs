//! Advisories in the OSV format, from folders, archives and servers.

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::{Arc, Mutex};

use insta::assert_snapshot;
use serde_json::{Value, json};

use crate::garden::Garden;
use crate::outside::needed;
use crate::sources::{commit, git};

/// A record about versions of a package of ours.
fn record(id: &str, package: &str, events: &Value, vector: &str) -> Value {
    json!({ "schema_version": "1.7.0", "id": id, "modified": "2026-02-01T09:00:00Z", "summary": "The table overruns",
        "severity": [{ "type": "CVSS_V3", "score": vector }],
        "affected": [{ "package": { "ecosystem": "Bibliotax", "name": package },
            "ranges": [{ "type": "ECOSYSTEM", "events": events }] }] })
}

const HIGH: &str = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N";
const LOW: &str = "CVSS:3.1/AV:L/AC:H/PR:L/UI:N/S:U/C:L/I:N/A:N";

const RULES: &str = "[rules.advisories]\nfeeds = [\"../advisories\"]\nrefuse = \"high\"\n";

/// A garden whose project needs these, with a feed that says that dew-point 1.4.0 to 1.5.0 are affected.
fn garden(needs: &str) -> Garden {
    let releases = [
        "dew-point 1.3.0",
        "dew-point 1.4.0",
        "dew-point 1.5.0",
        "dew-point 1.5.1",
        "dew-point 1.6.0",
        "bark-log 1.1.0",
        "rain-ledger 2.4.0: dew-point 1",
    ];
    let garden = Garden::needing(&releases, needs);
    add(
        &garden,
        &record("FERN-2026-0001", "dew-point", &json!([{ "introduced": "1.4" }, { "fixed": "1.5.1" }]), HIGH),
    );
    garden
}

fn add(garden: &Garden, record: &Value) {
    let name = record["id"].as_str().unwrap();
    garden.write(&format!("advisories/{name}.json"), &record.to_string());
}

fn add_rules(garden: &Garden, rules: &str) {
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n{rules}\n"));
}

fn locked(garden: &Garden) -> Vec<String> {
    let lock: Value = serde_json::from_str(&garden.read("gate/bibliotax.lock")).unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let packages = lock["packages"].as_array().unwrap().iter();
    packages.map(|package| format!("{} {}", text(&package["name"]), text(&package["version"]))).collect()
}

#[test]
fn an_advisory_of_today_is_found_in_the_lock_of_yesterday_and_left_with_the_fewest_moves() {
    let garden = garden("rain-ledger = \"2\"\ndew-point = \"1.4 .. 1.6\"\nbark-log = \"1\"");
    garden.run(&["install"]).expect(0);
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.5.1", "rain-ledger 2.4.0"]);
    garden.run(&["need", "dew-point", "= 1.4.0"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml").replace("= 1.4.0", "1");
    garden.write("gate/bibliotax.toml", &manifest);
    add_rules(&garden, RULES);
    garden.run(&["install"]).expect(0);
    assert_eq!(locked(&garden)[1], "dew-point 1.4.0", "what is locked stays");
    assert_snapshot!(garden.run(&["check"]), @"
    error: the rules don't allow high advisories, and dew-point 1.4.0 is affected by FERN-2026-0001 (The table overruns)  (rules.advisories)
      try: `bibliotax update --advisories` moves to releases that aren't affected; `bibliotax check --explain ADVISORY` shows more
    1 error: 1 project, 3 packages
    ----- status 7
    ");
    // Sealed installs of yesterday's lock go on, unless the team says otherwise.
    garden.run(&["install", "--sealed"]).expect(0);
    let sealed = garden
        .read("gate/bibliotax.toml")
        .replace("refuse = \"high\"", "refuse = \"high\"\nsealed = \"refuse\"");
    garden.write("gate/bibliotax.toml", &sealed);
    garden.run(&["install"]).expect(0);
    assert_eq!(garden.run(&["install", "--sealed"]).expect(7).code(), "rules.forbidden");
    assert_snapshot!(garden.run(&["check", "--explain", "FERN-2026-0001"]), @"
    FERN-2026-0001 (high, CVSS 7.5): The table overruns

    the rules don't allow high advisories, and dew-point 1.4.0 is affected by FERN-2026-0001 (The table overruns)
       needed by  gate-kiosk: dew-point
       fixed in   1.5.1
    ways out, each tried:
      bibliotax update dew-point --advisories   # moves dew-point to 1.5.1
    ----- status 0
    ");
    assert_snapshot!(garden.run(&["update", "--advisories"]), @"
    lock: 1 raised
      raised  dew-point  1.4.0 -> 1.5.1  2.0 KiB  MIT  needed here
    shelf: 1 package installed, 2 already there (TIME)
    ----- status 0
    ");
    assert_eq!(
        locked(&garden),
        ["bark-log 1.1.0", "dew-point 1.5.1", "rain-ledger 2.4.0"],
        "the nearest that is fixed"
    );
    garden.run(&["check", "--strict"]).expect(0);
    assert!(
        garden
            .run(&["update", "--advisories"])
            .expect(0)
            .stdout
            .contains("nothing to update: no advisory affects")
    );
}

#[test]
fn affected_releases_are_marked_and_no_candidates() {
    let garden = garden("rain-ledger = \"2\"\ndew-point = \"1.4 .. 1.5.1\"");
    garden.run(&["install"]).expect(0);
    add_rules(&garden, RULES);
    garden.run(&["resolve"]).expect(0);
    let conflict = garden.run(&["need", "dew-point", "1.4", "--exactly"]).expect(4);
    assert!(
        conflict.stderr.contains("The rules don't allow high advisories, and dew-point 1.4.0 is affected by FERN-2026-0001 (The table overruns)."),
        "{conflict}"
    );
    let described = garden.run(&["describe", "dew-point"]).expect(0).stdout;
    assert!(described.contains("newest\n") && described.contains("fixes FERN-2026-0001"), "{described}");
    assert!(described.contains("affected by FERN-2026-0001 (high)"), "{described}");
    let json = garden.run(&["describe", "dew-point", "--format", "json"]).expect(0).json();
    assert_eq!(json["releases"][1]["affected-by"], json!(["FERN-2026-0001"]));
    assert_eq!(json["releases"][3]["fixes"], json!(["FERN-2026-0001"]));
    let newer = garden.run(&["newer"]).expect(0).stdout;
    assert!(newer.contains("affected by FERN-2026-0001, high: fixed in 1.5.1"), "{newer}");
    let json = garden.run(&["newer", "--format", "json"]).expect(0).json();
    assert_eq!(json["packages"][0]["advisories"][0]["fixed-in"], "1.5.1", "{json}");
    let stuck = garden.run(&["update", "--advisories"]).expect(4);
    assert!(stuck.stderr.contains("bibliotax need dew-point \"1.6 .. 2\""), "{stuck}");
}

#[test]
fn advisories_below_the_level_warn_and_one_without_a_fix_stays() {
    let garden = garden("bark-log = \"1\"\ndew-point = \"1\"");
    add(&garden, &record("FERN-2026-0002", "bark-log", &json!([{ "introduced": "0" }]), LOW));
    add_rules(&garden, RULES);
    garden.run(&["install"]).expect(0);
    let found = garden.run(&["check"]).expect(0);
    assert!(
        found
            .stdout
            .contains("warning: bark-log 1.1.0 is affected by FERN-2026-0002, low (The table overruns)"),
        "{found}"
    );
    garden.run(&["check", "--strict"]).expect(1);
    let nothing = garden.run(&["update", "--advisories"]).expect(0);
    assert!(nothing.stdout.contains("or no release fixes it"), "{nothing}");
    let newer = garden.run(&["newer"]).expect(0).stdout;
    assert!(newer.contains("affected by FERN-2026-0002, low: not fixed yet"), "{newer}");
    let quiet = garden
        .read("gate/bibliotax.toml")
        .replace("refuse = \"high\"", "refuse = \"high\"\nwarn = \"medium\"");
    garden.write("gate/bibliotax.toml", &quiet);
    garden.run(&["install"]).expect(0);
    garden.run(&["check", "--strict"]).expect(0);
}

#[test]
fn a_waiver_says_in_the_words_of_vex_why_an_advisory_does_not_count() {
    let garden = garden("dew-point = \"= 1.4.0\"");
    let waiver = "[[rules.waivers]]\nrule = \"advisories\"\npackage = \"dew-point\"\nadvisory = \"CVE-2026-1\"\n\
        status = \"not_affected\"\njustification = \"vulnerable_code_not_in_execute_path\"\nreason = \"no probe names\"\nuntil = 2026-06-01\n";
    let mut aliased =
        record("FERN-2026-0001", "dew-point", &json!([{ "introduced": "1.4" }, { "fixed": "1.5.1" }]), HIGH);
    aliased["aliases"] = json!(["CVE-2026-1"]);
    add(&garden, &aliased);
    add_rules(&garden, &format!("{RULES}{waiver}"));
    garden.run(&["install"]).expect(0);
    let json = garden.run(&["check", "--format", "json"]).expect(0).json();
    assert_eq!(json["findings"][0]["waived"]["reason"], "no probe names", "{json}");
    // Another advisory isn't meant by it.
    add(&garden, &record("FERN-2026-0003", "dew-point", &json!([{ "introduced": "0" }]), HIGH));
    let other = garden.run(&["check"]).expect(7);
    assert!(other.stdout.contains("FERN-2026-0003") && !other.stdout.contains("FERN-2026-0001"), "{other}");
    let rows = [
        (waiver.replace("advisory = \"CVE-2026-1\"\n", ""), "rules.waiver"),
        (waiver.replace("justification = \"vulnerable_code_not_in_execute_path\"\n", ""), "rules.waiver"),
        (waiver.replace("not_affected", "fine"), "manifest.rule"),
        (waiver.replace("rule = \"advisories\"", "rule = \"barred\""), "rules.waiver"),
    ];
    let manifest = garden.read("gate/bibliotax.toml");
    for (changed, code) in rows {
        garden.write("gate/bibliotax.toml", &manifest.replace(waiver, &changed));
        assert_eq!(garden.run(&["check"]).expect(3).code(), code, "{changed}");
    }
}

#[test]
fn a_fix_may_be_younger_than_the_rules_want() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    garden.run(&["install"]).expect(0);
    garden.publish(&["dew-point 1.5.0", "dew-point 1.5.1"]);
    add(
        &garden,
        &record("FERN-2026-0001", "dew-point", &json!([{ "introduced": "1.4" }, { "fixed": "1.5.1" }]), HIGH),
    );
    add_rules(
        &garden,
        &format!("[rules]\nmin-age = \"5 days\"\nmin-age-waived-for-advisories = true\n{RULES}"),
    );
    garden.run(&["install"]).expect(0);
    garden.run(&["update", "--advisories"]).expect(0);
    assert_eq!(locked(&garden), ["dew-point 1.5.1"]);
}

#[test]
fn what_a_team_packages_of_upstream_is_matched_by_package_url() {
    let garden = Garden::with(&[]);
    let card = json!({ "name": "leaf", "version": "1.0.0", "published": "2026-03-01T09:00:00Z", "files": [],
        "upstream": ["pkg:pypi/leaf-tools@2.0"] });
    garden.load(&format!("{card}\n"));
    let public = json!({ "id": "PUB-7", "modified": "2026-02-01T09:00:00Z", "database_specific": { "severity": "HIGH" },
        "affected": [{ "package": { "ecosystem": "PyPI", "name": "leaf-tools" }, "versions": ["1.9", "2.0"] }] });
    add(&garden, &public);
    add_rules(&garden, &format!("leaf = \"1\"\n{RULES}"));
    let refused = garden.run(&["resolve"]).expect(4);
    assert!(refused.stderr.contains("leaf 1.0.0 is affected by PUB-7"), "{refused}");
    assert!(
        garden.run(&["describe", "leaf"]).expect(0).stdout.contains("upstream   pkg:pypi/leaf-tools@2.0")
    );
    // A project says it of itself, and publishing writes it down.
    garden.write("own/bibliotax.toml", "[project]\nname = \"own\"\nversion = \"1.0.0\"\n[registries]\nseedhouse = \"../seedhouse\"\n[card]\nupstream = [\"pkg:generic/moss@1.1.1w\"]\n");
    garden.write("own/moss.c", "");
    let published = garden.run_in("own", &["publish", "--format", "json"]).expect(0).json();
    assert_eq!(published["card"]["upstream"], json!(["pkg:generic/moss@1.1.1w"]), "{published}");
    garden.write("own/bibliotax.toml", "[project]\nname = \"own\"\n[card]\nupstream = [\"moss 1.1\"]\n");
    assert_eq!(garden.run_in("own", &["resolve"]).expect(3).code(), "card.upstream");
}

#[test]
fn commits_of_a_repository_are_matched_along_their_history() {
    let garden = crate::sources::garden();
    let url = "https://git.example/leaf-palette";
    // The repository is known under its public address, and read where it is.
    let config = format!(
        "[url \"file://{}\"]\n\tinsteadOf = {url}\n[protocol \"file\"]\n\tallow = always\n",
        garden.path("leaf").display()
    );
    garden.write("home/.gitconfig", &config);
    let bad = git(&garden, "leaf", &["rev-parse", "v1.2.0"]);
    garden.run(&["need", "leaf-palette", "--git", url]).expect(0);
    let of = |events: Value| {
        json!({ "id": "GIT-1", "modified": "2026-02-01T09:00:00Z", "database_specific": { "severity": "CRITICAL" },
            "affected": [{ "ranges": [{ "type": "GIT", "repo": format!("{url}.git"), "events": events }] }] })
    };
    add(&garden, &of(json!([{ "introduced": bad }])));
    add_rules(&garden, RULES);
    garden.run(&["install"]).expect(0);
    let found = garden.run(&["check"]).expect(7);
    assert!(found.stdout.contains("GIT-1"), "{found}");
    garden.write("leaf/include/leaf.h", "#define LEAF 9\n");
    commit(&garden, "leaf");
    let later = git(&garden, "leaf", &["rev-parse", "HEAD"]);
    add(&garden, &of(json!([{ "introduced": later }])));
    garden.run(&["check"]).expect(0);
}

#[test]
fn records_with_errors_are_told_and_the_others_count() {
    let garden = garden("dew-point = \"= 1.4.0\"");
    garden.write("advisories/more/broken.json", "{\"id\": 1}");
    garden.write("advisories/README.txt", "no record");
    add_rules(&garden, RULES);
    garden.run(&["resolve"]).expect(4);
    fs::remove_file(garden.path("advisories/FERN-2026-0001.json")).unwrap();
    garden.run(&["install"]).expect(0);
    add(&garden, &record("FERN-2026-0001", "dew-point", &json!([{ "introduced": "1.4" }]), HIGH));
    let found = garden.run(&["check"]).expect(7);
    assert!(
        found.stdout.contains("1 record of the feed ../advisories can't be read: more/broken.json"),
        "{found}"
    );
    assert!(found.stdout.contains("FERN-2026-0001"), "{found}");
    fs::rename(garden.path("advisories"), garden.path("elsewhere")).unwrap();
    let away = garden.run(&["check"]).expect(1);
    assert!(
        away.stdout.contains(
            "error: the feed ../advisories can't be read: there is no such file or folder  (advisories.away)"
        ),
        "{away}"
    );
    let warned = garden.run(&["resolve"]).expect(0);
    assert!(warned.stderr.contains("warning: the feed ../advisories can't be read"), "{warned}");
}

/// A record as it is put into an archive.
fn zip_of(records: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, text) in records {
        let options =
            zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Deflated);
        archive.start_file(*name, options).unwrap();
        archive.write_all(text).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

/// Serves one file with an entity tag; notes what was asked, and answers nothing while it is away.
struct Feed {
    url: String,
    asked: Arc<Mutex<Vec<String>>>,
    body: Arc<Mutex<Option<Vec<u8>>>>,
}

impl Feed {
    fn serve(body: Vec<u8>) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/all.zip", listener.local_addr().unwrap());
        let (asked, body) = (Arc::new(Mutex::new(Vec::new())), Arc::new(Mutex::new(Some(body))));
        let (notes, file) = (Arc::clone(&asked), Arc::clone(&body));
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                answer(stream.unwrap(), &notes, file.lock().unwrap().as_deref());
            }
        });
        Self { url, asked, body }
    }

    fn asked(&self) -> Vec<String> {
        std::mem::take(&mut *self.asked.lock().unwrap())
    }
}

fn answer(mut stream: TcpStream, notes: &Mutex<Vec<String>>, body: Option<&[u8]>) {
    let mut lines = BufReader::new(stream.try_clone().unwrap()).lines();
    let head: Vec<String> =
        lines.by_ref().map_while(Result::ok).take_while(|line| !line.is_empty()).collect();
    let Some(body) = body else {
        let _ = stream.write_all(
            b"HTTP/1.1 503 Away\r\nretry-after: 0\r\ncontent-length: 0\r\nconnection: close\r\n\r\n",
        );
        return;
    };
    let tag = format!("\"{}\"", blake3_of(body));
    let is_same = head.iter().any(|line| line.to_lowercase() == format!("if-none-match: {tag}"));
    notes.lock().unwrap().push(if is_same { "same".to_owned() } else { "new".to_owned() });
    let (status, sent) = if is_same { ("304 Not Modified", &[][..]) } else { ("200 OK", body) };
    let head = format!(
        "HTTP/1.1 {status}\r\netag: {tag}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
        sent.len()
    );
    let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(sent));
}

/// What tells one body from another.
fn blake3_of(body: &[u8]) -> String {
    bibliotax_core::digest::Digest::of(body).to_string()
}

#[test]
fn a_feed_behind_a_server_is_fetched_once_confirmed_later_and_used_offline() {
    let garden = garden("dew-point = \"= 1.4.0\"");
    garden.run(&["install"]).expect(0);
    let text = fs::read(garden.path("advisories/FERN-2026-0001.json")).unwrap();
    let feed =
        Feed::serve(zip_of(&[("dew/FERN-2026-0001.json", text), ("notes.txt", b"no record".to_vec())]));
    let rules = RULES.replace("\"../advisories\"", &format!("\"{}\"", feed.url));
    add_rules(&garden, &format!("{rules}max-feed-age = \"2 days\"\n"));
    garden.run(&["install"]).expect(0);
    assert_eq!(feed.asked(), ["new"]);
    garden.run(&["resolve"]).expect(0);
    assert!(feed.asked().is_empty(), "it was asked a moment ago");
    garden.run(&["check"]).expect(7);
    assert_eq!(feed.asked(), ["same"], "a check asks each time");
    garden.run(&["check", "--offline"]).expect(7);
    assert!(feed.asked().is_empty());
    let late = |args: &[&str]| {
        let at = (1_772_355_600 + 3 * 86_400).to_string();
        garden.ran(garden.command("gate", args).env("SOURCE_DATE_EPOCH", at).output().unwrap())
    };
    let old = late(&["check", "--offline"]).expect(7);
    assert!(
        old.stdout
            .contains("was fetched last on 2026-03-01T09:00:00Z, more than 2 days ago  (advisories.old)"),
        "{old}"
    );
    // Away: what is known counts, and everybody hears of it.
    *feed.body.lock().unwrap() = None;
    let away = garden.run(&["check"]).expect(7);
    assert!(
        away.stdout.contains("what was known of it before is used") && away.stdout.contains("FERN-2026-0001"),
        "{away}"
    );
    *feed.body.lock().unwrap() = Some(zip_of(&[]));
    garden.run(&["check"]).expect(0);
    assert_eq!(feed.asked(), ["new"]);
}

#[test]
fn an_archive_that_unpacks_to_far_more_is_given_up() {
    let garden = garden("dew-point = \"= 1.4.0\"");
    let bomb = zip_of(&[("a.json", vec![b' '; 40 << 20]), ("b.json", vec![b' '; 40 << 20])]);
    assert!(bomb.len() < 1 << 20);
    fs::write(garden.path("bomb.zip"), bomb).unwrap();
    add_rules(&garden, &RULES.replace("../advisories", "../bomb.zip"));
    garden.run(&["install"]).expect(0);
    let found = garden.run_within("-v 4000000", &["check"]).expect(1);
    assert!(found.stdout.contains("its records are far larger than the archive"), "{found}");
}

/// A lock with findings of every level, one of them waived.
fn with_findings() -> Garden {
    let garden = garden("dew-point = \"= 1.4.0\"\nbark-log = \"1\"");
    add(&garden, &record("FERN-2026-0002", "bark-log", &json!([{ "introduced": "0" }]), LOW));
    let waiver = "[[rules.waivers]]\nrule = \"deprecated\"\npackage = \"bark-log\"\nreason = \"later\"\nuntil = 2027-01-01\n\
        [[rules.waivers]]\nrule = \"barred\"\npackage = \"bark-log\"\nreason = \"unused\"\nuntil = 2027-01-01\n";
    garden.run(&["install"]).expect(0);
    garden.run(&["deprecate", "bark-log", "1", "--reason", "quiet"]).expect(0);
    add_rules(&garden, &format!("{RULES}{waiver}"));
    garden.run(&["install"]).expect(0);
    garden
}

#[test]
fn findings_are_sarif_that_its_schema_accepts() {
    let garden = with_findings();
    let printed = garden.run(&["check", "--format", "sarif"]).expect(7);
    let log: Value = serde_json::from_str(&printed.stdout).unwrap();
    let schema = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/schemas/sarif-2.1.0.json");
    let schema: Value = serde_json::from_str(&fs::read_to_string(schema).unwrap()).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let errors: Vec<String> = validator.iter_errors(&log).map(|error| error.to_string()).collect();
    assert!(errors.is_empty(), "{errors:?}");
    let results = log["runs"][0]["results"].as_array().unwrap();
    let levels: Vec<&str> = results.iter().map(|result| result["level"].as_str().unwrap()).collect();
    assert_eq!(levels, ["error", "warning", "note", "warning"], "{log}");
    assert_eq!(results[3]["suppressions"][0]["justification"], "later (until 2027-01-01)");
    let place = &results[0]["locations"][0]["physicalLocation"];
    let line = usize::try_from(place["region"]["startLine"].as_u64().unwrap()).unwrap();
    let lock = garden.read("gate/bibliotax.lock");
    assert!(lock.lines().nth(line - 1).unwrap().contains("\"name\":\"dew-point\""), "{place}");
    for result in results {
        let index = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
        assert_eq!(log["runs"][0]["tool"]["driver"]["rules"][index]["id"], result["ruleId"]);
    }
    // A fingerprint stays when versions and lines change.
    let print = |log: &Value| log["runs"][0]["results"][0]["partialFingerprints"].clone();
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("= 1.4.0", "= 1.5.0"));
    add(&garden, &record("FERN-2026-0001", "dew-point", &json!([{ "introduced": "9" }]), HIGH));
    garden.run(&["install"]).expect(0);
    add(&garden, &record("FERN-2026-0001", "dew-point", &json!([{ "introduced": "1.4" }]), HIGH));
    let later = garden.run(&["check", "--format", "sarif"]).expect(7);
    assert_eq!(print(&serde_json::from_str(&later.stdout).unwrap()), print(&log));
}

#[test]
#[ignore = "needs a reader of SARIF, which `.ci/run` sets up"]
fn an_independent_reader_reads_our_sarif() {
    let garden = with_findings();
    let printed = garden.run(&["check", "--format", "sarif"]).expect(7);
    garden.write("check.sarif", &printed.stdout);
    let script = "import sys\nfrom sarif import loader\nfor record in loader.load_sarif_file(sys.argv[1]).get_records():\n    \
        print(record['Severity'], record['Code'], record['Location'], record['Line'])\n";
    let mut reader = std::process::Command::new(needed("BIBLIOTAX_TEST_SARIF_READER"));
    let output = reader.args(["-c", script]).arg(garden.path("check.sarif")).output().unwrap();
    let read = String::from_utf8_lossy(&output.stdout).into_owned();
    let lines: Vec<&str> = read.lines().collect();
    assert!(
        lines.iter().any(|line| line.starts_with("error rules.advisories bibliotax.lock ")),
        "{output:?}"
    );
    assert!(
        lines.iter().any(|line| line.starts_with("note rules.waiver-unused bibliotax.toml ")),
        "{output:?}"
    );
}

#[test]
fn what_is_unknown_is_not_explained() {
    let garden = with_findings();
    assert_eq!(garden.run(&["check", "--explain", "FERN-1999-1"]).expect(2).code(), "check.unknown");
    let nothing = garden.run(&["check", "--explain", "rules.sources"]).expect(0);
    assert!(nothing.stdout.contains("nothing that is locked is concerned"), "{nothing}");
    let json = garden.run(&["check", "--explain", "FERN-2026-0002", "--format", "json"]).expect(0).json();
    crate::json::validate(&json);
    assert_eq!(json["findings"][0]["finding"]["file"], "bibliotax.lock", "{json}");
}
