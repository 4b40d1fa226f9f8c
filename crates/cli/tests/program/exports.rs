//! Bills of materials and statements on advisories in open formats, and bills compared with the lock.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;

use bibliotax_core::digest::Digest;
use serde_json::{Value, json};

use crate::garden::Garden;
use crate::outside::needed;
use crate::sources::{commit, git};

const MIT: &str = include_str!("../texts/MIT.txt");

/// A garden whose project needs packages of all sources: registry, git, archive and folder.
fn garden() -> Garden {
    let garden = Garden::with(&["dew-point 1.4.0", "rain-ledger 2.4.0: dew-point 1", "fern/moss 0.3.0"]);
    garden.write_tar("parts/linux.tar", &[("soil.h", b"1"), ("LICENSE", MIT.as_bytes())]);
    garden.write_tar("parts/windows.tar", &[("soil.dll", b"2")]);
    garden.load(
        "{\"name\":\"soil-curve\",\"version\":\"1.7.0\",\"published\":\"2026-03-01T10:00:00Z\",\"license\":\"MIT OR LicenseRef-garden\",\
         \"summary\":\"Says \\\"</script>\\\" \\\\ & more\",\"homepage\":\"https://soil.example\",\"repository\":\"https://git.example/soil\",\
         \"upstream\":[\"pkg:github/fernhollow/soil@1.7\"],\
         \"files\":[{\"path\":\"parts/linux.tar\",\"for\":{\"os\":[\"linux\"]}},{\"path\":\"parts/windows.tar\",\"for\":{\"os\":[\"windows\"]}}]}\n",
    );
    garden.write("leaf/bibliotax.toml", "[project]\nname = \"leaf-palette\"\nversion = \"1.2.0\"\n");
    git(&garden, "leaf", &["init", "-q"]);
    commit(&garden, "leaf");
    let stone = b"[project]\nname = \"stone\"\nversion = \"1.0.0\"\n";
    garden.write_tar("stone.tar", &[("bibliotax.toml", stone), ("stone.h", b"3")]);
    let digest = Digest::of(&std::fs::read(garden.path("stone.tar")).unwrap());
    garden.write(
        "shade/bibliotax.toml",
        "[project]\nname = \"shade\"\nversion = \"0.1.0\"\nlicense = \"EUPL-1.2\"\n",
    );
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!(
            "{manifest}rain-ledger = \"2\"\nsoil-curve = \"1\"\nleaf-palette = {{ git = \"../leaf\", branch = \"main\" }}\n\
             stone = {{ archive = \"../stone.tar\", sha256 = \"{digest}\" }}\nshade = {{ path = \"../shade\" }}\n\
             [needs-for.test]\n\"fern/moss\" = \"0.3\"\n"
        ),
    );
    garden.run(&["install"]).expect(0);
    garden
}

/// A document of these words.
fn exported(garden: &Garden, words: &[&str]) -> Value {
    let words: Vec<&str> = ["export"].iter().chain(words).copied().collect();
    serde_json::from_str(&garden.run(&words).expect(0).stdout).unwrap()
}

fn find<'v>(list: &'v Value, key: &str, value: &str) -> &'v Value {
    let found = list.as_array().unwrap().iter().find(|one| one[key] == value);
    found.unwrap_or_else(|| panic!("no {value} in {list}"))
}

#[test]
fn cyclonedx_has_what_lock_and_cards_say() {
    let garden = garden();
    let ran = garden.run(&["export", "cyclonedx", "--license-texts", "--files"]).expect(0);
    let bill: Value = serde_json::from_str(&ran.stdout).unwrap();
    assert!(ran.stderr.contains("soil-curve has archives that are for other machines"), "{}", ran.stderr);
    let soil = find(&bill["components"], "name", "soil-curve");
    assert_eq!(soil["scope"], "required");
    assert_eq!(soil["licenses"], json!([{ "expression": "MIT OR LicenseRef-garden" }]));
    assert_eq!(soil["description"], "Says \"</script>\" \\ & more");
    assert_eq!(soil["pedigree"]["ancestors"][0]["purl"], "pkg:github/fernhollow/soil@1.7");
    assert_eq!(find(&soil["externalReferences"], "type", "vcs")["url"], "https://git.example/soil");
    assert_eq!(find(&soil["externalReferences"], "type", "website")["url"], "https://soil.example");
    assert_eq!(soil["evidence"]["licenses"][0]["license"]["id"], "MIT");
    assert_eq!(soil["evidence"]["licenses"][0]["license"]["text"]["content"], MIT);
    assert_eq!(soil["evidence"]["occurrences"], json!([{ "location": "LICENSE" }, { "location": "soil.h" }]));
    let moss = find(&bill["components"], "name", "moss");
    assert_eq!((&moss["group"], &moss["scope"]), (&json!("fern"), &json!("excluded")));
    let leaf = find(&bill["components"], "name", "leaf-palette");
    let commit = git(&garden, "leaf", &["rev-parse", "HEAD"]);
    assert_eq!((&leaf["pedigree"]["commits"][0]["uid"], &leaf["hashes"]), (&json!(commit), &Value::Null));
    assert_eq!(find(&bill["components"], "name", "shade")["licenses"][0]["expression"], "EUPL-1.2");
    assert_eq!(find(&bill["components"], "name", "stone")["hashes"][0]["alg"], "SHA-256");
    assert_eq!(bill["metadata"]["tools"]["components"][0]["name"], "bibliotax");
}

