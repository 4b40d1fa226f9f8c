//! Licences against truth tables, ages, sources, and the order of sets.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use proptest::prelude::*;

use super::*;
use crate::lock::samples::test_source;
use crate::manifest::Manifest;
use crate::source::Source;

fn rules(text: &str) -> Arc<Rules> {
    Manifest::read(&format!("[project]\nname = \"gate-kiosk\"\n[rules]\n{text}\n")).unwrap().rules
}

fn verdict(lists: &str, license: &str) -> LicenseVerdict {
    let rules = rules(&format!("licenses = {{ {lists} }}"));
    let license = (license != NO_LICENSE).then(|| license.parse().unwrap());
    rules.own.general.licenses.as_ref().unwrap().verdict(license.as_ref())
}

#[test]
fn expressions_are_held_against_lists() {
    use LicenseVerdict::{Accept, Ask, Refuse};
    let lists = "accept = ['MIT', 'Apache-2.0', 'BSD-2-Clause OR BSD-3-Clause', 'GPL-2.0-only WITH Classpath-exception-2.0'], \
        ask = ['MPL-2.0', 'LGPL-2.1-or-later'], refuse = ['AGPL-3.0-or-later', 'MIT AND LicenseRef-garden']";
    let rows = [
        ("MIT", Accept),
        ("MIT OR AGPL-3.0-only", Accept),
        ("MIT AND AGPL-3.0-only", Refuse),
        ("MIT AND MPL-2.0", Ask),
        ("BSD-3-Clause", Accept),
        ("(MPL-2.0 OR Apache-2.0) AND BSD-2-Clause", Accept),
        ("AGPL-3.0-or-later", Refuse),
        ("LGPL-3.0-only", Ask),
        ("LGPL-2.0-or-later", Ask),
        ("LGPL-2.0-only", Ask),
        ("GPL-2.0-only WITH Classpath-exception-2.0", Accept),
        ("GPL-2.0-only", Ask),
        ("LicenseRef-garden", Ask),
        ("LicenseRef-garden AND MIT", Refuse),
        (NO_LICENSE, Ask),
    ];
    for (license, expected) in rows {
        assert_eq!(verdict(lists, license), expected, "{license}");
    }
    assert_eq!(verdict("accept = ['GPL-3.0-only'], otherwise = 'refuse'", "GPL-2.0-or-later"), Accept);
    assert_eq!(verdict("accept = ['GPL-2.0-or-later'], otherwise = 'refuse'", "GPL-3.0-only"), Accept);
    assert_eq!(verdict("accept = ['GPL-2.0-only'], otherwise = 'refuse'", "GPL-3.0-only"), Refuse);
    assert_eq!(verdict("accept = ['Apache-2.0'], otherwise = 'refuse'", "Apache-1.1+"), Accept);
    assert_eq!(verdict("accept = ['MIT', 'NOASSERTION'], otherwise = 'refuse'", NO_LICENSE), Accept);
    assert_eq!(verdict("refuse = ['NOASSERTION'], otherwise = 'accept'", NO_LICENSE), Refuse);
}

#[test]
fn an_expression_with_endless_choices_is_not_accepted_unread() {
    let pairs: Vec<String> = (0..40).map(|at| format!("(LicenseRef-a{at} OR LicenseRef-b{at})")).collect();
    assert_eq!(verdict("otherwise = 'accept'", &pairs.join(" AND ")), LicenseVerdict::Ask);
}

const LICENSES: [&str; 5] = ["MIT", "ISC", "MPL-2.0", "LicenseRef-garden", "Zlib"];

/// An expression of generated licences.
#[derive(Debug, Clone)]
enum Generated {
    One(usize),
    And(Box<Generated>, Box<Generated>),
    Or(Box<Generated>, Box<Generated>),
}

impl Generated {
    fn text(&self) -> String {
        match self {
            Self::One(at) => LICENSES[*at].to_owned(),
            Self::And(one, other) => format!("({} AND {})", one.text(), other.text()),
            Self::Or(one, other) => format!("({} OR {})", one.text(), other.text()),
        }
    }

    /// Whether it is satisfied by these licences: a bit for each.
    fn holds(&self, licenses: u32) -> bool {
        match self {
            Self::One(at) => licenses >> at & 1 == 1,
            Self::And(one, other) => one.holds(licenses) && other.holds(licenses),
            Self::Or(one, other) => one.holds(licenses) || other.holds(licenses),
        }
    }
}

