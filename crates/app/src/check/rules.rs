//! What the rules say of a lock.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bibliotax_core::advisory::Affecting;
use bibliotax_core::compliance::{Known, LockBreach, breaches, unused_waivers};
use bibliotax_core::fitting;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Catalogue, Listing};
use bibliotax_core::rules::{KnownAdvisory, Reason, Rule, Rules, Waiver, day_of};
use bibliotax_core::source::Source;
use bibliotax_present::words::count;
use bibliotax_registry::catalogue::registries::Registries;
use jiff::Timestamp;
use rayon::prelude::*;

use super::{Finding, Level, Place, Subject, Waived};
use crate::context::Context;
use crate::failure::Failure;
use crate::resolving::prefetch_locked;
use crate::workspace::WorkspaceFolder;

/// Why packages are to leave.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Leaving {
    /// The rules forbid them.
    Forbidden,
    /// Advisories affect them, and other releases of them aren't.
    Advisories,
}

/// The locked packages that are to leave, and that another release could take the place of.
pub(crate) fn leaving(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    registries: &Registries,
    why: Leaving,
    context: &Context<'_>,
) -> Result<BTreeSet<PackageName>, Failure> {
    let is_leaving = |finding: &Finding| {
        let Subject::Rule { rule, .. } = &finding.subject else { return false };
        // Where a package comes from, and that a person accepts its licence, is for the manifest to say.
        let is_for_manifest = matches!(rule, Rule::Moving | Rule::StandIns) || finding.is_unaccepted_license;
        finding.waived.is_none()
            && match why {
                Leaving::Forbidden => finding.is_forbidden && !is_for_manifest,
                Leaving::Advisories => *rule == Rule::Advisories,
            }
    };
    let findings = findings(workspace, lock, registries, context)?.into_iter().filter(is_leaving);
    let names: BTreeSet<PackageName> = findings.filter_map(|finding| finding.package).collect();
    if why == Leaving::Forbidden {
        return Ok(names);
    }
    let mut leaving = BTreeSet::new();
    for name in names {
        if has_unaffected(&name, registries)? {
            leaving.insert(name);
        }
    }
    Ok(leaving)
}

/// Whether a package has a release that no advisory affects.
fn has_unaffected(name: &PackageName, registries: &Registries) -> Result<bool, Failure> {
    let Some(listing) = registries.listing(name)? else { return Ok(false) };
    let advisories = registries.advisories(&listing)?;
    let affected = |version| advisories.iter().any(|one| one.versions.contains(version));
    Ok(listing.history.releases().iter().any(|release| !affected(&release.entry.version)))
}

/// What the rules of a workspace say of a lock, by what its registries say of its releases today.
pub(super) fn findings(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    registries: &Registries,
    context: &Context<'_>,
) -> Result<Vec<Finding>, Failure> {
    prefetch_locked(registries, lock.packages.iter());
    let listings = listings(lock, registries, context.environment.is_offline)?;
    let (rules, now) = (&workspace.declared.rules, context.environment.now);
    let advisories = advisories(&listings, registries)?;
    let known = |package: &LockedPackage| {
        let listing = listings.get(&package.name).filter(|listing| is_of(listing, &package.source))?;
        Known::of_listing(
            listing,
            &package.version,
            advisories.get(&package.name).cloned().unwrap_or_default(),
        )
    };
    let breaches = breaches(lock, rules, known, now);
    let mut findings: Vec<Finding> = breaches.iter().filter_map(of_breach).collect();
    findings.extend(unmaintained(lock, rules, &listings, now));
    findings.extend(about_waivers(rules, &breaches, now));
    Ok(findings)
}

/// What registries have of the locked packages.
fn listings(
    lock: &Lock,
    registries: &Registries,
    is_offline: bool,
) -> Result<BTreeMap<PackageName, Arc<Listing>>, Failure> {
    let listing = |package: &LockedPackage| {
        let listing = match registries.listing(&package.name) {
            // What was never looked up on this machine can't be judged by more than the lock.
            Err(_) if is_offline => None,
            found => found?,
        };
        Ok(listing.map(|listing| (package.name.clone(), listing)))
    };
    lock.packages.par_iter().filter_map(|package| listing(package).transpose()).collect()
}

