//! Sets of values of a variable: bit 0 is "left out", bit `i + 1` is the `i`-th release, oldest first.

use smallvec::{SmallVec, smallvec};

const BITS: usize = u64::BITS as usize;

/// A set of choices. Sets of one package have the same width, so their words line up.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Choices(SmallVec<[u64; 2]>);

/// A set of choices that lies elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct View<'a>(&'a [u64]);

/// How many words hold `width` choices.
pub fn words(width: usize) -> usize {
    width.div_ceil(BITS).max(1)
}

impl Choices {
    /// The choice of leaving the package out.
    pub const LEFT_OUT: usize = 0;

    /// No choice of a package with `width` choices.
    pub fn none(width: usize) -> Self {
        Self(smallvec![0; words(width)])
    }

    /// Every choice of a package with `width` choices.
    pub fn all(width: usize) -> Self {
        let mut all = Self::none(width);
        all.insert_from(0, width);
        all
    }

    /// Just these choices.
    pub fn of(width: usize, choices: impl IntoIterator<Item = usize>) -> Self {
        let mut set = Self::none(width);
        choices.into_iter().for_each(|choice| set.insert(choice));
        set
    }

    /// Adds a choice.
    pub fn insert(&mut self, choice: usize) {
        self.0[choice / BITS] |= 1 << (choice % BITS);
    }

    /// Adds the choices from `from` (included) to `to` (excluded).
    pub fn insert_from(&mut self, from: usize, to: usize) {
        for (at, word) in self.0.iter_mut().enumerate() {
            let (low, high) = (from.max(at * BITS), to.min((at + 1) * BITS));
            if low < high {
                *word |= (u64::MAX >> (BITS - (high - low))) << (low - at * BITS);
            }
        }
    }

    /// The set to look at.
    pub fn view(&self) -> View<'_> {
        View(&self.0)
    }

    /// The choices in both.
    #[must_use]
    pub fn and(&self, other: &Self) -> Self {
        self.view().and(other.view())
    }

    /// The choices in either.
    #[must_use]
    pub fn or(&self, other: &Self) -> Self {
        Self(self.0.iter().zip(&other.0).map(|(a, b)| a | b).collect())
    }

    /// The choices of `0..width` that are not in the set.
    #[must_use]
    pub fn not(&self, width: usize) -> Self {
        self.view().not(width)
    }

    /// Whether the choice is in the set.
    pub fn has(&self, choice: usize) -> bool {
        self.view().has(choice)
    }

    /// Whether nothing is in the set.
    pub fn is_none(&self) -> bool {
        self.view().is_none()
    }

    /// The one choice, if there is just one.
    pub fn only(&self) -> Option<usize> {
        self.view().only()
    }

    /// The highest choice: the newest release, unless only leaving out is left.
    pub fn highest(&self) -> Option<usize> {
        self.view().highest()
    }

    /// The choices, rising.
    pub fn iter(&self) -> Iter<'_> {
        self.view().iter()
    }
}

impl<'a> View<'a> {
    /// The set in these words.
    pub fn of(words: &'a [u64]) -> Self {
        Self(words)
    }