fn expressions() -> impl Strategy<Value = Generated> {
    (0..LICENSES.len()).prop_map(Generated::One).prop_recursive(4, 12, 2, |inner| {
        let pair = (inner.clone(), inner);
        (pair, any::<bool>()).prop_map(|((one, other), both)| {
            let (one, other) = (Box::new(one), Box::new(other));
            if both { Generated::And(one, other) } else { Generated::Or(one, other) }
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn verdicts_are_those_of_a_truth_table(
        expression in expressions(), said in proptest::collection::vec(0..4_usize, LICENSES.len()), otherwise in 0..3_usize
    ) {
        let verdicts = LicenseVerdict::WORDS;
        let list = |number: usize| {
            let listed = LICENSES.iter().zip(&said).filter(|(_, list)| **list == number);
            listed.map(|(license, _)| format!("'{license}', ")).collect::<String>()
        };
        // Rules that refuse everything are refused themselves.
        prop_assume!(otherwise != 2 || said.iter().any(|list| *list < 2));
        let lists = format!(
            "accept = [{}], ask = [{}], refuse = [{}], otherwise = '{}'",
            list(0), list(1), list(2), verdicts[otherwise].0
        );
        let of_license = |at: usize| verdicts[if said[at] < 3 { said[at] } else { otherwise }].1;
        let of_set = |set: u32| (0..LICENSES.len()).filter(|at| set >> at & 1 == 1).map(of_license).max();
        let satisfying = (1..1_u32 << LICENSES.len()).filter(|set| expression.holds(*set));
        let expected = satisfying.filter_map(of_set).min().unwrap();
        prop_assert_eq!(verdict(&lists, &expression.text()), expected, "{} with {}", expression.text(), lists);
    }
}

#[test]
fn ages_are_those_of_the_calendar() {
    let now = "2026-03-31T12:00:00Z".parse().unwrap();
    let rows = [
        ("5 days", "2026-03-26T12:00:00Z"),
        ("2 weeks", "2026-03-17T12:00:00Z"),
        ("1 month", "2026-02-28T12:00:00Z"),
        ("36 hours", "2026-03-30T00:00:00Z"),
        ("3 years", "2023-03-31T12:00:00Z"),
    ];
    for (text, before) in rows {
        let age: Age = text.parse().unwrap();
        assert_eq!(age.before(now).to_string(), before, "{text}");
    }
    for text in ["5", "days", "-5 days", "200 years", "", "5 fortnights", "P5D ago"] {
        assert_eq!(text.parse::<Age>().unwrap_err().code, "rules.age", "{text}");
    }
}

#[test]
fn sources_are_registries_packages_of_them_or_places() {
    let covers = |pattern: &str, package: &str, source: &Source| {
        SourcePattern::new(pattern).covers(&package.parse().unwrap(), source)
    };
    let seedhouse = test_source("seedhouse");
    for (pattern, expected) in [
        ("seedhouse", true),
        ("seedhouse/moss-*", true),
        ("seedhouse/dew-*", false),
        ("seed", false),
        ("*", true),
        ("seedhouse*", false),
    ] {
        assert_eq!(covers(pattern, "moss-map", &seedhouse), expected, "{pattern}");
    }
    let folder = Source::folder("../moss-map");
    assert!(covers("../*", "moss-map", &folder) && !covers("seedhouse", "moss-map", &folder));
}

#[test]
fn the_most_specific_set_that_mentions_a_rule_decides() {
    let rules = rules(
        "deprecated = 'refuse'\nmoving = 'refuse'\n[rules.for.test]\ndeprecated = 'accept'\n\
         [rules.packages.'moss-*']\ndeprecated = 'warn'\n[rules.packages.moss-map]\nmoving = 'accept'\n[rules.packages.'moss-map*']\nmoving = 'warn'",
    );
    let test = "test".parse().unwrap();
    let stances = |scope, package: &str| {
        let rules = rules.own.for_package(scope, &package.parse().unwrap());
        let stance = |stated: Option<&Stance>| stated.copied().unwrap_or_default();
        (stance(rules.get(|set| set.deprecated.as_ref())), stance(rules.get(|set| set.moving.as_ref())))
    };
    assert_eq!(stances(None, "dew-point"), (Stance::Refuse, Stance::Refuse));
    assert_eq!(stances(Some(&test), "dew-point"), (Stance::Accept, Stance::Refuse));
    assert_eq!(stances(Some(&test), "moss-map"), (Stance::Warn, Stance::Accept));
    assert_eq!(stances(None, "moss-maps"), (Stance::Warn, Stance::Warn));
}

#[test]
fn every_fault_in_rules_has_its_code_and_advice() {
    let rows = [
        ("licenses = { accept = ['Apache'] }", "license.invalid", "`Apache-2.0`"),
        ("licenses = { accept = ['MTI'] }", "license.invalid", "`MIT`"),
        ("licenses = { accept = ['MIT'], refuse = ['ISC', 'MIT'] }", "rules.contradiction", "one of them"),
        (
            "licenses = { accept = ['NOASSERTION'], ask = ['NOASSERTION'] }",
            "rules.contradiction",
            "one of them",
        ),
        ("licenses = { refuse = ['MIT'], otherwise = 'refuse' }", "rules.refuses-all", "accept = "),
        ("licenses = { otherwise = 'deny' }", "manifest.rule", "`accept`, `ask` or `refuse`"),
        ("sources = []", "rules.refuses-all", "sources = "),
        ("withdrawn = 'accepts'", "manifest.rule", "`accept`"),
        ("min-age = '5 dayz'", "rules.age", "5 days"),
        ("min-age = 5", "manifest.wrong-kind", ""),
        ("barred = { moss-map = { range = '3' } }", "rules.no-reason", "reason = "),
        ("barred = { moss-map = { range = '3', reason = ' ' } }", "rules.no-reason", "reason = "),
        ("accepted = { moss-map = { range = '3' } }", "rules.no-license", "license = "),
        (
            "[[rules.waivers]]\nrule = 'barred'\npackage = 'moss-map'\nuntil = '2027-01-31'",
            "rules.no-reason",
            "reason = ",
        ),
        (
            "[[rules.waivers]]\nrule = 'barred'\npackage = 'moss-map'\nreason = 'x'",
            "rules.waiver",
            "until = ",
        ),
        (
            "[[rules.waivers]]\nrule = 'barred'\nuntil = 2027-01-31\nreason = 'x'",
            "rules.waiver",
            "package = ",
        ),
        (
            "[[rules.waivers]]\nrule = 'bard'\npackage = 'moss-map'\nuntil = 2027-01-31\nreason = 'x'",
            "manifest.rule",
            "`barred`",
        ),
        (
            "[[rules.waivers]]\nrule = 'barred'\npackage = 'moss-map'\nuntil = '31.1.2027'\nreason = 'x'",
            "rules.date",
            "2027-01-31",
        ),
        ("waivers = 'none'", "manifest.wrong-kind", ""),
        ("[rules.for.test]\nwaivers = []", "manifest.unknown-key", ""),
    ];
    for (text, code, advice) in rows {
        let manifest = format!("[project]\nname = \"gate-kiosk\"\n[rules]\n{text}\n");
        let faults = Manifest::read(&manifest).unwrap_err();
        assert_eq!(faults[0].code, code, "{text}: {faults:?}");
        let advised = faults[0].advice.as_deref().unwrap_or_default();
        assert!(advised.contains(advice), "{text}: {advised}");
    }
}

#[test]
fn what_decides_no_candidate_leaves_a_lock_as_it_is() {
    let text = |rules: &str| serde_json::to_string(&self::rules(rules).deciding()).unwrap();
    assert_eq!(
        text("accepted = { moss-map = { license = 'MIT' } }\nmax-age = '3 years'\nwithdrawn = 'refuse'"),
        text("")
    );
    assert_ne!(text("min-age = '3 days'"), text(""));
    let all: BTreeSet<String> = Rule::WORDS.iter().map(|(word, _)| (*word).to_owned()).collect();
    let keys: BTreeMap<String, serde_json::Value> = serde_json::from_value(
        serde_json::to_value(
            Rule::WORDS.map(|(word, rule)| (word, rule)).into_iter().collect::<BTreeMap<_, _>>(),
        )
        .unwrap(),
    )
    .unwrap();
    assert!(keys.iter().all(|(word, rule)| all.contains(word) && rule == word.as_str()));
}

/// These rules with those of a charter beside them.
fn chartered(own: &str, of_charter: &str) -> Rules {
    let charter = CharterRelease { name: "season".parse().unwrap(), version: "1".parse().unwrap() };
    let sets = rules(of_charter).own.clone();
    Rules { charters: vec![CharterRules { charter, sets }], ..(*rules(own)).clone() }
}

/// What rules say of a deprecated release with a licence: each rule with what is said and whether a charter says it.
fn judged(rules: &Rules, license: &str) -> Vec<(Rule, Stance, bool)> {
    let mut card = crate::card::Card::bare("moss-map".parse().unwrap(), "3".parse().unwrap(), Timestamp::MIN);
    card.license = Some(license.parse().unwrap());
    let mut release = crate::history::Release::new(card.entry(crate::digest::Digest::of(b"")));
    let reason = "slow".to_owned();
    let (range, at) = (Range::any(), Timestamp::MIN);
    release.deprecated = Some(crate::card::Deprecation { range, reason, instead: None, at });
    let source = test_source("seedhouse");
    let subject =
        Subject { release: &release, source: &source, is_stand_in: false, advisories: &[], before: None };
    let breaches = rules.breaches(None, &subject, Timestamp::MIN).into_iter();
    breaches.map(|breach| (breach.rule, breach.stance, breach.charter.is_some())).collect()
}

#[test]
fn of_a_workspace_and_its_charters_the_stricter_wins() {
    let rows = [
        ("", "", vec![(Rule::Deprecated, Stance::Warn, false)]),
        ("deprecated = 'accept'", "", vec![]),
        ("deprecated = 'accept'", "deprecated = 'refuse'", vec![(Rule::Deprecated, Stance::Refuse, true)]),
        ("deprecated = 'refuse'", "deprecated = 'accept'", vec![(Rule::Deprecated, Stance::Refuse, false)]),
        (
            "deprecated = 'accept'",
            "licenses = { refuse = ['MIT'] }",
            vec![(Rule::Licenses, Stance::Refuse, true)],
        ),
        (
            "deprecated = 'accept'\nlicenses = { accept = ['MIT'] }",
            "licenses = { ask = ['MIT'] }",
            vec![(Rule::Licenses, Stance::Warn, true)],
        ),
        // What a person accepted is accepted for charters as well.
        (
            "deprecated = 'accept'\naccepted.moss-map = { license = 'MIT' }",
            "licenses = { ask = ['MIT'] }",
            vec![],
        ),
    ];
    for (own, of_charter, expected) in rows {
        assert_eq!(judged(&chartered(own, of_charter), "MIT"), expected, "{own} with {of_charter}");
    }
}

#[test]
fn purposes_and_ages_of_charters_count_beside_those_of_a_workspace() {
    let rules = chartered("max-age = '3 years'", "max-age = '2 years'\n[rules.for.test]\nmoving = 'accept'");
    let test = "test".parse().unwrap();
    assert_eq!(rules.scopes(), [None, Some(&test)]);
    assert_eq!(rules.scope_of(Some(&test)), Some(&test));
    let now = "2026-03-01T00:00:00Z".parse().unwrap();
    assert_eq!(rules.max_age(&"moss-map".parse().unwrap(), now).unwrap().to_string(), "2 years");
    let facet = "os".parse().unwrap();
    let undeclared = chartered("undeclared = 'accept'", "undeclared = { os = 'refuse' }");
    let (stance, charter) = undeclared.undeclared(None, &"moss-map".parse().unwrap(), &facet);
    assert_eq!((stance, charter.is_some()), (Stance::Refuse, true));
}

#[test]
fn rules_of_charters_are_read_back_as_they_are_published() {
    let sets = rules(
        "licenses = { accept = ['MIT OR Apache-2.0'], refuse = ['NOASSERTION'], otherwise = 'refuse' }\nmin-age = '5 days'\n\
         barred = { moss-map = { reason = 'leaks' } }\nsources = ['seedhouse']\nundeclared = 'refuse'\nadvisories = { refuse = 'high' }\n\
         [rules.for.test]\nmoving = 'accept'\n[rules.packages.'moss-*']\ndeprecated = 'refuse'\n[rules.packages.moss-map]\ndeprecated = 'warn'",
    );
    let text = serde_json::to_string(&sets.own).unwrap();
    assert_eq!(serde_json::from_str::<RuleSets>(&text).unwrap(), sets.own);
    // The more specific pattern comes last, in whichever order somebody wrote them.
    let turned = r#"{"packages":[["moss-map",{"deprecated":"warn"}],["moss-*",{"deprecated":"refuse"}]]}"#;
    assert_eq!(serde_json::from_str::<RuleSets>(turned).unwrap().packages, sets.own.packages);
    for wrong in
        [r#"{"general":{"min-age":"5 moons"}}"#, r#"{"general":{"licences":{}}}"#, r#"{"waivers":[]}"#]
    {
        assert!(serde_json::from_str::<RuleSets>(wrong).is_err(), "{wrong}");
    }
}