/// What affects releases of the locked packages.
fn advisories(
    listings: &BTreeMap<PackageName, Arc<Listing>>,
    registries: &Registries,
) -> Result<BTreeMap<PackageName, Arc<[Affecting]>>, Failure> {
    let of_one =
        |(name, listing): (&PackageName, &Arc<Listing>)| Ok((name.clone(), registries.advisories(listing)?));
    listings.par_iter().map(of_one).collect()
}

/// Whether a listing is of the source that a package is locked to.
fn is_of(listing: &Listing, source: &Source) -> bool {
    source.registry().is_none() || listing.source == *source
}

/// The finding that a breach is; none where a finding of another kind tells of it.
fn of_breach(breach: &LockBreach<'_>) -> Option<Finding> {
    let LockBreach { package, scope, breach, waiver } = breach;
    let name = &package.name;
    let is_forbidden = breach.is_forbidden();
    if breach.rule == Rule::StandIns && !is_forbidden {
        return None;
    }
    let level = if is_forbidden { Level::Error } else { Level::Warning };
    let who = format!("{name} {}", package.version);
    let message = match &breach.reason {
        // A warning doesn't mention the rules.
        Reason::Withdrawn(withdrawal) if !is_forbidden => {
            format!("{who} was withdrawn ({})", withdrawal.reason)
        }
        Reason::Deprecated(deprecation) if !is_forbidden => {
            let instead = deprecation.instead.as_ref();
            let instead = instead.map(|name| format!("; use {name} instead")).unwrap_or_default();
            format!("{who} is deprecated ({}){instead}", deprecation.reason)
        }
        Reason::Advisory(KnownAdvisory { id, severity, summary, .. }) if !is_forbidden => {
            format!("{who} is affected by {id}, {severity} ({summary})")
        }
        Reason::Moving { branch } if !is_forbidden => format!("{who} is the tip of {branch}, which moves"),
        _ => breach.sentence(*scope, &who, true),
    };
    let subject = Subject::Rule {
        rule: breach.rule,
        version: package.version.clone(),
        scope: scope.cloned(),
        detail: detail(&breach.reason),
        advisory: if let Reason::Advisory(advisory) = &breach.reason { Some(advisory.clone()) } else { None },
    };
    let place = Place::Lock(Some(name.clone()));
    let finding = Finding::new(
        code(breach.rule),
        level,
        message,
        advice(breach.rule, name, &breach.reason, is_forbidden),
        (place, subject),
    );
    let waived = waiver.map(waived);
    let is_unaccepted_license = breach.reason.is_unaccepted();
    Some(Finding { is_forbidden, is_unaccepted_license, waived, ..finding.about(name) })
}

fn waived(waiver: &Waiver) -> Waived {
    Waived { reason: waiver.reason.clone(), until: waiver.until }
}

/// What tells a breach from others of the same rule by the same package.
fn detail(reason: &Reason) -> String {
    match reason {
        Reason::RefusedLicense(license) | Reason::UnacceptedLicense(license) => {
            license.as_ref().map(ToString::to_string).unwrap_or_default()
        }
        Reason::Source(source) => source.to_string(),
        Reason::Advisory(advisory) => advisory.id.clone(),
        _ => String::new(),
    }
}

fn code(rule: Rule) -> &'static str {
    match rule {
        Rule::Licenses => "rules.licenses",
        Rule::Barred => "rules.barred",
        Rule::MinAge => "rules.min-age",
        Rule::MaxAge => "rules.max-age",
        Rule::Sources => "rules.sources",
        Rule::Withdrawn => "rules.withdrawn",
        Rule::Deprecated => "rules.deprecated",
        Rule::Undeclared => "rules.undeclared",
        Rule::Moving => "rules.moving",
        Rule::StandIns => "rules.stand-ins",
        Rule::Advisories => "rules.advisories",
    }
}

