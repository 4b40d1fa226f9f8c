//! Ranges: the sets of versions that needs accept.
//!
//! A range is written as alternatives (`or`) of clauses, each a list of bounds that all hold (`,`); `syntax`
//! reads that and `vers` the open VERS notation. What a range accepts is a [`VersionSet`]: closed under and,
//! or and not, and the same set however it was written. A pre-release is accepted only where a bound of the
//! same clause names a pre-release of the same numbers, or where the need asks for pre-releases.

mod advice;
mod intervals;
mod print;
mod set;
mod syntax;
mod vers;

use std::cell::RefCell;
use std::collections::HashMap;
use std::fmt;
use std::str::FromStr;
use std::sync::{Arc, OnceLock};

use serde::{Deserialize, Deserializer, Serialize, Serializer};

pub use self::set::VersionSet;
use self::syntax::Clause;
use crate::fault::Fault;
use crate::version::Version;

/// A range as a person wrote it, and the set that it stands for.
///
/// The sets are worked out when they are asked for first: most ranges of a registry never are.
#[derive(Clone)]
pub struct Range(Arc<Inner>);

struct Inner {
    clauses: Vec<Clause>,
    set: OnceLock<VersionSet>,
    with_prereleases: OnceLock<VersionSet>,
}

impl Range {
    /// The range that accepts every version, pre-releases aside.
    pub fn any() -> Self {
        Self::from_clauses(vec![vec![syntax::Bound::Any]])
    }

    /// The range that accepts just `version`.
    pub fn exactly(version: &Version) -> Self {
        Self::from_clauses(vec![vec![syntax::Bound::Equal(version.clone())]])
    }

    /// From `version`, without trailing zeros, up to the next version that may break what works with it.
    pub fn from_version(version: &Version) -> Self {
        let parts = if version.is_pre() { version.parts() } else { 1 };
        let from = if version.is_pre() {
            version.clone()
        } else {
            Version::from_numeric(version.point().numeric, parts)
        };
        Self::from_clauses(vec![vec![syntax::Bound::Between(Some(from), version.next_breaking())]])
    }

    /// `version` and all that are newer.
    pub fn from_lowest(version: &Version) -> Self {
        Self::from_clauses(vec![vec![syntax::Bound::Between(Some(version.clone()), None)]])
    }

    /// The set of versions that the range accepts.
    ///
    /// With `prereleases`, pre-releases count like any other version.
    pub fn set(&self, prereleases: bool) -> &VersionSet {
        let Inner { clauses, set, with_prereleases } = &*self.0;
        let union = |f: fn(&Clause) -> VersionSet| {
            clauses.iter().map(f).fold(VersionSet::none(), |all, clause| all.or(&clause))
        };
        if prereleases {
            with_prereleases.get_or_init(|| union(syntax::accepted_with_prereleases))
        } else {
            set.get_or_init(|| union(syntax::accepted))
        }
    }

    /// Whether the range accepts `version`.
    pub fn accepts(&self, version: &Version) -> bool {
        self.set(false).contains(version.point())
    }

    /// Whether `version` is inside, where a pre-release counts like any other version.
    pub fn includes(&self, version: &Version) -> bool {
        self.set(true).contains(version.point())
    }

    /// The one version that the range names with `=`, if it is as narrow as that.
    pub fn only(&self) -> Option<&Version> {
        match self.0.clauses.as_slice() {
            [clause] => match clause.as_slice() {
                [syntax::Bound::Equal(version)] => Some(version),
                _ => None,
            },
            _ => None,
        }
    }

    /// Whether both are written in the same way; others may accept the same, too.
    pub fn is_written_like(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0) || self.0.clauses == other.0.clauses
    }

    fn from_clauses(clauses: Vec<Clause>) -> Self {
        Self(Arc::new(Inner { clauses, set: OnceLock::new(), with_prereleases: OnceLock::new() }))
    }

    /// Whether no version at all is accepted.
    fn is_none(&self) -> bool {
        !self.0.clauses.iter().any(syntax::is_surely_some) && self.set(true).is_none()
    }
}

impl PartialEq for Range {
    fn eq(&self, other: &Self) -> bool {
        self.is_written_like(other)
            || (self.set(false) == other.set(false) && self.set(true) == other.set(true))
    }
}

impl Eq for Range {}

impl FromStr for Range {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let clauses = match text.trim_start().strip_prefix("vers:") {
            Some(rest) => vers::parse(rest).map_err(|fault| fault.shifted(text.len() - rest.len()))?,
            None => syntax::parse(text).map_err(|fault| advice::offer(text, fault))?,
        };
        let range = Self::from_clauses(clauses);
        if range.is_none() {
            return Err(advice::empty(text, &range.0.clauses));
        }
        Ok(range)
    }
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let clauses: Vec<String> = self.0.clauses.iter().map(|clause| syntax::written(clause)).collect();
        f.pad(&clauses.join(" | "))
    }
}

impl fmt::Debug for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", self.to_string())
    }
}

impl Serialize for Range {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Range {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        Self::read_often(&text).map_err(serde::de::Error::custom)
    }
}

/// Most texts whose ranges a thread remembers.
const MAX_REMEMBERED: usize = 1000;

thread_local! {
    static REMEMBERED: RefCell<HashMap<Box<str>, Range>> = RefCell::default();
}

impl Range {
    /// The range of a text that may well have been read before: thousands of entries of a registry say the same few.
    fn read_often(text: &str) -> Result<Self, Fault> {
        REMEMBERED.with_borrow_mut(|remembered| {
            if let Some(range) = remembered.get(text) {
                return Ok(range.clone());
            }
            let range: Self = text.parse()?;
            if remembered.len() >= MAX_REMEMBERED {
                remembered.clear();
            }
            remembered.insert(text.into(), range.clone());
            Ok(range)
        })
    }
}

#[cfg(test)]
mod tests;
