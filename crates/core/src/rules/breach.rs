//! One release held against the rules.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Serialize;

use super::{AcceptedLicense, Effective, LicenseVerdict, Rule, RuleSets, Rules, Stance, Waiver};
use crate::advisory::{Affecting, Severity};
use crate::card::{Deprecation, Withdrawal};
use crate::charter::CharterRelease;
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
    /// The charter whose rule it is; `None` for the workspace's own.
    pub charter: Option<CharterRelease>,
}

impl Breach {
    /// Whether one sentence can tell of releases with either breach.
    pub fn is_told_like(&self, other: &Self) -> bool {
        self.charter == other.charter && self.reason.is_told_like(&other.reason)
    }

    /// Whether it is about the same thing as another one, by whichever rules.
    fn is_about_same(&self, other: &Self) -> bool {
        self.rule == other.rule
            && match (&self.reason, &other.reason) {
                (Reason::Advisory(one), Reason::Advisory(other)) => one.id == other.id,
                _ => true,
            }
    }

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
    fn is_told_like(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Young { age, .. }, Self::Young { age: same, .. }) => age == same,
            _ => self == other,
        }
    }
}

impl Rules {
    /// How a release breaks the rules of a scope at a time, without regard to waivers; what a lock is made of is judged alike. Where
    /// several rules speak of the same thing, the strictest counts.
    ///
    /// Not among it: facets that it doesn't declare, which depend on targets.
    pub fn breaches(&self, scope: Option<&Purpose>, subject: &Subject<'_>, now: Timestamp) -> Vec<Breach> {
        let own = Judge { sets: &self.own, unmentioned: Stance::default(), charter: None };
        let mut breaches = own.breaches(self, scope, subject, now);
        for charter in &self.charters {
            // What a charter doesn't mention is for the workspace to say.
            let unmentioned = Stance::Accept;
            let judge = Judge { sets: &charter.sets, unmentioned, charter: Some(&charter.charter) };
            for breach in judge.breaches(self, scope, subject, now) {
                match breaches.iter_mut().find(|other| other.is_about_same(&breach)) {
                    Some(other) if other.stance < breach.stance => *other = breach,
                    Some(_) => {}
                    None => breaches.push(breach),
                }
            }
        }
        breaches
    }

    /// Why a release is no candidate in a scope; `None` where it is one.
    pub fn refusal(&self, scope: Option<&Purpose>, subject: &Subject<'_>, now: Timestamp) -> Option<Breach> {
        let breaches = self.breaches(scope, subject, now).into_iter();
        let refused =
            breaches.filter(|breach| breach.stance == Stance::Refuse && breach.rule != Rule::Withdrawn);
        let mut unexcepted = refused.filter(|breach| self.waiver_for(breach, subject.release, now).is_none());
        unexcepted.next()
    }

    /// The advisory that affects a release, where the rules refuse it or warn of it, and nothing excepts it.
    pub fn advisory_breach(
        &self,
        scope: Option<&Purpose>,
        subject: &Subject<'_>,
        now: Timestamp,
    ) -> Option<Breach> {
        let breaches = self.breaches(scope, subject, now).into_iter();
        let mut of_advisories = breaches.filter(|breach| {
            breach.rule == Rule::Advisories && self.waiver_for(breach, subject.release, now).is_none()
        });
        of_advisories.next()
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
}

/// Sets of rules by which releases are judged.
struct Judge<'r> {
    sets: &'r RuleSets,
    /// What is said of something that no set mentions.
    unmentioned: Stance,
    charter: Option<&'r CharterRelease>,
}

impl Judge<'_> {
    fn breaches(
        &self,
        rules: &Rules,
        scope: Option<&Purpose>,
        subject: &Subject<'_>,
        now: Timestamp,
    ) -> Vec<Breach> {
        let effective = self.sets.for_package(scope, subject.package());
        let stance = |stated: Option<&Stance>| stated.copied().unwrap_or(self.unmentioned);
        let (withdrawn, deprecated) = (subject.release.withdrawn.clone(), subject.release.deprecated.clone());
        let stand_in = subject.is_stand_in.then(|| Reason::StandIn(subject.source.clone()));
        let [of_withdrawn, of_deprecated, of_moving, of_stand_ins] = [
            stance(effective.get(|set| set.withdrawn.as_ref())),
            stance(effective.get(|set| set.deprecated.as_ref())),
            stance(effective.get(|set| set.moving.as_ref())),
            stance(effective.get(|set| set.stand_ins.as_ref())),
        ];
        let (of_license, license) = license_breach(&effective, rules, subject).unzip();
        let stated = [
            (Rule::Licenses, of_license.unwrap_or_default(), license),
            (Rule::Barred, Stance::Refuse, barred(&effective, subject)),
            (Rule::MinAge, Stance::Refuse, young(&effective, subject, now)),
            (Rule::Sources, Stance::Refuse, from_elsewhere(&effective, subject)),
            (Rule::Withdrawn, of_withdrawn, withdrawn.map(Reason::Withdrawn)),
            (Rule::Deprecated, of_deprecated, deprecated.map(Reason::Deprecated)),
            (Rule::Moving, of_moving, subject.source.git().and_then(moving)),
            (Rule::StandIns, of_stand_ins, stand_in),
        ];
        let stated = stated.into_iter().filter_map(|(rule, stance, reason)| Some((rule, stance, reason?)));
        let all = stated.chain(self.of_advisories(&effective, subject));
        let breach = |(rule, stance, reason)| Breach { rule, stance, reason, charter: self.charter.cloned() };
        all.filter(|(_, stance, _)| *stance != Stance::Accept).map(breach).collect()
    }

    /// How a release breaks the rule about advisories: once for each that counts.
    fn of_advisories(&self, rules: &Effective<'_>, subject: &Subject<'_>) -> Vec<(Rule, Stance, Reason)> {
        let levels = rules.get(|set| set.advisories.as_ref()).copied().unwrap_or_default();
        let stance = |severity: Severity| {
            if levels.refuse.is_some_and(|refuse| severity >= refuse) {
                Stance::Refuse
            } else {
                match levels.warn {
                    Some(warn) if severity < warn => Stance::Accept,
                    Some(_) => Stance::Warn,
                    None if severity < Severity::Low => Stance::Accept,
                    None => self.unmentioned,
                }
            }
        };
        let breach = |affecting: &Affecting| {
            (Rule::Advisories, stance(affecting.severity), Reason::Advisory(affecting.into()))
        };
        subject.affected_by().map(breach).collect()
    }
}

/// What the rules say of a release's licence, and why, where they don't allow it.
fn license_breach(
    effective: &Effective<'_>,
    rules: &Rules,
    subject: &Subject<'_>,
) -> Option<(Stance, Reason)> {
    // A project's own packages need nobody's consent.
    if is_inside(subject.source) {
        return None;
    }
    let license = subject.release.entry.license.as_ref();
    match effective.get(|set| set.licenses.as_ref())?.verdict(license) {
        LicenseVerdict::Refuse => Some((Stance::Refuse, Reason::RefusedLicense(license.cloned()))),
        LicenseVerdict::Ask if !rules.is_accepted(subject.release) => {
            Some((Stance::Warn, Reason::UnacceptedLicense(license.cloned())))
        }
        LicenseVerdict::Ask | LicenseVerdict::Accept => None,
    }
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