#[test]
fn the_same_lock_gives_the_same_bytes_and_a_time_only_where_one_is_given() {
    let garden = garden();
    let run = |words: &[&str], date: Option<&str>| {
        let mut command = garden.command("gate", words);
        command.env_remove("SOURCE_DATE_EPOCH");
        date.map(|date| command.env("SOURCE_DATE_EPOCH", date));
        garden.ran(command.output().unwrap()).expect(0).stdout
    };
    for form in ["cyclonedx", "spdx", "spdx3", "purls", "openvex", "cyclonedx-vex"] {
        assert_eq!(run(&["export", form], None), run(&["export", form], None), "{form}");
    }
    let time = |text: &str| serde_json::from_str::<Value>(text).unwrap()["metadata"]["timestamp"].clone();
    assert_eq!(time(&run(&["export", "cyclonedx"], None)), Value::Null);
    assert_eq!(time(&run(&["export", "cyclonedx"], Some("1772355600"))), "2026-03-01T09:00:00Z");
    let given = run(&["export", "cyclonedx", "--time", "2026-04-01T10:00:00.5+02:00"], None);
    assert_eq!(time(&given), "2026-04-01T08:00:00Z");
    // SPDX wants one: that of the newest card.
    let spdx: Value = serde_json::from_str(&run(&["export", "spdx"], None)).unwrap();
    assert_eq!(spdx["creationInfo"]["created"], "2026-03-01T10:00:00Z");
    // Another store, with nothing in it, gives the same.
    let first = run(&["export", "cyclonedx"], None);
    std::fs::remove_dir_all(garden.path("store")).unwrap();
    assert_eq!(run(&["export", "cyclonedx"], None), first);
}

#[test]
fn spdx_3_is_as_its_schema_says() {
    let garden = garden();
    let schema = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../tests/schemas/spdx-3.0.1.json");
    let schema: Value = serde_json::from_str(&std::fs::read_to_string(schema).unwrap()).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let mut document = exported(&garden, &["spdx3"]);
    let errors: Vec<String> = validator.iter_errors(&document).map(|error| error.to_string()).collect();
    assert!(errors.is_empty(), "{errors:?}");
    document["@graph"][3]["nobody"] = json!(1);
    assert!(!validator.is_valid(&document));
}

#[test]
fn package_urls_tell_the_origin_of_packages_that_no_registry_has() {
    let garden = garden();
    let daemon = crate::sources::daemon(&garden);
    std::fs::write(garden.path("leaf/.git/git-daemon-export-ok"), "").unwrap();
    let url = format!("git://127.0.0.1:{}/leaf", daemon.0);
    let manifest =
        garden.read("gate/bibliotax.toml").replace("git = \"../leaf\"", &format!("git = \"{url}\""));
    garden.write("gate/bibliotax.toml", &manifest);
    garden.run(&["install"]).expect(0);
    let lines = garden.run(&["export", "purls"]).expect(0).stdout;
    let commit = git(&garden, "leaf", &["rev-parse", "HEAD"]);
    let line =
        |start: &str| lines.lines().find(|line| line.starts_with(start)).unwrap_or_default().to_owned();
    assert_eq!(
        line("pkg:generic/leaf-palette"),
        format!("pkg:generic/leaf-palette@1.2.0?vcs_url={}%40{commit}", url.replace('/', "%2F"))
    );
    assert!(line("pkg:generic/fern/moss@0.3.0?checksum=sha256:").len() > 64, "{lines}");
    assert_eq!(line("pkg:generic/shade"), "pkg:generic/shade@0.1.0");
    assert!(line("pkg:generic/stone@1.0.0?checksum=sha256:").len() > 64, "{lines}");
}

