//! What of the difference of two locks a reviewer looks at first, and which direct needs it comes from.

use std::collections::{BTreeMap, BTreeSet};

use crate::compare::{Change, Kind};
use crate::lock::{Lock, LockedPackage, NeedGraph};
use crate::name::PackageName;

/// What is worth a look of a change, the gravest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Concern {
    /// The same version has other bytes.
    OtherBytes,
    /// The same tag names another commit.
    MovedTag,
    /// It comes from elsewhere.
    OtherSource,
    /// It has another licence.
    OtherLicense,
    /// It is new.
    New,
    /// It went over a version that may break what worked before.
    MajorStep,
    /// It went back to an older release.
    Lowered,
    /// It is gone.
    Gone,
}

/// The changes by what is worth a look of them; those of which nothing is have no place.
pub fn concerns<'c, 'a>(changes: &'c [Change<'a>]) -> BTreeMap<Concern, Vec<&'c Change<'a>>> {
    let mut found: BTreeMap<Concern, Vec<&Change<'_>>> = BTreeMap::new();
    for change in changes {
        concerns_of(change).into_iter().for_each(|concern| found.entry(concern).or_default().push(change));
    }
    found
}

fn concerns_of(change: &Change<'_>) -> Vec<Concern> {
    let (Some(old), Some(new)) = (change.old, change.new) else {
        return vec![if change.kind == Kind::Gone { Concern::Gone } else { Concern::New }];
    };
    let is_moved = has_moved_tag(old, new);
    let is_same_place = old.source.git().map(|git| &git.git) == new.source.git().map(|git| &git.git);
    let is_elsewhere = old.stood_in != new.stood_in
        || if old.source.git().is_some() { !is_same_place } else { old.source != new.source };
    let is_major = || old.version.next_breaking().is_some_and(|breaking| new.version >= breaking);
    let has_other_bytes = old.version == new.version && old.source == new.source && old.files != new.files;
    let all = [
        (Concern::OtherBytes, has_other_bytes),
        (Concern::MovedTag, is_moved),
        (Concern::OtherSource, is_elsewhere),
        (Concern::OtherLicense, old.license != new.license),
        (Concern::MajorStep, change.kind == Kind::Raised && is_major()),
        (Concern::Lowered, change.kind == Kind::Lowered),
    ];
    all.into_iter().filter(|(_, is_so)| *is_so).map(|(concern, _)| concern).collect()
}

/// Whether one tag of one repository names another commit than before.
fn has_moved_tag(old: &LockedPackage, new: &LockedPackage) -> bool {
    let (Some(old), Some(new)) = (old.source.git(), new.source.git()) else { return false };
    let tag = |at: &Option<String>| at.as_ref().is_some_and(|at| at.starts_with("tag "));
    old.git == new.git && old.at == new.at && tag(&new.at) && old.commit != new.commit
}

/// The direct needs that each change comes from: those that changed themselves or are new, of which the package is needed; where none of
/// them did, all of which it is needed. What is gone is seen from the old lock.
pub fn causes(changes: &[Change<'_>], old: &Lock, new: &Lock) -> BTreeMap<PackageName, Vec<PackageName>> {
    let (before, after) = (Reach::of(old), Reach::of(new));
    let changed: BTreeSet<&PackageName> = changes.iter().map(|change| &change.package().name).collect();
    let of_change = |change: &Change<'_>| {
        let name = &change.package().name;
        let reach = if change.new.is_some() { &after } else { &before };
        let all = reach.direct_needs_of(name);
        let is_cause =
            |need: &&PackageName| changed.contains(*need) || before.is_direct(need) != after.is_direct(need);
        let causes: Vec<&PackageName> = all.iter().copied().filter(is_cause).collect();
        let causes = match causes {
            _ if all.contains(&name) => vec![name],
            causes if causes.is_empty() => all,
            causes => causes,
        };
        (name.clone(), causes.into_iter().cloned().collect())
    };
    changes.iter().map(of_change).collect()
}

/// What each direct need of a lock leads to.
struct Reach<'l> {
    /// The packages that direct needs lead to, by the packages that answer the needs.
    reached: BTreeMap<&'l PackageName, BTreeSet<&'l PackageName>>,
}

