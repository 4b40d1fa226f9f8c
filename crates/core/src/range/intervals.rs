//! Sets of points on the line of all versions, as the places where membership changes.

use crate::version::Point;

/// A union of half-open intervals `[a, b)`, kept as its rising boundaries: at each one membership toggles.
///
/// Since every point has a next one, half-open intervals can say all that is needed, and equal sets have
/// equal boundaries.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct Intervals(Vec<Point>);

impl Intervals {
    /// Everything from `from` (included) to `to` (excluded, or without end).
    pub fn between(from: Point, to: Option<Point>) -> Self {
        match to {
            Some(to) if to <= from => Self::default(),
            to => Self([from].into_iter().chain(to).collect()),
        }
    }

    /// Everything.
    pub fn all() -> Self {
        Self(vec![Point::origin()])
    }

    /// Whether nothing is in the set.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether `point` is in the set.
    pub fn contains(&self, point: &Point) -> bool {
        self.0.partition_point(|boundary| boundary <= point) % 2 == 1
    }

    /// What is not in the set.
    pub fn not(&self) -> Self {
        match self.0.split_first() {
            Some((first, rest)) if *first == Point::origin() => Self(rest.to_vec()),
            _ => Self([Point::origin()].into_iter().chain(self.0.iter().cloned()).collect()),
        }
    }

    /// What is in both sets.
    pub fn and(&self, other: &Self) -> Self {
        self.sweep(other, |a, b| a && b)
    }

    /// What is in either set.
    pub fn or(&self, other: &Self) -> Self {
        self.sweep(other, |a, b| a || b)
    }

    /// The intervals, rising; the last may be without end.
    pub fn iter(&self) -> impl Iterator<Item = (&Point, Option<&Point>)> {
        self.0.chunks(2).map(|pair| (&pair[0], pair.get(1)))
    }

    /// The same set with every boundary moved by `shift`, which must keep their order; `None` is "without end".
    pub fn moved(&self, shift: impl Fn(&Point) -> Option<Point>) -> Self {
        self.iter().fold(Self::default(), |all, (from, to)| match shift(from) {
            Some(from) => all.or(&Self::between(from, to.and_then(&shift))),
            None => all,
        })
    }

    fn sweep(&self, other: &Self, keep: impl Fn(bool, bool) -> bool) -> Self {
        let (mut left, mut right) = (self.0.iter().peekable(), other.0.iter().peekable());
        let (mut in_left, mut in_right, mut inside) = (false, false, false);
        let mut boundaries = Vec::new();
        loop {
            let next = match (left.peek(), right.peek()) {
                (None, None) => return Self(boundaries),
                (Some(a), None) => *a,
                (None, Some(b)) => *b,
                (Some(a), Some(b)) => *a.min(b),
            };
            in_left ^= left.next_if_eq(&next).is_some();
            in_right ^= right.next_if_eq(&next).is_some();
            if keep(in_left, in_right) != inside {
                inside = !inside;
                boundaries.push(next.clone());
            }
        }
    }
}
