//! Sets of choices for one package: bit 0 is "left out", bit `i + 1` its `i`-th release, oldest first.

use smallvec::{SmallVec, smallvec};

const BITS: usize = u64::BITS as usize;

/// A set of choices. Sets of one package have the same width, so their words line up.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Choices(SmallVec<[u64; 2]>);

impl Choices {
    /// The choice of leaving the package out.
    pub const LEFT_OUT: usize = 0;

    /// No choice of a package with `width` choices.
    pub fn none(width: usize) -> Self {
        Self(smallvec![0; width.div_ceil(BITS).max(1)])
    }

    /// Every choice of a package with `width` choices.
    pub fn all(width: usize) -> Self {
        Self::of(width, 0..width)
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

    /// Whether the choice is in the set.
    pub fn has(&self, choice: usize) -> bool {
        self.0[choice / BITS] >> (choice % BITS) & 1 == 1
    }

    /// Whether nothing is in the set.
    pub fn is_none(&self) -> bool {
        self.0.iter().all(|word| *word == 0)
    }

    /// The choices in both.
    pub fn and(&self, other: &Self) -> Self {
        Self(self.0.iter().zip(&other.0).map(|(a, b)| a & b).collect())
    }

    /// The choices in either.
    pub fn or(&self, other: &Self) -> Self {
        Self(self.0.iter().zip(&other.0).map(|(a, b)| a | b).collect())
    }

    /// The choices of `0..width` that are not in the set.
    pub fn not(&self, width: usize) -> Self {
        Self(self.0.iter().zip(&Self::all(width).0).map(|(a, all)| all & !a).collect())
    }

    /// Whether no choice is in both.
    pub fn misses(&self, other: &Self) -> bool {
        self.0.iter().zip(&other.0).all(|(a, b)| a & b == 0)
    }

    /// Whether every choice is in `other`, too.
    pub fn within(&self, other: &Self) -> bool {
        self.0.iter().zip(&other.0).all(|(a, b)| a & !b == 0)
    }

    /// The one choice, if there is just one.
    pub fn only(&self) -> Option<usize> {
        let highest = self.highest()?;
        let count: u32 = self.0.iter().map(|word| word.count_ones()).sum();
        (count == 1).then_some(highest)
    }

    /// The highest choice: the newest release, unless only leaving out is left.
    pub fn highest(&self) -> Option<usize> {
        let at = self.0.iter().rposition(|word| *word != 0)?;
        Some(at * BITS + (BITS - 1) - self.0[at].leading_zeros() as usize)
    }

    /// The lowest choice.
    pub fn lowest(&self) -> Option<usize> {
        let at = self.0.iter().position(|word| *word != 0)?;
        Some(at * BITS + self.0[at].trailing_zeros() as usize)
    }

    /// The choices, rising.
    pub fn iter(&self) -> impl Iterator<Item = usize> {
        (0..self.0.len() * BITS).filter(|choice| self.has(*choice))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn behaves_like_a_set_across_words() {
        let set = Choices::of(130, [0, 63, 64, 129]);
        assert_eq!(set.iter().collect::<Vec<_>>(), [0, 63, 64, 129]);
        assert_eq!((set.lowest(), set.highest(), set.only()), (Some(0), Some(129), None));
        assert_eq!(set.not(130).iter().count(), 126);
        assert!(set.misses(&set.not(130)) && set.and(&Choices::all(130)) == set);
        assert_eq!(Choices::of(130, [64]).only(), Some(64));
        assert!(Choices::none(130).is_none() && Choices::none(130).highest().is_none());
    }
}