    /// The words that hold the set.
    pub fn words(self) -> &'a [u64] {
        self.0
    }

    /// The same set, kept.
    pub fn to_owned(self) -> Choices {
        Choices(self.0.into())
    }

    /// The choices in both.
    pub fn and(self, other: View<'_>) -> Choices {
        Choices(self.0.iter().zip(other.0).map(|(a, b)| a & b).collect())
    }

    /// The choices of `0..width` that are not in the set.
    pub fn not(self, width: usize) -> Choices {
        Choices(self.0.iter().zip(&Choices::all(width).0).map(|(a, all)| all & !a).collect())
    }

    /// The choices that are not in `other`.
    pub fn minus(self, other: View<'_>) -> Choices {
        Choices(self.0.iter().zip(other.0).map(|(a, b)| a & !b).collect())
    }

    /// The highest choice that is in both.
    pub fn highest_in(self, other: View<'_>) -> Option<usize> {
        let at = self.0.iter().zip(other.0).rposition(|(a, b)| a & b != 0)?;
        Some(at * BITS + (BITS - 1) - (self.0[at] & other.0[at]).leading_zeros() as usize)
    }

    /// Whether the choice is in the set.
    pub fn has(self, choice: usize) -> bool {
        self.0[choice / BITS] >> (choice % BITS) & 1 == 1
    }

    /// Whether nothing is in the set.
    pub fn is_none(self) -> bool {
        self.0.iter().all(|word| *word == 0)
    }

    /// Whether no choice is in both.
    pub fn misses(self, other: View<'_>) -> bool {
        self.0.iter().zip(other.0).all(|(a, b)| a & b == 0)
    }

    /// Whether every choice is in `other`, too.
    pub fn within(self, other: View<'_>) -> bool {
        self.0.iter().zip(other.0).all(|(a, b)| a & !b == 0)
    }

    /// The one choice, if there is just one.
    pub fn only(self) -> Option<usize> {
        let mut left = self.0.iter().enumerate().filter(|(_, word)| **word != 0);
        let (at, word) = left.next()?;
        let alone = word & (word - 1) == 0 && left.next().is_none();
        alone.then_some(at * BITS + word.trailing_zeros() as usize)
    }

    /// The highest choice: the newest release, unless only leaving out is left.
    pub fn highest(self) -> Option<usize> {
        let at = self.0.iter().rposition(|word| *word != 0)?;
        Some(at * BITS + (BITS - 1) - self.0[at].leading_zeros() as usize)
    }

    /// The choices, rising.
    pub fn iter(self) -> Iter<'a> {
        Iter { words: self.0, next: 0, end: self.0.len() * BITS }
    }
}

/// The choices of a set, from either end.
#[derive(Debug, Clone)]
pub struct Iter<'a> {
    words: &'a [u64],
    next: usize,
    end: usize,
}

impl Iterator for Iter<'_> {
    type Item = usize;

    fn next(&mut self) -> Option<usize> {
        while self.next < self.end {
            let left = self.words[self.next / BITS] >> (self.next % BITS);
            if left == 0 {
                self.next = (self.next / BITS + 1) * BITS;
                continue;
            }
            let choice = self.next + left.trailing_zeros() as usize;
            self.next = choice + 1;
            return (choice < self.end).then_some(choice);
        }
        None
    }
}

impl DoubleEndedIterator for Iter<'_> {
    fn next_back(&mut self) -> Option<usize> {
        while self.end > self.next {
            let last = self.end - 1;
            let left = self.words[last / BITS] << (BITS - 1 - last % BITS);
            if left == 0 {
                self.end = last / BITS * BITS;
                continue;
            }
            let choice = last - left.leading_zeros() as usize;
            self.end = choice;
            return (choice >= self.next).then_some(choice);
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn behaves_like_a_set_across_words() {
        let set = Choices::of(130, [0, 63, 64, 129]);
        assert_eq!(set.iter().collect::<Vec<_>>(), [0, 63, 64, 129]);
        assert_eq!((set.highest(), set.only()), (Some(129), None));
        assert_eq!(set.not(130).iter().count(), 126);
        assert_eq!(set.iter().rev().collect::<Vec<_>>(), [129, 64, 63, 0]);
        assert_eq!(set.view().highest_in(Choices::of(130, [5, 64, 128]).view()), Some(64));
        assert!(set.view().misses(set.not(130).view()) && set.and(&Choices::all(130)) == set);
        assert_eq!(Choices::of(130, [64]).only(), Some(64));
        assert!(Choices::none(130).is_none() && Choices::none(130).highest().is_none());
        for (from, to) in [(0, 130), (5, 64), (64, 65), (63, 129), (7, 7)] {
            let mut stretch = Choices::none(130);
            stretch.insert_from(from, to);
            assert_eq!(stretch, Choices::of(130, from..to), "{from} to {to}");
        }
    }
}
