//! Larger universes, thousands of them: a resolution satisfies all, and an explanation is a conflict by itself.
//!
//! Conflicts are read back from their sentences, word by word, as a person would check them.

use std::collections::BTreeSet;

use super::grown::grown;
use super::sat::{MAX_PLACES, Releases, Rule, Where, is_possible, rules};
use super::taken::check_taken;
use super::*;
use crate::charter::{CharterBounds, CharterRelease};
use crate::resolve::universe::Extra;

/// Reads a sentence of a conflict.
fn read(registry: &Registry, problem: &Problem, sentence: &str) -> Rule {
    let sentence = sentence.strip_suffix('.').unwrap();
    if let Some((place, what)) = sentence.split_once(" is at level ") {
        let number = problem.places.iter().position(|other| other.name == place).unwrap();
        let (_, who) = what.split_once(", and ").unwrap();
        let end = [" asks for ", " ask for ", " doesn't declare ", " don't declare "];
        let who = end.iter().find_map(|end| who.split_once(end)).unwrap().0;
        let who = who.replace("all releases of", "All releases of");
        return Rule::Unfit(releases(registry, &who), number, None);
    }
    if let Some((place, what)) = sentence.split_once(" has level ") {
        let number = problem.places.iter().position(|other| other.name == place).unwrap();
        let (_, who) = what.split_once(", and ").unwrap();
        let (who, _) = who.split_once(" has ").or_else(|| who.split_once(" have ")).unwrap();
        let who = who.replace("all releases of", "All releases of");
        let (who, extra) = with_extra(&who);
        return Rule::Unfit(releases(registry, who), number, extra);
    }
    if let Some(rest) = sentence.strip_prefix("A provider of ") {
        return Rule::Provided(package(rest.split_once(' ').unwrap().0));
    }
    if let Some((who, _)) = sentence.split_once(" was withdrawn").or(sentence.split_once(" were withdrawn")) {
        return Rule::Never(releases(registry, who));
    }
    if let Some(who) = sentence.strip_prefix("The rules refuse AGPL-3.0-only, the licence of ") {
        return Rule::Never(releases(registry, &who.replace("all releases of", "All releases of")));
    }
    if let Some(rest) = sentence.strip_prefix("The charter forest 1 allows ") {
        return allowed(registry, rest);
    }
    if let Some((one, rest)) =
        sentence.split_once(" and ").filter(|_| sentence.contains(" belong to the family "))
    {
        let (other, rest) = rest.split_once(" belong to the family ").unwrap();
        let (family, _) = rest.split_once(", which has one version").unwrap();
        return Rule::InStep(package(one), package(other), family.parse().unwrap());
    }
    if let Some(rest) = sentence.strip_prefix("gate-kiosk keeps the family ") {
        let (family, rest) = rest.split_once(", which ").unwrap();
        let (name, range) = rest.split_once(" belongs to, at ").unwrap();
        let name = package(name);
        return Rule::Kept(name, family.parse().unwrap(), spoken(range));
    }
    if let Some((who, what)) = sentence.split_once(" can't be used with ") {
        let (name, range) = what.split_once(' ').unwrap();
        return Rule::Bars(releases(registry, who), package(name), spoken(range));
    }
    let needs = sentence.split_once(" needs ").or_else(|| sentence.split_once(" need ")).unwrap();
    let (who, what) = needs;
    let (what, targets) =
        what.split_once(", for ").map_or((what, None), |(what, targets)| (what, Some(targets)));
    let (what, level) =
        what.split_once(", where level is ").map_or((what, None), |(what, level)| (what, Some(level)));
    let named: Option<Vec<String>> = targets.map(|names| names.split(" and ").map(str::to_owned).collect());
    let place = match level {
        Some(level) => Where::from(problem, Some(level.parse().unwrap())),
        None => Where::named(problem, named.as_ref()),
    };
    let (what, bare) = what.strip_prefix("bare ").map_or((what, false), |what| (what, true));
    let (name, range) = what.split_once(' ').unwrap();
    let range = range.split(", provided by ").next().unwrap().split(", which no").next().unwrap();
    let (range, components) = range.split_once(" with ").unwrap_or((range, ""));
    let components = components.split(" and ").filter(|name| !name.is_empty());
    let wants = Wants { components: components.map(|name| name.parse().unwrap()).collect(), bare };
    let (who, extra) = with_extra(who);
    let who = (who != problem.projects[0].name.as_str()).then(|| releases(registry, who));
    Rule::Needs(who, extra, package(name), spoken(range), place, wants)
}

