//! One release held against the rules.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Serialize;

use super::{AcceptedLicense, Effective, LicenseVerdict, Rule, Rules, Stance, Waiver};
use crate::advisory::{Affecting, Severity};
use crate::card::{Deprecation, Withdrawal};
use crate::history::Release;
use crate::license::License;
use crate::name::{PackageName, Purpose};
use crate::range::Range;
use crate::source::{GitSource, Source};
use crate::version::Version;

/// A release, with all that rules ask about.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'r> {
    /// The release.
    pub release: &'r Release,
    /// Where it comes from.
    pub source: &'r Source,
    /// Whether that stands in for the package while somebody works on it.
    pub is_stand_in: bool,
    /// What affects releases of the package.
    pub advisories: &'r [Affecting],
    /// The release before it, if there is one.
    pub before: Option<&'r Version>,
}

impl Subject<'_> {
    fn package(&self) -> &PackageName {
        &self.release.entry.name
    }

    /// The advisories that affect it.
    fn affected_by(&self) -> impl Iterator<Item = &Affecting> {
        self.advisories.iter().filter(|one| one.versions.contains(&self.release.entry.version))
    }

    /// Whether it is the first release that an advisory doesn't affect any more.
    fn is_fix(&self) -> bool {
        let version = &self.release.entry.version;
        self.advisories.iter().any(|one| one.is_fixed_by(version, self.before))
    }
}

/// How a release breaks a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Breach {
    /// The rule.
    pub rule: Rule,
    /// What the rule says.
    pub stance: Stance,
    /// What the release has to do with it.
    pub reason: Reason,
}

impl Breach {
    /// Whether it may not stay: the rule refuses it, or its licence waits for a person.
    pub fn is_forbidden(&self) -> bool {
        self.stance == Stance::Refuse || self.reason.is_unaccepted()
    }
}

/// What a release has to do with a rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub enum Reason {
    /// Its licence isn't allowed; `None` where it declares none.
    RefusedLicense(Option<License>),
    /// Nobody accepted its licence yet.
    UnacceptedLicense(Option<License>),
    /// Its version is barred.
    Barred {
        /// The versions that are.
        range: Range,
        /// Why.
        reason: String,
    },
    /// It is younger than it has to be.
    Young {
        /// When it was published.
        published: Timestamp,
        /// The age that it has to have.
        age: String,
    },
    /// It comes from a source that isn't allowed.
    Source(Source),
    /// It was withdrawn.
    Withdrawn(Withdrawal),
    /// It is deprecated.
    Deprecated(Deprecation),
    /// It is the tip of a branch, which moves.
    Moving {
        /// The branch.
        branch: String,
    },
    /// It stands in for the package.
    StandIn(Source),
    /// An advisory affects it.
    Advisory(KnownAdvisory),
}

/// An advisory, as a reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KnownAdvisory {
    /// Its name.
    pub id: String,
    /// What it is, in a line.
    pub summary: String,
    /// How bad it is.
    pub severity: Severity,
    /// All its names.
    #[serde(skip)]
    pub names: BTreeSet<String>,
}

impl From<&Affecting> for KnownAdvisory {
    fn from(affecting: &Affecting) -> Self {
        let advisory = &affecting.advisory;
        Self {
            id: advisory.id.clone(),
            summary: advisory.summary.clone(),
            severity: affecting.severity,
            names: affecting.names.clone(),
        }
    }
}

impl Reason {
    /// Whether it is a licence that nobody accepted yet.
    pub fn is_unaccepted(&self) -> bool {
        matches!(self, Self::UnacceptedLicense(_))
    }

    /// Whether one sentence can tell of releases with either reason.
    pub fn is_told_like(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Young { age, .. }, Self::Young { age: same, .. }) => age == same,
            _ => self == other,
        }
    }
}

impl Rules {
    /// How a release breaks the rules of a scope at a time, without regard to waivers; what a lock is made of is judged alike.
    ///
    /// Not among it: facets that it doesn't declare, which depend on targets.
    pub fn breaches(&self, scope: Option<&Purpose>, subject: &Subject<'_>, now: Timestamp) -> Vec<Breach> {
        let rules = self.for_package(scope, subject.package());
        let release = subject.release;
        let stated = |rule: Rule, stance: Stance, reason: Option<Reason>| {
            reason.filter(|_| stance != Stance::Accept).map(|reason| Breach { rule, stance, reason })
        };
        let breaches = [
            self.license_breach(scope, subject),
            stated(Rule::Barred, Stance::Refuse, barred(&rules, subject)),
            stated(Rule::MinAge, Stance::Refuse, young(&rules, subject, now)),
            stated(Rule::Sources, Stance::Refuse, from_elsewhere(&rules, subject)),
            stated(
                Rule::Withdrawn,
                rules.stance(|set| set.withdrawn.as_ref()),
                release.withdrawn.clone().map(Reason::Withdrawn),
            ),
            stated(
                Rule::Deprecated,
                rules.stance(|set| set.deprecated.as_ref()),
                release.deprecated.clone().map(Reason::Deprecated),
            ),
            stated(
                Rule::Moving,
                rules.stance(|set| set.moving.as_ref()),
                subject.source.git().and_then(moving),
            ),
            stated(
                Rule::StandIns,
                rules.stance(|set| set.stand_ins.as_ref()),
                subject.is_stand_in.then(|| Reason::StandIn(subject.source.clone())),
            ),
        ];
        breaches.into_iter().flatten().chain(advisory_breaches(&rules, subject)).collect()
    }