impl<'l> Reach<'l> {
    fn of(lock: &'l Lock) -> Self {
        let graph = NeedGraph::of(lock);
        let needs = lock.projects.iter().flat_map(|project| &project.needs);
        let direct: BTreeSet<usize> = needs.filter_map(|need| graph.answering(&need.name)).collect();
        let name = |at: usize| &lock.packages[at].name;
        let reached = direct.into_iter().map(|from| {
            let (mut open, mut seen) = (vec![from], BTreeSet::from([from]));
            while let Some(at) = open.pop() {
                open.extend(graph.needs(at).iter().copied().filter(|next| seen.insert(*next)));
            }
            (name(from), seen.into_iter().map(name).collect())
        });
        Self { reached: reached.collect() }
    }

    fn is_direct(&self, package: &PackageName) -> bool {
        self.reached.contains_key(package)
    }

    fn direct_needs_of(&self, package: &PackageName) -> Vec<&'l PackageName> {
        self.reached.iter().filter(|(_, reached)| reached.contains(package)).map(|(need, _)| *need).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::compare::compare;
    use crate::lock::samples::{garden_lock, test_lock, test_source};
    use crate::source::Source;

    fn concerns_between(change: impl Fn(&mut LockedPackage)) -> Vec<Concern> {
        let old = test_lock(&[("moss", "1.2")]);
        let mut new = old.clone();
        change(&mut new.packages[0]);
        concerns(&compare(Some(&old), &new)).into_keys().collect()
    }

    fn at_commit(digit: char, at: &str) -> Source {
        let commit = digit.to_string().repeat(40);
        serde_json::from_str(&format!(
            r#"{{"git":"https://git.example/moss","commit":"{commit}","at":"{at}"}}"#
        ))
        .unwrap()
    }

    #[test]
    fn what_is_worth_a_look_is_named() {
        assert_eq!(concerns_between(|moss| moss.version = "1.3".parse().unwrap()), []);
        assert_eq!(concerns_between(|moss| moss.version = "2.0".parse().unwrap()), [Concern::MajorStep]);
        assert_eq!(concerns_between(|moss| moss.version = "1.1".parse().unwrap()), [Concern::Lowered]);
        assert_eq!(concerns_between(|moss| moss.license = None), [Concern::OtherLicense]);
        assert_eq!(concerns_between(|moss| moss.source = test_source("elsewhere")), [Concern::OtherSource]);
        assert_eq!(concerns_between(|moss| moss.stood_in = true), [Concern::OtherSource]);
        let mut old = test_lock(&[("moss", "1.2"), ("gone", "1")]);
        old.packages.sort_by(|a, b| a.name.cmp(&b.name));
        old.packages[1].source = at_commit('a', "tag v1");
        let mut new = test_lock(&[("moss", "1.2"), ("new", "1")]);
        for (source, expected) in [
            (at_commit('b', "tag v1"), vec![Concern::MovedTag, Concern::New, Concern::Gone]),
            (at_commit('b', "branch main"), vec![Concern::New, Concern::Gone]),
            (test_source("seedhouse"), vec![Concern::OtherSource, Concern::New, Concern::Gone]),
        ] {
            new.packages[0].source = source;
            assert_eq!(concerns(&compare(Some(&old), &new)).into_keys().collect::<Vec<_>>(), expected);
        }
    }

    #[test]
    fn a_change_comes_from_the_direct_needs_that_changed() {
        let old = garden_lock();
        let moved = |names: &[&str]| {
            let mut new = old.clone();
            for package in new.packages.iter_mut().filter(|package| names.contains(&package.name.as_str())) {
                package.version = "7".parse().unwrap();
            }
            let changes = compare(Some(&old), &new);
            let causes = causes(&changes, &old, &new);
            let shown = |(name, causes): (PackageName, Vec<PackageName>)| {
                let causes: Vec<String> = causes.iter().map(ToString::to_string).collect();
                format!("{name}: {}", causes.join(" "))
            };
            causes.into_iter().map(shown).collect::<Vec<_>>()
        };
        assert_eq!(moved(&["moss", "dew"]), ["dew: moss", "moss: moss"]);
        assert_eq!(moved(&["stone"]), ["stone: moss probe"], "neither of them changed");
        assert_eq!(moved(&["stone", "probe"]), ["probe: probe", "stone: probe"]);
    }
}