/// `bed-n3 1 .. 2` or `the family trees, which bed-n3 belongs to, 2`: the releases that aren't allowed.
fn allowed(registry: &Registry, text: &str) -> Rule {
    let (family, name, range) = match text.strip_prefix("the family ") {
        Some(rest) => {
            let (family, rest) = rest.split_once(", which ").unwrap();
            let (name, range) = rest.split_once(" belongs to, ").unwrap();
            (Some(family.parse::<Family>().unwrap()), package(name), spoken(range))
        }
        None => {
            let (name, range) = text.split_once(' ').unwrap();
            (None, package(name), spoken(range))
        }
    };
    let is_bound = |release: &&Published| family.is_none() || release.family == family;
    let bound = registry.0[&name].iter().filter(is_bound);
    let outside = bound.filter(|release| !range.accepts(&release.version));
    let versions = outside.map(|release| release.version.clone()).collect();
    Rule::Never((name, versions))
}

/// `rain-ledger 2.4 with trace`: who, and what has to be wanted of them.
fn with_extra(who: &str) -> (&str, Option<Extra>) {
    match who.split_once(" with ") {
        None => (who, None),
        Some((who, "the default components")) => (who, Some(Extra::Defaults)),
        Some((who, name)) => (who, Some(Extra::Component(name.parse().unwrap()))),
    }
}

fn spoken(range: &str) -> Range {
    let range = range.strip_suffix(" or newer").map_or(range.to_owned(), |from| format!("{from} .."));
    range.parse().unwrap()
}

/// `All releases of rain-ledger`, `rain-ledger 2.4`, `rain-ledger 2.4 to 2.6, 2.8 and 2.9`.
fn releases(registry: &Registry, text: &str) -> Releases {
    if let Some(name) = text.strip_prefix("All releases of ") {
        let name = package(name);
        let versions = registry.0[&name].iter().map(|release| release.version.clone()).collect();
        return (name, versions);
    }
    let (name, stretches) = text.split_once(' ').unwrap();
    let name = package(name);
    let all: Vec<Version> = registry.0[&name].iter().map(|release| release.version.clone()).collect();
    let mut versions = Vec::new();
    for stretch in stretches.split(", ").flat_map(|stretch| stretch.split(" and ")) {
        let (from, to) = stretch.split_once(" to ").unwrap_or((stretch, stretch));
        let (from, to): (Version, Version) = (from.parse().unwrap(), to.parse().unwrap());
        versions.extend(all.iter().filter(|version| **version >= from && **version <= to).cloned());
    }
    (name, versions)
}

/// Whether a sentence says no more than the rules do.
fn is_true(registry: &Registry, rules: &[Rule], sentence: &Rule) -> bool {
    match sentence {
        Rule::Needs(Some((name, versions)), extra, needed, range, place, wants) => {
            versions.iter().all(|version| {
                let who = Some((name.clone(), vec![version.clone()]));
                rules.iter().any(|rule| match rule {
                    Rule::Needs(w, e, n, r, p, also) if (e, p, also) == (extra, place, wants) => {
                        *w == who && n == needed && r.set(false).and(range.set(false)) == *r.set(false)
                    }
                    _ => false,
                })
            })
        }
        Rule::Bars((name, versions), barred, range) => versions.iter().all(|version| {
            rules.contains(&Rule::Bars((name.clone(), vec![version.clone()]), barred.clone(), range.clone()))
        }),
        Rule::Unfit((name, versions), place, extra) => versions.iter().all(|version| {
            rules.contains(&Rule::Unfit((name.clone(), vec![version.clone()]), *place, extra.clone()))
        }),
        Rule::Never((name, versions)) => {
            versions.iter().all(|version| rules.contains(&Rule::Never((name.clone(), vec![version.clone()]))))
        }
        Rule::InStep(one, other, family) => {
            let is_of =
                |name: &PackageName| registry.0[name].iter().any(|r| r.family.as_ref() == Some(family));
            is_of(one) && is_of(other)
        }
        rule => rules.contains(rule),
    }
}