#[test]
fn a_document_is_of_chosen_projects_targets_and_purposes() {
    let garden = garden();
    let names = |words: &[&str]| -> BTreeSet<String> {
        let words: Vec<&str> = ["export", "purls"].iter().chain(words).copied().collect();
        let lines = garden.run(&words).expect(0).stdout;
        lines.lines().map(|line| line.split('@').next().unwrap().replace("pkg:generic/", "")).collect()
    };
    assert!(names(&[]).contains("fern/moss"));
    let without: BTreeSet<String> = names(&["--leave-out", "test"]);
    assert_eq!(
        without.iter().map(String::as_str).collect::<Vec<_>>(),
        ["dew-point", "leaf-palette", "rain-ledger", "shade", "soil-curve", "stone"]
    );
    let ran = garden.run(&["export", "purls", "--leave-out", "tests"]);
    assert_eq!(ran.status, 2, "{}", ran.stderr);
    assert_eq!(garden.run(&["export", "purls", "--in", "nobody"]).status, 2);
}

#[test]
fn what_waivers_say_of_advisories_becomes_vex() {
    let garden =
        Garden::needing(&["dew-point 1.4.0", "bark-log 1.0.0"], "dew-point = \"1\"\nbark-log = \"1\"");
    for (id, package) in [("FERN-1", "dew-point"), ("FERN-2", "bark-log")] {
        let record = json!({ "schema_version": "1.7.0", "id": id, "modified": "2026-02-01T09:00:00Z", "summary": "It overruns",
            "aliases": [format!("CVE-{id}")], "affected": [{ "package": { "ecosystem": "Bibliotax", "name": package },
            "ranges": [{ "type": "SEMVER", "events": [{ "introduced": "0" }] }] }] });
        garden.write(&format!("advisories/{id}.json"), &record.to_string());
    }
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!(
            "{manifest}\n[rules.advisories]\nfeeds = [\"../advisories\"]\n[[rules.waivers]]\nrule = \"advisories\"\npackage = \"dew-point\"\n\
             advisory = \"CVE-FERN-1\"\nstatus = \"not_affected\"\njustification = \"vulnerable_code_not_in_execute_path\"\n\
             reason = \"no probe names\"\nuntil = 2026-06-01\n"
        ),
    );
    garden.run(&["install"]).expect(0);
    let vex = exported(&garden, &["openvex", "--author", "Fernhollow Botanical Garden"]);
    assert_eq!(vex["author"], "Fernhollow Botanical Garden");
    let said = |statement: &Value| (statement["vulnerability"]["name"].clone(), statement["status"].clone());
    let statements: Vec<_> = vex["statements"].as_array().unwrap().iter().map(said).collect();
    assert_eq!(
        statements,
        [(json!("FERN-2"), json!("under_investigation")), (json!("FERN-1"), json!("not_affected"))]
    );
    let about_dew = &vex["statements"][1];
    assert_eq!(about_dew["products"][0]["@id"], "pkg:generic/gate-kiosk");
    let subcomponent = about_dew["products"][0]["subcomponents"][0]["@id"].as_str().unwrap();
    assert!(subcomponent.starts_with("pkg:generic/dew-point@1.4.0?checksum=sha256:"), "{subcomponent}");
    assert_eq!(about_dew["justification"], "vulnerable_code_not_in_execute_path");
    assert_eq!(about_dew["impact_statement"], "no probe names");
    assert_eq!(about_dew["vulnerability"]["aliases"], json!(["CVE-FERN-1"]));
    let bill = exported(&garden, &["cyclonedx-vex"]);
    let analysis = &find(&bill["vulnerabilities"], "id", "FERN-1")["analysis"];
    assert_eq!(
        *analysis,
        json!({ "state": "not_affected", "justification": "code_not_reachable", "detail": "no probe names" })
    );
    assert_eq!(find(&bill["vulnerabilities"], "id", "FERN-2")["analysis"]["state"], "in_triage");
    // A waiver that has ended says nothing.
    let mut command = garden.command("gate", &["export", "openvex"]);
    let later = garden.ran(command.env("SOURCE_DATE_EPOCH", "1790000000").output().unwrap()).expect(0);
    assert!(!later.stdout.contains("not_affected"), "{}", later.stdout);
}

#[test]
fn nothing_is_written_of_a_lock_that_is_out_of_date_or_where_it_cannot_be() {
    let garden = garden();
    let ran = garden.run(&["export", "spdx", "--output", "no/such/folder.json"]);
    assert_eq!((ran.status, ran.code()), (74, "disk.missing"), "{}", ran.stderr);
    if cfg!(target_os = "linux") {
        let ran = garden.run(&["export", "spdx", "--output", "/dev/full"]);
        assert_eq!((ran.status, ran.code()), (74, "disk.full"), "{}", ran.stderr);
        assert!(!std::fs::metadata("/dev/full").unwrap().is_file());
    }
    let ran = garden.run(&["export", "spdx", "-o", "bill.json", "--format", "json"]).expect(0);
    let result = ran.json();
    assert_eq!((&result["form"], &result["packages"]), (&json!("spdx"), &json!(7)));
    assert_eq!(garden.read("gate/bill.json"), garden.run(&["export", "spdx"]).expect(0).stdout);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("rain-ledger = \"2\"", "rain-ledger = \"2.4\""));
    let ran = garden.run(&["export", "cyclonedx"]);
    assert_eq!((ran.status, ran.code(), ran.stdout.as_str()), (1, "lock.stale", ""), "{}", ran.stderr);
}