fn advice(rule: Rule, package: &PackageName, reason: &Reason, is_forbidden: bool) -> String {
    match (rule, reason) {
        (_, Reason::UnacceptedLicense(_)) => {
            "`bibliotax accept PACKAGE` accepts a licence for the team; `bibliotax describe PACKAGE` shows the package"
                .to_owned()
        }
        (Rule::Advisories, _) => {
            "`bibliotax update --advisories` moves to releases that aren't affected; \
             `bibliotax check --explain ADVISORY` shows more"
                .to_owned()
        }
        (Rule::StandIns, _) => "remove it from `[stand-ins]`".to_owned(),
        (Rule::Moving, _) => format!("take a tag or a commit instead: `bibliotax need {package} --git URL --tag TAG`"),
        _ if is_forbidden => {
            "`bibliotax update --comply` moves to what the rules allow, and as little else as possible; or add a waiver"
                .to_owned()
        }
        (Rule::Withdrawn | Rule::Deprecated, _) => format!("`bibliotax newer {package}` shows what there is instead"),
        _ => format!("`bibliotax describe {package}` shows what is known of it"),
    }
}

/// The packages whose newest release is older than the rules want.
fn unmaintained(
    lock: &Lock,
    rules: &Rules,
    listings: &BTreeMap<PackageName, Arc<Listing>>,
    now: Timestamp,
) -> Vec<Finding> {
    let finding = |package: &LockedPackage| {
        let name = &package.name;
        let age = rules.max_age(name, now)?;
        let releases = listings.get(name)?.history.releases();
        let newest = fitting::newest(releases)?;
        let published = newest.entry.dated().filter(|at| *at < age.before(now))?;
        let day = day_of(published);
        let mut waivers = rules.waivers.iter().filter(|waiver| !waiver.is_over(now));
        let waiver = waivers.find(|waiver| waiver.speaks_of(Rule::MaxAge, name, &newest.entry.version));
        let message = format!("{name} had its last release on {day}, more than {age} ago");
        let subject = Subject::Rule {
            rule: Rule::MaxAge,
            version: package.version.clone(),
            scope: None,
            detail: String::new(),
            advisory: None,
        };
        let place = (Place::Lock(Some(name.clone())), subject);
        let advice = "look whether somebody still maintains it; a waiver for `max-age` says that you did";
        let finding = Finding::new(code(Rule::MaxAge), Level::Warning, message, advice, place);
        Some(Finding { waived: waiver.map(waived), ..finding.about(name) })
    };
    lock.packages.iter().filter_map(finding).collect()
}

/// The waivers that have ended or except nothing.
fn about_waivers(rules: &Rules, breaches: &[LockBreach<'_>], now: Timestamp) -> Vec<Finding> {
    let unused = unused_waivers(rules, breaches);
    let finding = |waiver: &Waiver| {
        let (rule, package) = (waiver.rule, &waiver.package);
        let is_unused = rule != Rule::MaxAge && unused.contains(&waiver);
        let place = || (Place::Manifest(String::new(), Some(waiver.span.clone())), Subject::Waiver { rule });
        let of = format!("the waiver of `{}` for {package}", rule.as_str());
        let finding = if is_unused {
            let message = format!("{of} excepts nothing any more");
            Finding::new(
                "rules.waiver-unused",
                Level::Note,
                message,
                "remove it from `[[rules.waivers]]`",
                place(),
            )
        } else if waiver.is_over(now) {
            let days = waiver.until.until(day_of(now));
            let days = days.map_or(0, |span| usize::try_from(span.get_days()).unwrap_or_default());
            let message = format!("{of} ended on {}, {} ago", waiver.until, count(days, "day"));
            let advice = "fix what it excepted, or give it a new end if the reason still holds";
            Finding::new("rules.waiver-ended", Level::Warning, message, advice, place())
        } else {
            return None;
        };
        Some(finding.about(package))
    };
    rules.waivers.iter().filter_map(finding).collect()
}
