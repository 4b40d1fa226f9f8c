//! `[rules]`: what a team allows, held against every lock.

use std::fs;

use insta::assert_snapshot;
use serde_json::{Value, json};

use crate::credentials::run_with_input;
use crate::garden::Garden;

const DAY: i64 = 86_400;

/// When the tests' releases are published, and commands run.
const NOW: i64 = 1_772_355_600;

/// A release with a licence, as a line to load.
fn licensed(name: &str, version: &str, license: Option<&str>, needs: &Value) -> String {
    let card = json!({ "name": name, "version": version, "published": "2026-03-01T09:00:00Z", "license": license,
        "needs": needs, "files": [] });
    format!("{card}\n")
}

/// A garden whose registry has licences of all sorts, and whose project has these needs and rules.
fn garden(needs: &str, rules: &str) -> Garden {
    let garden = Garden::needing(&["dew-point 1.4.0", "dew-point 1.5.0", "bark-log 1.1.0"], needs);
    let none = json!([]);
    let of_rain = json!([{ "name": "moss-map", "range": "any" }]);
    garden.load(
        &[
            licensed("moss-map", "2.0.0", Some("MIT"), &none),
            licensed("moss-map", "2.1.0", Some("MPL-2.0"), &none),
            licensed("moss-map", "3.0.0", Some("AGPL-3.0-only"), &none),
            licensed("rain-ledger", "2.4.0", Some("MIT OR AGPL-3.0-only"), &of_rain),
            licensed("soil-probe", "1.0.0", None, &none),
        ]
        .concat(),
    );
    add_rules(&garden, rules);
    garden
}

/// What is locked, as `name version`.
fn locked(garden: &Garden) -> Vec<String> {
    let lock: Value = serde_json::from_str(&garden.read("gate/bibliotax.lock")).unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let packages = lock["packages"].as_array().unwrap().iter();
    packages.map(|package| format!("{} {}", text(&package["name"]), text(&package["version"]))).collect()
}

fn add_rules(garden: &Garden, rules: &str) {
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[rules]\n{rules}\n"));
}

fn without_rules(garden: &Garden) -> String {
    garden.read("gate/bibliotax.toml").split("\n[rules]").next().unwrap().to_owned()
}

const LICENSES: &str = "licenses = { accept = [\"MIT\", \"Apache-2.0\"], ask = [\"MPL-2.0\"], refuse = [\"AGPL-3.0-or-later\"], otherwise = \"ask\" }";