/// Checks an answer in every way; whether it was a set of releases.
fn check(registry: &Registry, problem: &Problem) -> bool {
    let rules = rules(registry, problem);
    let possible = is_possible(registry, &rules);
    match answer(registry, problem) {
        Ok(found) => {
            assert!(possible, "{found:?} though nothing satisfies all");
            check_solution(registry, &rules, &found);
            check_taken(registry, problem, &resolve(problem, registry).unwrap());
            true
        }
        Err(reported) => {
            assert!(!possible, "there is a solution, but: {reported:#?}");
            check_telling(registry, problem, &rules, &reported);
            false
        }
    }
}

fn check_solution(registry: &Registry, rules: &[Rule], found: &[String]) {
    let mut only = Registry::default();
    for (name, releases) in &registry.0 {
        let is_found = |release: &&Published| found.contains(&format!("{name} {}", release.version));
        only.0.insert(name.clone(), releases.iter().filter(is_found).cloned().collect());
    }
    let about = |rule: &&Rule| match rule {
        Rule::Needs(Some((name, versions)), ..)
        | Rule::Unfit((name, versions), ..)
        | Rule::Bars((name, versions), ..)
        | Rule::Never((name, versions)) => {
            only.0[name].iter().any(|release| versions.contains(&release.version))
        }
        _ => true,
    };
    let rules: Vec<Rule> = rules.iter().filter(about).cloned().collect();
    assert!(is_possible(&only, &rules), "{found:?} satisfies not all");
}

fn check_telling(registry: &Registry, problem: &Problem, rules: &[Rule], reported: &[String]) {
    let (_clash, sentences) = reported.split_last().unwrap();
    let read: Vec<Rule> = sentences.iter().map(|sentence| read(registry, problem, sentence)).collect();
    for (rule, sentence) in read.iter().zip(sentences) {
        assert!(is_true(registry, rules, rule), "`{sentence}` is not what was published");
    }
    assert!(!is_possible(registry, &read), "no contradiction: {reported:#?}");
    for (at, sentence) in sentences.iter().enumerate() {
        let mut rest = read.clone();
        rest.remove(at);
        assert!(is_possible(registry, &rest), "`{sentence}` is not needed: {reported:#?}");
    }
}

/// Numbers that look random and are the same everywhere (Knuth's MMIX constants).
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % limit
    }

    fn one_in(&mut self, limit: usize) -> bool {
        self.below(limit) == 0
    }
}

/// One of the names that components of these universes have.
fn component(numbers: &mut Numbers) -> ComponentName {
    ["trace", "panel"][numbers.below(2)].parse().unwrap()
}

/// Two levels, or one.
fn levels(numbers: &mut Numbers) -> Vec<usize> {
    let levels: BTreeSet<usize> = [1 + numbers.below(4), 2 + numbers.below(3)].into();
    levels.into_iter().collect()
}

/// Components, files for some levels, and needs that want more than the bare package.
fn add_extras(
    numbers: &mut Numbers,
    release: &mut Published,
    packages: usize,
    range: &impl Fn(&mut Numbers) -> Range,
) {
    for name in ["trace", "panel"] {
        if numbers.one_in(3) {
            let needs = (0..numbers.below(3)).map(|_| {
                let target = package(&format!("bed-n{}", numbers.below(packages)));
                (target, range(numbers))
            });
            let needs = needs.collect();
            let natives = if numbers.one_in(3) { levels(numbers) } else { Vec::new() };
            let name = name.parse().unwrap();
            let default = numbers.one_in(3);
            release.components.push(TestComponent { name, default, needs, natives });
        }
    }
    if numbers.one_in(8) {
        release.natives = levels(numbers);
    }
    let wants = release.needs.iter().map(|_| Wants {
        components: if numbers.one_in(6) { vec![component(numbers)] } else { Vec::new() },
        bare: numbers.one_in(4),
    });
    release.wants = wants.collect();
}

