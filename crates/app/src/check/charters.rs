//! What of a lock strays from the charters of its workspace, and what of them nobody uses.

use bibliotax_core::charter::{DeclaredCharter, Exception, LockedCharter};
use bibliotax_core::lock::{CharterUse, Lock, LockedPackage};
use bibliotax_core::manifest::Need;
use bibliotax_core::range::Range;
use bibliotax_core::workspace::{Project, Workspace};
use bibliotax_present::words::first_few;
use bibliotax_present::words::manifest_key;

use super::{Finding, Level, Place, Subject};

/// Most names that are listed.
const MAX_NAMES: usize = 5;

/// What is to be said of the charters that bind a workspace.
pub(super) fn findings(declared: &Workspace, lock: &Lock) -> Vec<Finding> {
    let mut findings = contradictions(declared);
    for bound in &declared.bound {
        let Some(charter) = declared.declared_charter(&bound.name) else { continue };
        let about = About { declared, lock, bound, charter };
        findings.extend(about.straying());
        findings.extend(about.exceptions());
        findings.extend(about.own_ranges());
        findings.extend(about.unused());
    }
    findings
}

/// Packages for which no version is in the ranges of two charters.
fn contradictions(declared: &Workspace) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (at, one) in declared.bound.iter().enumerate() {
        for other in &declared.bound[at + 1..] {
            for (package, range) in &one.charter.ranges {
                let Some(also) = other.charter.ranges.get(package) else { continue };
                if !range.set(true).and(also.set(true)).is_none() {
                    continue;
                }
                let message = format!(
                    "no version of {package} is allowed: {} allows {range}, and {} allows {also}",
                    one.release(),
                    other.release()
                );
                let span = declared.declared_charter(&other.name).map(|charter| charter.span.clone());
                let place = Place::Manifest(String::new(), span);
                let advice = format!(
                    "except it from one of them: `except = [{{ package = \"{package}\", reason = \"…\" }}]`"
                );
                let subject = Subject::Charter { charter: other.release(), range: Some(also.clone()) };
                let finding =
                    Finding::new("charter.contradiction", Level::Warning, message, advice, (place, subject));
                findings.push(finding.about(package));
            }
        }
    }
    findings
}

/// A charter that binds a workspace.
struct About<'w> {
    declared: &'w Workspace,
    lock: &'w Lock,
    bound: &'w LockedCharter,
    charter: &'w DeclaredCharter,
}

impl About<'_> {
    /// Whether a locked package is outside of the charter's range for it, and which that is.
    fn outside(&self, package: &LockedPackage) -> Option<&Range> {
        let range = self.bound.charter.range_of(&package.name)?;
        (!range.set(true).contains(package.version.point())).then_some(range)
    }

    fn finding(
        &self,
        code: &'static str,
        level: Level,
        message: String,
        advice: String,
        (place, range): (Place, Option<&Range>),
    ) -> Finding {
        let subject = Subject::Charter { charter: self.bound.release(), range: range.cloned() };
        Finding::new(code, level, message, advice, (place, subject))
    }

    /// The locked packages that are outside of the charter's ranges, because they are excepted or people work on them.
    fn straying(&self) -> Vec<Finding> {
        let finding = |package: &LockedPackage| {
            let range = self.outside(package)?;
            let (name, release) = (&package.name, self.bound.release());
            let message = format!(
                "{name} {} is outside of {range}, which the charter {release} allows",
                package.version
            );
            let finding = match self.charter.exception(name) {
                Some(Exception { reason, span, .. }) => {
                    let place = Place::Manifest(String::new(), Some(span.clone()));
                    let message = format!("{message}; it is excepted ({reason})");
                    let advice = "remove the exception when its reason no longer holds".to_owned();
                    self.finding("charter.strays", Level::Note, message, advice, (place, Some(range)))
                }
                None => {
                    let place = Place::Lock(Some(name.clone()));
                    let message = format!("{message}; it comes from {}", package.source);
                    let advice =
                        "charters don't bind what people work on; check it before you publish".to_owned();
                    self.finding("charter.strays", Level::Warning, message, advice, (place, Some(range)))
                }
            };
            Some(finding.about(name))
        };
        self.lock.packages.iter().filter_map(finding).collect()
    }

    /// The exceptions that nothing needs any more.
    fn exceptions(&self) -> Vec<Finding> {
        let is_needed = |exception: &&Exception| {
            let locked = self.lock.package(&exception.package);
            locked.is_some_and(|package| self.outside(package).is_some())
        };
        let finding = |exception: &Exception| {
            let place = Place::Manifest(String::new(), Some(exception.span.clone()));
            let message = format!(
                "the exception of {} from the charter {} excepts nothing",
                exception.package, self.bound.name
            );
            let advice = "remove it from `except`".to_owned();
            let finding =
                self.finding("charter.exception-unused", Level::Note, message, advice, (place, None));
            finding.about(&exception.package)
        };
        self.charter.except.iter().filter(|exception| !is_needed(exception)).map(finding).collect()
    }

    /// The needs with a range of their own for which the charter has another.
    fn own_ranges(&self) -> Vec<Finding> {
        let finding = |(project, need): (&Project, &Need)| {
            let is_own = !need.is_chartered && need.source.is_none();
            let range = self.bound.charter.range_of(&need.package).filter(|_| is_own)?;
            let is_same = need.range.set(true) == range.set(true);
            if is_same || self.charter.exception(&need.package).is_some() {
                return None;
            }
            let (name, release) = (&need.package, self.bound.release());
            let message = format!(
                "{} has its own range {} for {name}, and the charter {release} has {range}",
                project.name(),
                need.range
            );
            let advice = format!("write `{} = \"charter\"`", manifest_key(name));
            let place = Place::Manifest(project.folder.clone(), Some(need.span.clone()));
            let finding =
                self.finding("charter.own-range", Level::Note, message, advice, (place, Some(range)));
            Some(finding.about(name))
        };
        self.declared.needs().filter_map(finding).collect()
    }

    /// What the charter has and nobody uses here.
    fn unused(&self) -> Option<Finding> {
        let unused = CharterUse::of(self.lock, self.bound).unused;
        let names: Vec<String> = unused.into_iter().map(str::to_owned).collect();
        if names.is_empty() {
            return None;
        }
        let message = format!(
            "nothing here uses {}, which {} is about",
            first_few(&names, MAX_NAMES),
            self.bound.release()
        );
        let place = Place::Manifest(String::new(), Some(self.charter.span.clone()));
        let advice = format!("`bibliotax explain {}` shows all that it binds", self.bound.name);
        Some(self.finding("charter.unused", Level::Note, message, advice, (place, None)))
    }
}
