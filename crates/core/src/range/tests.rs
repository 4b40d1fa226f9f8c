//! Ranges against a brute-force reading of the grammar over a grid of versions.

use proptest::prelude::*;

use super::{Range, VersionSet};
use crate::version::{Point, Version};

fn range(text: &str) -> Range {
    text.parse().unwrap_or_else(|fault| panic!("{text}: {fault}"))
}

fn accepts(text: &str, version: &str) -> bool {
    range(text).accepts(&version.parse().unwrap())
}

/// Final versions and pre-releases around every boundary that the generators below can make.
fn grid() -> Vec<Version> {
    let numbers = (0..4).flat_map(|a| (0..3).flat_map(move |b| (0..3).map(move |c| format!("{a}.{b}.{c}"))));
    let pres = ["", "-0", "-a", "-a.0", "-a.1", "-b"];
    let mut texts: Vec<String> =
        numbers.flat_map(|number| pres.iter().map(move |pre| format!("{number}{pre}"))).collect();
    texts.extend(["1.1.1.1", "1.1.1.1-a", "9", "9-a"].map(String::from));
    texts.iter().map(|text| text.parse().unwrap()).collect()
}

/// A bound as the tests understand it: its text, and whether a version is in it by plain comparison.
#[derive(Debug, Clone)]
struct Plain {
    mark: &'static str,
    from: Version,
    to: Version,
}

impl Plain {
    fn text(&self) -> String {
        match self.mark {
            "any" => "any".into(),
            "begins" => self.from.to_string(),
            ".." => format!("{} .. {}", self.from, self.to),
            "a.." => format!("{} ..", self.from),
            "..b" => format!(".. {}", self.to),
            mark => format!("{mark} {}", self.from),
        }
    }

    fn names(&self) -> Vec<&Version> {
        match self.mark {
            "any" => vec![],
            ".." => vec![&self.from, &self.to],
            "..b" => vec![&self.to],
            _ => vec![&self.from],
        }
    }

    fn holds(&self, version: &Version) -> bool {
        let before_end =
            |to: &Version| version < to && (to.is_pre() || version.point().numeric != to.point().numeric);
        match self.mark {
            "any" => true,
            "begins" if self.from.is_pre() => *version == self.from,
            "begins" => {
                version.point().numeric[..self.from.parts()] == self.from.point().numeric[..self.from.parts()]
            }
            "=" => *version == self.from,
            "!=" => *version != self.from,
            ">=" => *version >= self.from,
            ">" => *version > self.from,
            "<=" => *version <= self.from,
            "<" => *version < self.from,
            ".." => *version >= self.from && before_end(&self.to),
            "a.." => *version >= self.from,
            _ => before_end(&self.to),
        }
    }
}

fn plain_accepts(clauses: &[Vec<Plain>], version: &Version, prereleases: bool) -> bool {
    clauses.iter().any(|clause| {
        let named = clause.iter().flat_map(Plain::names);
        let asked = named.filter(|v| v.is_pre()).any(|v| v.point().numeric == version.point().numeric);
        (prereleases || !version.is_pre() || asked) && clause.iter().all(|bound| bound.holds(version))
    })
}

fn versions() -> impl Strategy<Value = Version> {
    const TEXTS: [&str; 13] = [
        "0",
        "1",
        "2",
        "3",
        "1.1",
        "1.2",
        "2.0",
        "2.1.1",
        "1.1.1.1",
        "1.0.0-a",
        "1.1.1-a.1",
        "2.0.0-b",
        "2-0",
    ];
    proptest::sample::select(&TEXTS[..]).prop_map(|text| text.parse().unwrap())
}

fn bounds() -> impl Strategy<Value = Plain> {
    const MARKS: [&str; 11] = ["any", "begins", "=", "!=", ">=", ">", "<=", "<", "..", "a..", "..b"];
    (proptest::sample::select(&MARKS[..]), versions(), versions()).prop_map(|(mark, from, to)| Plain {
        mark,
        from,
        to,
    })
}

fn clauses() -> impl Strategy<Value = Vec<Vec<Plain>>> {
    proptest::collection::vec(proptest::collection::vec(bounds(), 1..4), 1..4)
}