#[test]
fn a_bill_is_compared_with_the_lock_both_ways() {
    let garden = garden();
    let findings = |words: &[&str], status| -> Vec<(String, String)> {
        let words: Vec<&str> = ["check", "--format", "json", "--bill"].iter().chain(words).copied().collect();
        let json = garden.run(&words).expect(status).json();
        let of = |finding: &Value| {
            (
                finding["code"].as_str().unwrap().to_owned(),
                finding["package"].as_str().unwrap_or("").to_owned(),
            )
        };
        json["findings"].as_array().unwrap().iter().map(of).collect()
    };
    for form in ["cyclonedx", "spdx", "spdx3"] {
        garden.run(&["export", form, "-o", "bill.json"]).expect(0);
        assert_eq!(findings(&["bill.json"], 0), [], "{form}");
        let text = garden.read("gate/bill.json");
        let dew = garden.read("gate/bibliotax.lock");
        let digest = dew.lines().find(|line| line.contains("\"name\":\"dew-point\"")).unwrap();
        let digest = digest.split("\"sha256\":\"").nth(1).unwrap().split('"').next().unwrap();
        garden.write("gate/bytes.json", &text.replace(digest, &"0".repeat(64)));
        assert_eq!(findings(&["bytes.json"], 1), [("bill.bytes".into(), "dew-point".into())], "{form}");
        let other = text.replace("2.4.0", "2.5.0").replace("leaf-palette", "leaf-picture");
        garden.write("gate/other.json", &other);
        let expected = [
            ("bill.missing", "leaf-palette"),
            ("bill.version", "rain-ledger"),
            ("bill.extra", "leaf-picture"),
        ];
        let expected = expected.map(|(code, package)| (code.to_owned(), package.to_owned()));
        assert_eq!(findings(&["other.json"], 1), expected, "{form}");
        // A bill of a part is compared with that part.
        garden.run(&["export", form, "--leave-out", "test", "-o", "part.json"]).expect(0);
        assert_eq!(findings(&["part.json"], 1), [("bill.missing".into(), "fern/moss".into())], "{form}");
        assert_eq!(findings(&["part.json", "--leave-out", "test"], 0), [], "{form}");
    }
    let ran = garden.run(&["check", "--bill", "nowhere.json"]);
    assert_eq!((ran.status, ran.code()), (3, "bill.none"));
    let ran = garden.run(&["check", "--bill", "bibliotax.toml"]);
    assert_eq!((ran.status, ran.code()), (3, "bill.unreadable"));
}

#[test]
#[ignore = "needs readers of bills of materials, which `.ci/run` sets up"]
fn independent_readers_accept_our_bills_and_find_the_graph_of_the_lock() {
    let garden = garden();
    for (form, file) in
        [("cyclonedx", "b.json"), ("spdx", "b.spdx.json"), ("spdx3", "b3.json"), ("purls", "b.txt")]
    {
        garden.run(&["export", form, "-o", file]).expect(0);
    }
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/readers/bills.py");
    let mut reader = Command::new(needed("BIBLIOTAX_TEST_BILL_READER"));
    let output = reader.current_dir(garden.path("gate")).arg(script).args([
        "b.json",
        "b.spdx.json",
        "b3.json",
        "b.txt",
    ]);
    let output = output.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let read: Value = serde_json::from_slice(&output.stdout).unwrap();
    let graph = garden.run(&["graph", "--format", "json"]).expect(0).json();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let edges: BTreeSet<(String, String)> = graph["needs"]
        .as_array()
        .unwrap()
        .iter()
        .map(|edge| (text(&edge["from"]), text(&edge["to"])))
        .collect();
    let purls: BTreeSet<String> = read["purls"]["purls"].as_array().unwrap().iter().map(text).collect();
    for form in ["cyclonedx", "spdx2", "spdx3"] {
        assert_eq!(read[form]["errors"], json!([]), "{form}");
        let found: BTreeSet<(String, String)> = read[form]["edges"]
            .as_array()
            .unwrap()
            .iter()
            .map(|edge| (text(&edge[0]), text(&edge[1])))
            .collect();
        assert_eq!(found, edges, "{form}");
        let found: BTreeSet<String> = read[form]["purls"].as_array().unwrap().iter().map(text).collect();
        assert_eq!(found, purls, "{form}");
    }
    let names = read["purls"]["names"].as_array().unwrap();
    assert!(names.contains(&json!(["fern", "moss", "0.3.0"])), "{names:?}");
}