#[test]
fn what_the_rules_refuse_is_not_chosen_and_everybody_hears_why() {
    let garden = garden("rain-ledger = \"2\"", LICENSES);
    garden.run(&["install"]).expect(0);
    assert_eq!(locked(&garden), ["moss-map 2.1.0", "rain-ledger 2.4.0"]);
    let reason = "The rules refuse AGPL-3.0-only, the licence of moss-map 3.0.0.";
    assert_snapshot!(garden.run(&["need", "moss-map", "3"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs moss-map 3.
      The rules refuse AGPL-3.0-only, the licence of moss-map 3.0.0.
      So no release of moss-map is left.
    try: one of these; each was tried and works
      bibliotax need moss-map "2.1 .. 3"   # changes moss-map to 2.1.0
    ----- status 4
    "#);
    assert!(garden.run(&["explain", "moss-map", "3"]).expect(4).stdout.contains(reason));
    let newer = garden.run(&["newer"]).expect(0);
    assert!(
        newer.stdout.contains("the rules (refuse AGPL-3.0-only, the licence of moss-map 3.0.0)"),
        "{newer}"
    );
    let json = garden.run(&["newer", "--format", "json"]).expect(0).json();
    assert!(json["packages"][0]["beyond"]["refused"].as_str().unwrap().contains("AGPL-3.0-only"), "{json}");
    let passed = garden.run(&["need", "moss-map", "--dry-run"]).expect(0);
    assert!(passed.stdout.contains(&format!("passed over moss-map 3.0.0:\n    {reason}")), "{passed}");
    assert_eq!(garden.run(&["accept", "moss-map"]).expect(0).code(), "");
}

#[test]
fn a_licence_that_wants_consent_is_accepted_once_for_the_team() {
    let garden = garden("rain-ledger = \"2\"", LICENSES);
    let warned = garden.run(&["install"]).expect(0);
    assert!(
        warned.stderr.contains("moss-map 2.1.0 has the licence MPL-2.0, which nobody accepted yet"),
        "{warned}"
    );
    assert_snapshot!(garden.run(&["install", "--sealed"]), @"
    ----- stderr
    error: the rules forbid what is locked: 1 problem  (rules.forbidden)
      MPL-2.0, the licence of moss-map 2.1.0, isn't accepted yet.
    try: `bibliotax check` shows what to do about each
    ----- status 7
    ");
    assert_eq!(garden.run(&["with", "--sealed", "--", "true"]).expect(7).code(), "rules.forbidden");
    assert_snapshot!(garden.run(&["check"]), @"
    error: MPL-2.0, the licence of moss-map 2.1.0, isn't accepted yet  (rules.licenses)
      try: `bibliotax accept PACKAGE` accepts a licence for the team; `bibliotax describe PACKAGE` shows the package
    1 error: 1 project, 2 packages
    ----- status 7
    ");
    garden.run(&["accept", "moss-map", "--dry-run"]).expect(0);
    assert!(!garden.read("gate/bibliotax.toml").contains("accepted"));
    assert_snapshot!(garden.run(&["accept", "moss-map"]), @"
    bibliotax.toml: MPL-2.0 accepted for moss-map 2.1.0 and later
    ----- status 0
    ");
    let manifest = garden.read("gate/bibliotax.toml");
    assert!(
        manifest.ends_with("[rules.accepted]\nmoss-map = { license = \"MPL-2.0\", range = \"2.1.0 ..\" }\n"),
        "{manifest}"
    );
    assert!(garden.run(&["accept", "--all"]).expect(0).stdout.contains("nothing to accept"));
    garden.run(&["install", "--sealed"]).expect(0);
    garden.run(&["check"]).expect(0);
    // Another licence is another question, and stands beside the first answer.
    garden.load(&licensed("moss-map", "2.2.0", Some("LicenseRef-fern"), &json!([])));
    garden.run(&["update"]).expect(0);
    assert_eq!(garden.run(&["install", "--sealed"]).expect(7).code(), "rules.forbidden");
    garden.run(&["accept", "moss-map"]).expect(0);
    garden.run(&["install", "--sealed"]).expect(0);
    let manifest = garden.read("gate/bibliotax.toml");
    assert!(
        manifest
            .contains("[{ license = \"MPL-2.0\", range = \"2.1.0 ..\" }, { license = \"LicenseRef-fern\""),
        "{manifest}"
    );
}

#[test]
fn a_package_without_a_licence_can_be_accepted_or_refused_by_name() {
    let garden = garden("soil-probe = \"1\"", LICENSES);
    garden.run(&["install"]).expect(0);
    let json = garden.run(&["check", "--format", "json"]).expect(7).json();
    assert_eq!(json["findings"][0]["code"], "rules.licenses");
    garden.run(&["accept", "soil-probe"]).expect(0);
    assert!(garden.read("gate/bibliotax.toml").contains("soil-probe = { license = \"NOASSERTION\""));
    garden.run(&["install", "--sealed"]).expect(0);
    let manifest = without_rules(&garden);
    garden.write("gate/bibliotax.toml", &manifest);
    add_rules(&garden, "licenses = { refuse = [\"NOASSERTION\"], otherwise = \"accept\" }");
    garden.run(&["install"]).expect(0);
    let sealed = garden.run(&["install", "--sealed"]).expect(7);
    assert!(
        sealed.stderr.contains("refuse packages without a licence, and soil-probe 1.0.0 declares none"),
        "{sealed}"
    );
    let refused = garden.run(&["accept", "soil-probe"]).expect(7);
    assert_eq!(refused.code(), "rules.forbidden");
}

#[test]
fn need_accepts_a_licence_by_an_option_and_no_other_than_is_asked_for() {
    let garden = garden("", LICENSES);
    let unasked = garden.run(&["need", "dew-point", "--accept-license", "dew-point"]).expect(2);
    assert_eq!(unasked.code(), "rules.nothing-to-accept");
    garden.run(&["need", "moss-map", "--accept-license", "moss-map"]).expect(0);
    assert!(garden.read("gate/bibliotax.toml").contains("[rules.accepted]\nmoss-map = "));
    garden.run(&["install", "--sealed"]).expect(0);
}

#[test]
fn a_person_on_a_terminal_is_asked_and_shown_the_licence_s_text() {
    let garden = garden("", LICENSES);
    garden.write_tar("moss.tar", &[("LICENSE", b"Mozilla Public License\nline 2\n"), ("moss.txt", b"moss")]);
    let card = json!({ "name": "moss-map", "version": "2.2.0", "published": "2026-03-01T09:00:00Z",
        "license": "MPL-2.0", "files": [{ "path": "moss.tar" }] });
    garden.load(&format!("{card}\n"));
    let before = garden.read("gate/bibliotax.toml");
    let (status, said) = garden.typed("need moss-map", "n\\n");
    assert!(said.contains("Mozilla Public License") && said.contains("(rules.declined)"), "{said}");
    assert_eq!((status, garden.read("gate/bibliotax.toml")), (7, before), "nothing is written: {said}");
    assert!(!garden.path("gate/bibliotax.lock").exists());
    let (status, said) = garden.typed("need moss-map", "t\\ny\\n");
    assert_eq!(status, 0, "{said}");
    assert!(said.contains("line 2") && said.contains("MPL-2.0 accepted for moss-map"), "{said}");
    assert!(garden.read("gate/bibliotax.toml").contains("[rules.accepted]"));
}

#[test]
fn what_is_locked_and_refused_later_stays_until_an_update_complies() {
    let garden = garden("rain-ledger = \"2\"\ndew-point = \"1\"\nbark-log = \"1\"", "");
    garden.run(&["install"]).expect(0);
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.5.0", "moss-map 3.0.0", "rain-ledger 2.4.0"]);
    let before = garden.read("gate/bibliotax.lock");
    garden.write("before.lock", &before);
    garden.write("gate/bibliotax.toml", &without_rules(&garden));
    let bars = "barred = { dew-point = { range = \"1.5\", reason = \"wrong table\" } }";
    add_rules(&garden, &format!("{LICENSES}\n{bars}"));
    assert!(garden.run(&["check", "--only", "lock.stale"]).expect(1).stdout.contains("(lock.stale)"));
    garden.run(&["install"]).expect(0);
    assert_eq!(locked(&garden)[1..3], ["dew-point 1.5.0", "moss-map 3.0.0"]);
    assert_snapshot!(garden.run(&["check"]), @"
    error: the rules bar dew-point 1.5.0 (wrong table)  (rules.barred)
    error: the rules refuse AGPL-3.0-only, the licence of moss-map 3.0.0  (rules.licenses)
      try: `bibliotax update --comply` moves to what the rules allow, and as little else as possible; or add a waiver
    2 errors: 1 project, 4 packages
    ----- status 7
    ");
    assert_snapshot!(garden.run(&["update", "--comply"]), @"
    lock: 2 lowered
      lowered  dew-point  1.5.0 -> 1.4.0  2.0 KiB   MIT      needed here
      lowered  moss-map   3.0.0 -> 2.1.0  no files  MPL-2.0  needed by rain-ledger
    shelf: 1 package installed, 1 already there, 2.0 KiB downloaded (TIME)
    ----- stderr
    warning: moss-map 2.1.0 has the licence MPL-2.0, which nobody accepted yet; `bibliotax accept moss-map` does
    ----- status 0
    ");
    garden.run(&["check", "--only", "barred"]).expect(0);
    assert_eq!(locked(&garden), ["bark-log 1.1.0", "dew-point 1.4.0", "moss-map 2.1.0", "rain-ledger 2.4.0"]);
    let again = garden.run(&["update", "--comply"]).expect(0);
    assert!(again.stdout.contains("the rules allow all that is locked"), "{again}");
    // Nothing that the earlier lock had is reported again.
    garden.write("gate/bibliotax.lock", &before);
    garden.run(&["install"]).expect(0);
    let since = garden.run(&["check", "--since", "../before.lock"]).expect(0);
    assert!(since.stdout.contains("no problems found"), "{since}");
    garden.run(&["check", "--since", "nothing"]).expect(7);
}

#[test]
fn an_update_that_can_not_comply_shows_ways_out() {
    let garden = garden("dew-point = \"1.5\"", "");
    garden.run(&["install"]).expect(0);
    add_rules(&garden, "");
    garden.write("gate/bibliotax.toml", &without_rules(&garden));
    add_rules(&garden, "barred = { dew-point = { range = \"1.5\", reason = \"wrong table\" } }");
    garden.run(&["install"]).expect(0);
    assert_snapshot!(garden.run(&["update", "--comply"]), @r#"
    ----- stderr
    error: no versions satisfy all requirements  (resolve.conflict)
      gate-kiosk needs dew-point 1.5.
      The rules bar dew-point 1.5.0 (wrong table).
      So no release of dew-point is left.
    try: one of these; each was tried and works
      bibliotax need dew-point "1.4 .. 2"   # changes dew-point to 1.4.0
      bibliotax drop dew-point              # removes dew-point
    ----- status 4
    "#);
}

#[test]
fn a_waiver_holds_until_its_day_and_says_so_when_it_ended() {
    let rules = |until: &str| {
        format!(
            "{LICENSES}\n[[rules.waivers]]\nrule = \"licenses\"\npackage = \"moss-map\"\nreason = \"bought\"\nuntil = {until}"
        )
    };
    let garden = garden("moss-map = \"3\"", &rules("2026-03-02"));
    garden.run(&["install"]).expect(0);
    assert_eq!(locked(&garden), ["moss-map 3.0.0"]);
    garden.run(&["install", "--sealed"]).expect(0);
    let well = garden.run(&["check"]).expect(0);
    assert!(well.stdout.contains("no problems found, 1 waived finding"), "{well}");
    let json = garden.run(&["check", "--format", "json"]).expect(0).json();
    assert_eq!(json["findings"][0]["waived"], json!({ "reason": "bought", "until": "2026-03-02" }));
    let late = |args: &[&str]| {
        let at = (NOW + 2 * DAY).to_string();
        garden.ran(garden.command("gate", args).env("SOURCE_DATE_EPOCH", at).output().unwrap())
    };
    assert_snapshot!(late(&["check"]), @"
    error: the rules refuse AGPL-3.0-only, the licence of moss-map 3.0.0  (rules.licenses)
      try: `bibliotax update --comply` moves to what the rules allow, and as little else as possible; or add a waiver
    warning: the waiver of `licenses` for moss-map ended on 2026-03-02, 1 day ago  (rules.waiver-ended)
      try: fix what it excepted, or give it a new end if the reason still holds
    1 error, 1 warning: 1 project, 1 package
    ----- status 7
    ");
    assert_eq!(late(&["install", "--sealed"]).expect(7).code(), "rules.forbidden");
    garden.write("gate/bibliotax.toml", &without_rules(&garden));
    add_rules(&garden, &rules("2027-01-01").replace("moss-map", "dew-point"));
    let unused = garden.run(&["check", "--only", "waiver-unused", "--strict"]).expect(0);
    assert!(
        unused.stdout.contains("note: the waiver of `licenses` for dew-point excepts nothing any more"),
        "{unused}"
    );
}

#[test]
fn young_releases_wait_and_old_packages_are_told() {
    let garden = garden("dew-point = \"1\"", "min-age = \"5 days\"\nmax-age = \"1 year\"");
    let at = |days: i64, args: &[&str]| {
        let at = (NOW + days * DAY).to_string();
        garden.ran(garden.command("gate", args).env("SOURCE_DATE_EPOCH", at).output().unwrap())
    };
    let early = at(0, &["resolve"]).expect(4);
    assert!(
        early
            .stderr
            .contains("The rules want releases to be 5 days old, and all releases of dew-point are younger."),
        "{early}"
    );
    let one =
        json!({ "name": "dew-point", "version": "1.6.0", "published": "2026-03-05T09:00:00Z", "files": [] });
    garden.load(&format!("{one}\n"));
    at(6, &["install"]).expect(0);
    assert_eq!(locked(&garden), ["dew-point 1.5.0"]);
    let passed = at(6, &["need", "dew-point", "--dry-run"]).expect(0);
    assert!(
        passed.stdout.contains(
            "The rules want releases to be 5 days old, and dew-point 1.6.0 was published on 2026-03-05."
        ),
        "{passed}"
    );
    at(10, &["update"]).expect(0);
    assert!(garden.read("gate/bibliotax.lock").contains("\"version\":\"1.6.0\""));
    // A lock that was made elsewhere with younger releases isn't installed sealed.
    assert_eq!(at(8, &["install", "--sealed"]).expect(7).code(), "rules.forbidden");
    at(10, &["install", "--sealed"]).expect(0);
    let old = at(400, &["check"]).expect(0);
    assert!(
        old.stdout.contains("warning: dew-point had its last release on 2026-03-05, more than 1 year ago"),
        "{old}"
    );
    at(400, &["check", "--strict"]).expect(1);
}

#[test]
fn sources_branches_and_stand_ins_are_ruled() {
    let garden = garden("dew-point = \"1\"", "sources = [\"seedhouse/bark-*\", \"https://git.example/*\"]");
    let refused = garden.run(&["resolve"]).expect(4);
    assert!(
        refused
            .stderr
            .contains("The rules don't allow seedhouse as the source of all releases of dew-point."),
        "{refused}"
    );
    garden.write("gate/bibliotax.toml", &without_rules(&garden));
    garden.write("dew/bibliotax.toml", "[project]\nname = \"dew-point\"\nversion = \"1.9.0\"\n");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}[stand-ins]\ndew-point = {{ path = \"../dew\" }}\n"),
    );
    add_rules(&garden, "stand-ins = \"refuse\"");
    let refused = garden.run(&["resolve"]).expect(4);
    assert!(
        refused.stderr.contains("The rules don't allow stand-ins, and the folder ../dew stands in for"),
        "{refused}"
    );
    garden.write(
        "gate/bibliotax.toml",
        &garden.read("gate/bibliotax.toml").replace("\"refuse\"", "\"accept\""),
    );
    garden.run(&["install"]).expect(0);
    assert!(garden.run(&["check", "--strict"]).expect(0).stdout.contains("no problems found"));
}

#[test]
fn rules_for_a_purpose_or_for_some_packages_replace_the_general_ones() {
    let loose = "[rules.for.test]\nlicenses = { otherwise = \"accept\" }";
    let garden =
        garden("dew-point = \"1\"\n[needs-for.test]\nmoss-map = \"any\"", &format!("{LICENSES}\n{loose}"));
    garden.run(&["install", "--quiet"]).expect(0);
    garden.run(&["check"]).expect(0);
    assert!(locked(&garden).contains(&"moss-map 3.0.0".to_owned()));
    fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    let refused = garden.run(&["need", "rain-ledger", "moss-map", "3"]).expect(4);
    assert!(
        refused.stderr.contains("The rules refuse AGPL-3.0-only, the licence of moss-map 3.0.0."),
        "{refused}"
    );
    garden.write("gate/bibliotax.toml", &without_rules(&garden));
    add_rules(
        &garden,
        &format!(
            "{LICENSES}\n[rules.packages.\"moss-*\"]\nlicenses = {{ refuse = [\"MIT\"], otherwise = \"accept\" }}"
        ),
    );
    garden.run(&["need", "moss-map", "3"]).expect(0);
    garden.run(&["check"]).expect(0);
}

#[test]
fn faults_in_rules_are_shown_where_they_stand() {
    let garden = garden("dew-point = \"1\"", "licenses = { accept = [\"MTI\"] }");
    assert_snapshot!(garden.run(&["check"]), @r#"
    ----- stderr
    error: `MTI` is not an SPDX licence expression  (license.invalid)
      at bibliotax.toml:11:25
        10: [rules]
        11: licenses = { accept = ["MTI"] }
                                    ~~~ SPDX doesn't list this licence
    try: write `MIT`
    ----- status 3
    "#);
    garden.write("gate/bibliotax.toml", &without_rules(&garden));
    add_rules(&garden, "licenses = { otherwise = \"refuse\" }");
    assert_eq!(garden.run(&["check"]).expect(3).code(), "rules.refuses-all");
}

#[test]
fn a_name_in_two_registries_is_a_finding_until_somebody_says_which_is_meant() {
    let garden = garden("dew-point = \"1\"", "");
    garden.run(&["install"]).expect(0);
    garden.run_in(".", &["registry", "create", "other"]).expect(0);
    let card =
        json!({ "name": "dew-point", "version": "9.0.0", "published": "2026-03-01T09:00:00Z", "files": [] });
    garden.write("other.jsonl", &format!("{card}\n"));
    garden.run_in(".", &["registry", "load", "other", "other.jsonl"]).expect(0);
    let both = |line: &str| {
        let manifest = garden.read("gate/bibliotax.toml");
        garden.write(
            "gate/bibliotax.toml",
            &manifest.replace("[registries]\n", &format!("[registries]\n{line}\n")),
        );
    };
    both("other = \"../other\"");
    garden.run(&["install"]).expect(0);
    let found = garden.run(&["check"]).expect(1);
    assert!(found.stdout.contains("error: dew-point is in seedhouse and in other  (shared-name)"), "{found}");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &manifest.replace("dew-point = \"1\"", "dew-point = { range = \"1\", from = \"seedhouse\" }"),
    );
    garden.run(&["install"]).expect(0);
    garden.run(&["check"]).expect(0);
}

#[test]
fn a_shelf_that_lags_behind_the_lock_is_a_warning() {
    let garden = garden("dew-point = \"1.4\"", "");
    garden.run(&["install"]).expect(0);
    garden.write("gate/bibliotax.toml", &garden.read("gate/bibliotax.toml").replace("\"1.4\"", "\"1.5\""));
    garden.run(&["resolve"]).expect(0);
    let found = garden.run(&["check", "--strict"]).expect(1);
    assert!(found.stdout.contains("warning: the shelf isn't what the lock says  (shelf.stale)"), "{found}");
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["check", "--strict"]).expect(0);
}

#[test]
fn a_check_without_a_network_uses_what_is_known() {
    let garden = garden("dew-point = \"1\"", LICENSES);
    let served = crate::server::serve(&garden);
    let manifest =
        garden.read("gate/bibliotax.toml").replace("\"../seedhouse\"", &format!("\"{}\"", served.url));
    garden.write("gate/bibliotax.toml", &manifest);
    garden.run(&["install"]).expect(0);
    drop(served);
    garden.run(&["check", "--offline"]).expect(0);
    let (status, _) = run_with_input(&garden, &["check"], "", None);
    assert_eq!(status, 5, "a check that can't ask says so");
}