    /// Why a release is no candidate in a scope; `None` where it is one.
    pub fn refusal(&self, scope: Option<&Purpose>, subject: &Subject<'_>, now: Timestamp) -> Option<Reason> {
        let breaches = self.breaches(scope, subject, now).into_iter();
        let refused =
            breaches.filter(|breach| breach.stance == Stance::Refuse && breach.rule != Rule::Withdrawn);
        let mut unexcepted = refused.filter(|breach| self.waiver_for(breach, subject.release, now).is_none());
        unexcepted.next().map(|breach| breach.reason)
    }

    /// The advisory that affects a release, where the rules refuse it or warn of it, and nothing excepts it.
    pub fn advisory_breach(
        &self,
        scope: Option<&Purpose>,
        subject: &Subject<'_>,
        now: Timestamp,
    ) -> Option<Reason> {
        let breaches = self.breaches(scope, subject, now).into_iter();
        let mut of_advisories = breaches.filter(|breach| {
            breach.rule == Rule::Advisories && self.waiver_for(breach, subject.release, now).is_none()
        });
        of_advisories.next().map(|breach| breach.reason)
    }

    /// The waiver that excepts a breach by a release at a time.
    pub fn waiver_for(&self, breach: &Breach, release: &Release, now: Timestamp) -> Option<&Waiver> {
        let entry = &release.entry;
        self.waivers
            .iter()
            .find(|waiver| waiver.covers(breach, &entry.name, &entry.version) && !waiver.is_over(now))
    }

    /// Whether a person accepted the licence of a release.
    pub fn is_accepted(&self, release: &Release) -> bool {
        let accepted = self.accepted.get(&release.entry.name);
        let is_this = |accepted: &AcceptedLicense| {
            accepted.license == release.entry.license && accepted.range.includes(&release.entry.version)
        };
        accepted.is_some_and(|all| all.iter().any(is_this))
    }

    fn license_breach(&self, scope: Option<&Purpose>, subject: &Subject<'_>) -> Option<Breach> {
        // A project's own packages need nobody's consent.
        if is_inside(subject.source) {
            return None;
        }
        let rules = self.for_package(scope, subject.package());
        let license = subject.release.entry.license.as_ref();
        let breach = |stance, reason| Some(Breach { rule: Rule::Licenses, stance, reason });
        match rules.get(|set| set.licenses.as_ref())?.verdict(license) {
            LicenseVerdict::Refuse => breach(Stance::Refuse, Reason::RefusedLicense(license.cloned())),
            LicenseVerdict::Ask if !self.is_accepted(subject.release) => {
                breach(Stance::Warn, Reason::UnacceptedLicense(license.cloned()))
            }
            LicenseVerdict::Ask | LicenseVerdict::Accept => None,
        }
    }
}

/// How a release breaks the rule about advisories: once for each that counts.
fn advisory_breaches(rules: &Effective<'_>, subject: &Subject<'_>) -> Vec<Breach> {
    let levels = rules.get(|set| set.advisories.as_ref()).copied().unwrap_or_default();
    let breaches = subject.affected_by().map(|affecting| Breach {
        rule: Rule::Advisories,
        stance: levels.stance(affecting.severity),
        reason: Reason::Advisory(affecting.into()),
    });
    breaches.filter(|breach| breach.stance != Stance::Accept).collect()
}

/// Whether a source is a folder of the workspace itself.
fn is_inside(source: &Source) -> bool {
    source.path().is_some_and(|path| !path.starts_with(".."))
}

/// That a release is barred by its version.
fn barred(rules: &Effective<'_>, subject: &Subject<'_>) -> Option<Reason> {
    let barred = rules.get(|set| set.barred.as_ref())?.get(subject.package())?;
    let barred = barred.iter().find(|barred| barred.range.includes(&subject.release.entry.version))?;
    Some(Reason::Barred { range: barred.range.clone(), reason: barred.reason.clone() })
}

/// That a release is younger than it has to be; what no registry published has no age.
fn young(rules: &Effective<'_>, subject: &Subject<'_>, now: Timestamp) -> Option<Reason> {
    let age = rules.get(|set| set.min_age.as_ref())?;
    let published = subject.release.entry.dated().filter(|published| *published > age.before(now))?;
    let fixes_may_be = rules.get(|set| set.min_age_waived.as_ref()).copied().unwrap_or_default();
    let is_waived = fixes_may_be && subject.is_fix();
    (!is_waived).then(|| Reason::Young { published, age: age.to_string() })
}

/// That a release comes from a source that isn't allowed.
fn from_elsewhere(rules: &Effective<'_>, subject: &Subject<'_>) -> Option<Reason> {
    let allowed = rules.get(|set| set.sources.as_ref())?;
    let is_allowed = subject.is_stand_in
        || is_inside(subject.source)
        || allowed.iter().any(|pattern| pattern.covers(subject.package(), subject.source));
    (!is_allowed).then(|| Reason::Source(subject.source.clone()))
}

fn moving(git: &GitSource) -> Option<Reason> {
    let branch = git.at.as_ref()?.strip_prefix("branch ")?.to_owned();
    Some(Reason::Moving { branch })
}
