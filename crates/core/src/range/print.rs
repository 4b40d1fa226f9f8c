//! Prints a set of versions in the grammar of ranges.

use std::fmt;

use super::intervals::Intervals;
use super::set::VersionSet;
use super::syntax::{Bound, written};
use crate::version::{Numeric, Point, Version, successor};

/// The shortest clauses that say the set; pre-releases are named for each version whose pre-releases are in it.
///
/// A set with pre-releases of endlessly many versions (such as a complement) can't be said in the grammar:
/// those are then left out, so the text stands for the final versions of the set.
impl fmt::Display for VersionSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let finals = final_bounds(&self.finals).into_iter().map(|bound| vec![bound]);
        let pres = self.pres.iter().filter_map(pre_bounds);
        let clauses: Vec<String> = finals.chain(pres).map(|clause| written(&clause)).collect();
        f.pad(&if clauses.is_empty() { "none".to_owned() } else { clauses.join(" | ") })
    }
}

fn final_bounds(finals: &Intervals) -> Vec<Bound> {
    let version = |point: &Point| Version::from_numeric(point.numeric, 1);
    let bound = |(from, to): (&Point, Option<&Point>)| match (from.numeric, to) {
        ([0, 0, 0, 0], None) => Bound::Any,
        ([0, 0, 0, 0], Some(to)) => Bound::Between(None, Some(version(to))),
        (_, None) => Bound::Between(Some(version(from)), None),
        (numeric, Some(to)) => match begun_alike(numeric, to.numeric) {
            Some(4) => Bound::Equal(version(from)),
            Some(parts) => Bound::Begins(Version::from_numeric(numeric, parts)),
            None => Bound::Between(Some(version(from)), Some(version(to))),
        },
    };
    finals.iter().map(bound).collect()
}

/// How many leading numbers of `from` say all of `from .. to`, if a beginning can.
fn begun_alike(from: Numeric, to: Numeric) -> Option<usize> {
    let written = from.iter().rposition(|&part| part != 0).map_or(1, |last| last + 1);
    (written..=4).find(|parts| successor(from, parts - 1) == Some(to))
}

fn pre_bounds((from, to): (&Point, Option<&Point>)) -> Option<Vec<Bound>> {
    let end = to?;
    let within =
        end.numeric == from.numeric || successor(from.numeric, 3).map(Point::lowest).as_ref() == Some(end);
    within.then(|| {
        let upper = if end.numeric == from.numeric { end.clone() } else { Point::last(from.numeric) };
        vec![Bound::AtLeast(named(from)), Bound::Below(named(&upper))]
    })
}

/// The version that stands at a point.
fn named(point: &Point) -> Version {
    let number = Version::from_numeric(point.numeric, 1);
    if !point.is_pre() {
        return number;
    }
    let pre: Vec<String> = point.pre.iter().map(ToString::to_string).collect();
    let text = format!("{number}-{}", pre.join("."));
    // Numbers and identifiers of a point came out of a version, so they read as one again.
    text.parse().unwrap_or(number)
}
