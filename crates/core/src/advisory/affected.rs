//! What a record affects, evaluated as the format says (OSV schema, "Evaluation").

use super::Key;
use crate::source::CommitId;
use crate::version::Version;

/// Software that a record affects, in some versions.
#[derive(Debug, Clone, PartialEq)]
pub struct Affected {
    /// The package; `None` where only repositories are named.
    pub package: Option<Key>,
    /// Whether the package is one of ours, so that versions are in our order.
    pub is_ours: bool,
    /// The versions that are listed one by one.
    pub versions: Vec<String>,
    /// Ranges of versions.
    pub ranges: Vec<VersionEvents>,
    /// Ranges of commits.
    pub commits: Vec<CommitEvents>,
}

/// What happened at which versions, in any order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct VersionEvents {
    /// Whether the versions are Semantic Versions, and not those of an ecosystem.
    pub is_semver: bool,
    /// From these on it is affected; `0` is before all versions.
    pub introduced: Vec<String>,
    /// From these on it no longer is.
    pub fixed: Vec<String>,
    /// Behind these it no longer is.
    pub last_affected: Vec<String>,
    /// From these on nothing is said.
    pub limits: Vec<String>,
}

/// What happened at which commits of a repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommitEvents {
    /// The repository.
    pub repository: Key,
    /// From these on it is affected; `0` is before all commits.
    pub introduced: Vec<String>,
    /// From these on it no longer is.
    pub fixed: Vec<String>,
    /// Behind these it no longer is.
    pub last_affected: Vec<String>,
    /// What doesn't lead to these isn't spoken of.
    pub limits: Vec<String>,
}

/// The history of a repository.
pub trait CommitHistory {
    /// Whether a commit is `other`, or one that `other` was built on; `None` where that isn't known.
    fn leads_to(&self, commit: &str, other: &CommitId) -> Option<bool>;

    /// Whether `other` is a commit that was built on this one, or the same; `None` where that isn't known.
    fn comes_before(&self, other: &CommitId, commit: &str) -> Option<bool>;
}

/// No history at all.
#[derive(Debug, Clone, Copy)]
pub struct NoCommits;

impl CommitHistory for NoCommits {
    fn leads_to(&self, commit: &str, other: &CommitId) -> Option<bool> {
        (commit == other.as_str()).then_some(true)
    }

    fn comes_before(&self, other: &CommitId, commit: &str) -> Option<bool> {
        (commit == other.as_str()).then_some(true)
    }
}

impl Affected {
    /// The names that it is looked up by.
    pub fn keys(&self) -> impl Iterator<Item = &Key> {
        self.package.iter().chain(self.commits.iter().map(|commits| &commits.repository))
    }

    /// Whether a version of ours is affected.
    pub fn affects_ours(&self, version: &Version) -> bool {
        let is_listed =
            self.versions.iter().any(|listed| listed.parse().is_ok_and(|listed: Version| listed == *version));
        is_listed || self.ranges.iter().any(|range| range.affects(version))
    }

    /// Whether a version in upstream's own words is affected: one that is listed, or in a range whose versions we can order.
    pub fn affects_upstream(&self, version: &str) -> bool {
        let plain = without_v(version);
        if self.versions.iter().any(|listed| without_v(listed) == plain) {
            return true;
        }
        let Ok(parsed) = plain.parse::<Version>() else { return false };
        self.ranges.iter().any(|range| (range.is_semver || range.is_plain(plain)) && range.affects(&parsed))
    }

    /// Whether a commit of a repository is affected.
    pub fn affects_commit(&self, repository: &Key, commit: &CommitId, history: &dyn CommitHistory) -> bool {
        let ranges = self.commits.iter().filter(|commits| commits.repository == *repository);
        ranges.into_iter().any(|range| range.affects(commit, history))
    }
}

impl VersionEvents {
    /// Whether all versions in it are numbers with dots, which every ecosystem orders alike; `version` as well.
    fn is_plain(&self, version: &str) -> bool {
        let all = [&self.introduced, &self.fixed, &self.last_affected, &self.limits];
        let is_plain = |text: &str| text.chars().all(|c| c.is_ascii_digit() || c == '.');
        all.into_iter().flatten().map(|text| without_v(text)).chain([version]).all(is_plain)
    }

    /// Whether a version is affected: what happened last up to it decides.
    fn affects(&self, version: &Version) -> bool {
        let parsed = |text: &String| without_v(text).parse::<Version>().ok();
        let is_before_limit = self.limits.is_empty()
            || self
                .limits
                .iter()
                .any(|limit| limit == "*" || parsed(limit).is_some_and(|limit| *version < limit));
        if !is_before_limit {
            return false;
        }
        // Each event with whether it is affected from there on; one that ends is taken before one that begins.
        let mut events: Vec<(Option<Version>, bool)> = Vec::new();
        for text in &self.introduced {
            match text.as_str() {
                "0" => events.push((None, true)),
                _ => events.extend(parsed(text).map(|at| (Some(at), true))),
            }
        }
        events.extend(self.fixed.iter().filter_map(|text| Some((Some(parsed(text)?), false))));
        events.sort();
        let mut up_to = events.iter().filter(|(at, _)| at.as_ref().is_none_or(|at| at <= version));
        let Some((begun, true)) = up_to.next_back() else { return false };
        // The last affected one of a stretch is the first behind its beginning.
        let ends = self.last_affected.iter().filter_map(parsed);
        let end = ends.filter(|end| begun.as_ref().is_none_or(|begun| end >= begun)).min();
        end.is_none_or(|end| *version <= end)
    }
}

impl CommitEvents {
    fn affects(&self, commit: &CommitId, history: &dyn CommitHistory) -> bool {
        let leads_here = |event: &String| event == "0" || history.leads_to(event, commit) == Some(true);
        let is_begun = self.introduced.iter().any(leads_here);
        let is_fixed = self.fixed.iter().any(leads_here);
        let is_past = |last: &String| last != commit.as_str() && leads_here(last);
        let is_over = self.last_affected.iter().any(is_past);
        let is_spoken_of = self.limits.is_empty()
            || self
                .limits
                .iter()
                .any(|limit| limit == "*" || history.comes_before(commit, limit) == Some(true));
        is_begun && !is_fixed && !is_over && is_spoken_of
    }
}

/// A version without the `v` that tags begin with.
fn without_v(text: &str) -> &str {
    let rest = text.strip_prefix(['v', 'V']).unwrap_or(text);
    if rest.starts_with(|c: char| c.is_ascii_digit()) { rest } else { text }
}
