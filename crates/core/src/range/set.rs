//! What a range accepts: one set for final versions, one for pre-releases.

use super::intervals::Intervals;
use crate::version::Point;

/// A set of versions, closed under and, or and not.
///
/// Final versions and pre-releases are kept apart, because a range accepts a pre-release only where it is
/// asked for. Each half has its boundaries on points of its own kind, so equal sets are equal values.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct VersionSet {
    pub(super) finals: Intervals,
    pub(super) pres: Intervals,
}

impl VersionSet {
    /// The empty set.
    pub fn none() -> Self {
        Self { finals: Intervals::default(), pres: Intervals::default() }
    }

    /// The final versions of one set with the pre-releases of another.
    pub(super) fn new(finals: &Intervals, pres: &Intervals) -> Self {
        Self {
            finals: finals.moved(|point| Some(Point::last(point.numeric))),
            pres: pres.moved(|point| if point.is_pre() { Some(point.clone()) } else { point.next() }),
        }
    }

    /// Whether the version at `point` is in the set.
    pub fn contains(&self, point: &Point) -> bool {
        if point.is_pre() { self.pres.contains(point) } else { self.finals.contains(point) }
    }

    /// The final versions in the set: from each first point (included) to the second (excluded, or without end).
    pub fn finals(&self) -> impl Iterator<Item = (&Point, Option<&Point>)> {
        self.finals.iter()
    }

    /// The pre-releases in the set, in the same form.
    pub fn pres(&self) -> impl Iterator<Item = (&Point, Option<&Point>)> {
        self.pres.iter()
    }

    /// Whether no version is in the set.
    pub fn is_none(&self) -> bool {
        self.finals.is_empty() && self.pres.is_empty()
    }

    /// The versions that both sets have.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        Self { finals: self.finals.and(&other.finals), pres: self.pres.and(&other.pres) }
    }

    /// The versions that either set has.
    #[must_use]
    pub fn or(&self, other: &Self) -> Self {
        Self { finals: self.finals.or(&other.finals), pres: self.pres.or(&other.pres) }
    }

    /// The versions that the set does not have.
    #[must_use]
    pub fn not(&self) -> Self {
        Self::new(&self.finals.not(), &self.pres.not())
    }
}
