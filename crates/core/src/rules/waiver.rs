//! Waivers: exceptions from a rule, with a reason and an end.

use std::ops;

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;

use super::Rule;
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// An exception from a rule.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Waiver {
    /// The rule.
    pub rule: Rule,
    /// The package.
    pub package: PackageName,
    /// Its versions; `None` for all.
    pub range: Option<Range>,
    /// Why it is excepted.
    #[serde(skip)]
    pub reason: String,
    /// The last day on which it is excepted, in UTC.
    pub until: Date,
    /// Where it is written in the manifest.
    #[serde(skip)]
    pub span: ops::Range<usize>,
}

impl Waiver {
    /// Whether it has ended.
    pub fn is_over(&self, now: Timestamp) -> bool {
        now.to_zoned(TimeZone::UTC).date() > self.until
    }

    /// Whether it speaks of a rule and a release.
    pub fn covers(&self, rule: Rule, package: &PackageName, version: &Version) -> bool {
        self.rule == rule
            && self.package == *package
            && self.range.as_ref().is_none_or(|range| range.set(true).contains(version.point()))
    }
}