fn text_of(clauses: &[Vec<Plain>]) -> String {
    let clause = |clause: &Vec<Plain>| clause.iter().map(Plain::text).collect::<Vec<_>>().join(", ");
    clauses.iter().map(clause).collect::<Vec<_>>().join(" | ")
}

/// The set of a generated range; `None` where the range is refused as empty, which then must be true.
fn checked_set(clauses: &[Vec<Plain>]) -> Option<Range> {
    match text_of(clauses).parse::<Range>() {
        Ok(range) => Some(range),
        Err(fault) => {
            assert_eq!(fault.code, "range.empty", "{}", text_of(clauses));
            assert!(
                grid().iter().all(|version| !plain_accepts(clauses, version, true)),
                "{}",
                text_of(clauses)
            );
            None
        }
    }
}

fn members(set: &VersionSet) -> Vec<bool> {
    grid().iter().map(|version| set.contains(version.point())).collect()
}

fn pairwise(a: &VersionSet, b: &VersionSet, f: impl Fn(bool, bool) -> bool) -> Vec<bool> {
    members(a).into_iter().zip(members(b)).map(|(a, b)| f(a, b)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    #[test]
    fn accepts_what_a_plain_reading_accepts(clauses in clauses()) {
        if let Some(range) = checked_set(&clauses) {
            for version in grid() {
                for prereleases in [false, true] {
                    let is = range.set(prereleases).contains(version.point());
                    prop_assert_eq!(is, plain_accepts(&clauses, &version, prereleases), "{} {}", range, version);
                }
            }
        }
    }

    #[test]
    fn and_or_not_are_those_of_sets(a in clauses(), b in clauses()) {
        if let (Some(a), Some(b)) = (checked_set(&a), checked_set(&b)) {
            let (a, b) = (a.set(false), b.set(false));
            prop_assert_eq!(members(&a.and(b)), pairwise(a, b, |a, b| a && b));
            prop_assert_eq!(members(&a.or(b)), pairwise(a, b, |a, b| a || b));
            prop_assert_eq!(members(&a.not()), pairwise(a, a, |a, _| !a));
            prop_assert_eq!(&a.not().not(), a);
            prop_assert_eq!(a.and(b).not(), a.not().or(&b.not()));
            prop_assert_eq!(a == b, a.and(&b.not()).or(&b.and(&a.not())).is_none());
        }
    }

    #[test]
    fn printing_and_reading_again_changes_nothing(clauses in clauses()) {
        if let Some(range) = checked_set(&clauses) {
            let printed = range.to_string();
            let again = printed.parse::<Range>().unwrap();
            prop_assert_eq!(&again, &range);
            prop_assert_eq!(again.to_string(), printed);
        }
    }

    #[test]
    fn a_set_prints_as_a_range_that_is_the_set(clauses in clauses()) {
        if let Some(range) = checked_set(&clauses) && !range.set(false).is_none() {
            let again = range.set(false).to_string().parse::<Range>().unwrap();
            prop_assert_eq!(again.set(false), range.set(false), "{}", range.set(false));
        }
    }

    #[test]
    fn any_text_gets_an_answer_with_a_span_inside_it(text in "[0-9a-zA-Z.,<>=!^~ |*+\\-\\[\\]/:%é\t]{0,40}") {
        for text in [text.clone(), format!("vers:{text}"), format!("vers:semver/{text}")] {
            if let Err(fault) = text.parse::<Range>() {
                prop_assert!(text.get(fault.span.clone()).is_some(), "{text:?} {:?}", fault.span);
            }
        }
    }
}

#[test]
fn the_table_of_the_formats_holds() {
    let rows = [
        ("any", "0.1", true),
        ("any", "1.0.0-rc.1", false),
        ("2", "2.9.4", true),
        ("2", "20", false),
        ("2.4", "2.4.9", true),
        ("2.4.1", "2.4.1.7", true),
        ("= 2.4.1", "2.4.1.7", false),
        ("!= 2.5.0", "2.5", false),
        ("2.4 .. 3", "2.4.0", true),
        ("2.4 .. 3", "3.0.0", false),
        (".. 3", "3.0.0-rc.1", false),
        (">= 3.0.0-rc.1", "3.0.0-rc.2", true),
        (">= 3.0.0-rc.1", "3.1.0-rc.1", false),
        ("2.4 .. 3, != 2.5.0 | 4", "4.1", true),
        ("2.4..3", "2.5", true),
        ("vers:semver/>=2.4|<3", "2.9", true),
        ("vers:generic/>=2.4|!=2.5|<3|4.0", "2.5", false),
        ("vers:semver/*", "7", true),
        ("vers:semver/!=2", "2", false),
        ("vers:semver/<1%2E5", "1.4", true),
    ];
    for (text, version, expected) in rows {
        assert_eq!(accepts(text, version), expected, "{text} with {version}");
    }
    let before_three: Point = "3.0.0-rc.1".parse::<Version>().unwrap().point().clone();
    assert!(
        !range(".. 3").set(true).contains(&before_three),
        "the end of a span keeps out its own pre-releases"
    );
    assert!(range("< 3").set(true).contains(&before_three), "a comparison goes by the order alone");
}

#[test]
fn a_vers_range_is_the_same_set_as_the_words() {
    for (vers, words) in [
        ("vers:semver/>=2.4|<3", ">= 2.4, < 3"),
        ("vers:semver/1.0|>2|<=3|!=2.5", "> 2, <= 3, != 2.5 | = 1.0"),
        ("vers:generic/<1|>=2", "< 1 | >= 2"),
    ] {
        assert_eq!(range(vers), range(words));
    }
}

#[test]
fn bad_ranges_point_at_the_character_and_offer_what_was_meant() {
    let rows = [
        ("", 0..0, "range.unexpected", None),
        (">= ", 3..3, "range.unexpected", Some("write `>= 1.0`")),
        ("3 .. 2", 0..6, "range.empty", Some("write `2 .. 3`")),
        ("> 3, < 2", 0..8, "range.empty", None),
        ("1.x", 2..3, "version.invalid", Some("write `1`")),
        ("1.2.*", 4..5, "version.invalid", Some("write `1.2`")),
        ("*", 0..1, "range.unexpected", Some("write `any`")),
        ("^1", 0..2, "range.unexpected", Some("write `1`")),
        ("^1.2.3", 0..6, "range.unexpected", Some("write `1.2.3 .. 2`")),
        ("~1.2.3", 0..6, "range.unexpected", Some("write `1.2.3 .. 1.3`")),
        ("==2.0", 1..2, "range.unexpected", Some("write `= 2.0`")),
        (">=1 <2", 4..5, "range.unexpected", Some("write `>= 1, < 2`")),
        ("1 || 2", 3..4, "range.unexpected", Some("write `1 | 2`")),
        ("[1.2,2)", 0..4, "range.unexpected", Some("write `>= 1.2, < 2`")),
        ("1.2 - 2", 4..5, "range.unexpected", Some("write `1.2 .. 2`")),
        ("v2.4", 0..4, "range.unexpected", Some("write `2.4`")),
        ("2,", 2..2, "range.unexpected", None),
        ("2 |", 3..3, "range.unexpected", None),
        ("vers:other/>=1", 5..10, "range.scheme", None),
        ("vers:semver/>=1|>=1.0", 12..21, "range.unexpected", None),
    ];
    for (bad, span, code, advice) in rows {
        let fault = bad.parse::<Range>().unwrap_err();
        let advice = advice.or(fault.advice.as_deref().filter(|_| code == "range.scheme"));
        assert_eq!(
            (fault.span.clone(), fault.code, fault.advice.as_deref()),
            (span, code, advice),
            "{bad}: {fault:?}"
        );
    }
}

#[test]
fn a_need_without_a_range_is_written_from_its_version_to_the_next_breaking_one() {
    for (version, written) in
        [("2.4.0", "2.4 .. 3"), ("2.4.1", "2.4.1 .. 3"), ("0.9.2", "0.9.2 .. 0.10"), ("3", "3 .. 4")]
    {
        assert_eq!(Range::from_version(&version.parse().unwrap()).to_string(), written);
    }
}