/// A universe of any shape: how many packages, releases and needs, how narrow and how far.
pub fn scattered(seed: u64) -> (Registry, Problem) {
    let mut numbers = Numbers(seed);
    let (packages, releases) = (4 + numbers.below(14), 1 + numbers.below(6));
    let (needs, width) = (1 + numbers.below(4), 1 + numbers.below(3));
    let with_all = numbers.one_in(2);
    let mut registry = Registry::default();
    let range = |numbers: &mut Numbers| -> Range {
        let from = 1 + numbers.below(releases);
        format!("{from} .. {}", from + 1 + numbers.below(width)).parse().unwrap()
    };
    for number in 0..packages {
        for version in 1..=releases {
            let mut release = Published::new(version.to_string().parse().unwrap());
            for _ in 0..numbers.below(needs + 1) {
                let target = package(&format!("bed-n{}", numbers.below(packages)));
                release.needs.push((target, range(&mut numbers)));
            }
            if with_all {
                if numbers.one_in(8) {
                    let target = package(&format!("bed-n{}", numbers.below(packages)));
                    release.conflicts.push((target, range(&mut numbers)));
                }
                if numbers.one_in(6) {
                    release.needs.push((package("shade"), range(&mut numbers)));
                }
                release.level = Some(1 + numbers.below(4)).filter(|_| !numbers.one_in(4));
                release.when = release
                    .needs
                    .iter()
                    .map(|_| Some(1 + numbers.below(4)).filter(|_| numbers.one_in(4)))
                    .collect();
                add_extras(&mut numbers, &mut release, packages, &range);
                release.license = numbers.one_in(10).then_some("AGPL-3.0-only");
                release.provides.extend(numbers.one_in(8).then(|| package("shade")));
                release.family = numbers.one_in(5).then(|| "trees".parse().unwrap());
                release.clause_state =
                    if numbers.one_in(12) { ClauseState::Withdrawn } else { ClauseState::Satisfied };
            }
            registry.0.entry(package(&format!("bed-n{number}"))).or_default().push(release);
        }
    }
    let direct: Vec<String> = (0..1 + numbers.below(4))
        .map(|_| format!("bed-n{} {}", numbers.below(packages), range(&mut numbers)))
        .collect();
    let mut problem = problem(&direct.iter().map(String::as_str).collect::<Vec<_>>(), &[]);
    if with_all {
        let places = ["gate", "hand-unit", "shed"][..numbers.below(MAX_PLACES + 1)].iter();
        problem.places = places.map(|name| place(name, 2 + numbers.below(3))).collect();
        for need in &mut problem.needs {
            let some = |places: &[Target]| places.iter().take(1).map(|place| place.name.clone()).collect();
            need.targets = (numbers.one_in(4) && !problem.places.is_empty()).then(|| some(&problem.places));
        }
        for need in &mut problem.needs {
            if numbers.one_in(3) {
                (need.components, need.bare) = (vec![component(&mut numbers)], numbers.one_in(2));
            }
        }
        let undeclared = if numbers.one_in(4) { "undeclared = 'refuse'\n" } else { "" };
        let licenses = if numbers.one_in(2) {
            "licenses = { refuse = ['AGPL-3.0-only'], otherwise = 'accept' }"
        } else {
            ""
        };
        problem.rules = test_rules(&format!("{undeclared}{licenses}"));
    }
    if with_all && numbers.one_in(3) {
        problem.families.insert("trees".parse().unwrap(), range(&mut numbers));
    }
    if with_all && numbers.one_in(3) {
        let mut ranges = |count: usize| -> BTreeMap<PackageName, Range> {
            let some = (0..count)
                .map(|_| (package(&format!("bed-n{}", numbers.below(packages))), range(&mut numbers)));
            some.collect()
        };
        let ranges = ranges(3);
        let families = numbers.one_in(3).then(|| ("trees".parse().unwrap(), range(&mut numbers)));
        let release = CharterRelease { name: package("forest"), version: "1".parse().unwrap() };
        let (families, except) = (families.into_iter().collect(), BTreeSet::new());
        problem.charters = Arc::from([CharterBounds { release, ranges, families, except }]);
    }
    (registry, problem)
}

#[test]
fn scattered_universes_are_answered_as_a_sat_solver_answers() {
    let solved = (0..3000).filter(|seed| {
        let (registry, problem) = scattered(*seed);
        check(&registry, &problem)
    });
    let solved = solved.count();
    assert!((800..2100).contains(&solved), "both answers have to be common, and {solved} were solved");
}

#[test]
fn grown_universes_are_answered_as_a_sat_solver_answers() {
    let solved = (0..150).filter(|seed| {
        let registry = grown(20, 8, *seed, 4);
        let needs = ["bed-n19 any", "bed-n18 any", "bed-n16 any", "bed-n13 any", "bed-n7 1"];
        check(&registry, &problem(&needs, &[]))
    });
    let solved = solved.count();
    assert!((15..135).contains(&solved), "both answers have to be common, and {solved} were solved");
}
