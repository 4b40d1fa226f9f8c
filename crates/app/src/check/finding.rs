//! What a check finds: a code, a level, where, what, and what to do.

use std::ops;

use bibliotax_core::charter::CharterRelease;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::{PackageName, Purpose, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::rules::{KnownAdvisory, Rule, Stance};
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use jiff::civil::Date;

use super::location::Location;
use crate::workspace::{LockFile, WorkspaceFolder};

/// Something that is wrong or worth a look.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// Its stable code.
    pub code: &'static str,
    /// How serious it is.
    pub level: Level,
    /// The package that it is about.
    pub package: Option<PackageName>,
    /// What was found, as a sentence without a full stop.
    pub message: String,
    /// What to do about it.
    pub advice: String,
    /// Where it is.
    pub place: Place,
    /// The same as file, line and column.
    pub location: Location,
    /// What it is about, by its kind.
    pub subject: Subject,
    /// Whether the rules forbid it.
    pub is_forbidden: bool,
    /// Whether it is a licence that nobody accepted yet.
    pub is_unaccepted_license: bool,
    /// Why it doesn't count for now.
    pub waived: Option<Waived>,
}

/// How serious a finding is; the most serious first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// It has to be fixed.
    Error,
    /// It is worth a look.
    Warning,
    /// It is good to know.
    Note,
}

/// Where a finding is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// In the lock: the line of a package, or the whole.
    Lock(Option<PackageName>),
    /// In the manifest of a folder, seen from the workspace's: at a place, or the whole.
    Manifest(String, Option<ops::Range<usize>>),
}

/// What a finding is about, by its kind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// The lock is not what the manifests lead to.
    Lock {
        /// Whether it can't be trusted, so that an install stays away from it.
        is_faulty: bool,
    },
    /// Something is to stand in for a package.
    StandIn {
        /// What stands in for it; none where nothing needs the package.
        by: Option<(Source, Version)>,
    },
    /// Projects declare a package with different ranges.
    Drift {
        /// A range that all of them accept.
        common: Option<Range>,
        /// The needs.
        needs: Vec<DriftingNeed>,
    },
    /// A locked release breaks a rule.
    Rule {
        /// The rule.
        rule: Rule,
        /// The release's version.
        version: Version,
        /// The purpose whose rule it is.
        scope: Option<Purpose>,
        /// What tells it from other findings of the same rule about the same package.
        detail: String,
        /// The advisory that it is about.
        advisory: Option<KnownAdvisory>,
    },
    /// A waiver has ended, or excepts nothing.
    Waiver {
        /// The rule that it is about.
        rule: Rule,
    },
    /// A package strays from a charter, or something of the charter isn't used.
    Charter {
        /// The charter's release.
        charter: CharterRelease,
        /// The range that it has for the package.
        range: Option<Range>,
    },
    /// Several registries have a package of one name.
    SharedName {
        /// Those that aren't used.
        others: Vec<RegistryName>,
    },
    /// A feed of advisories is away, old, or has records that can't be read.
    Feed {
        /// Where it is, as the manifest says.
        place: String,
    },
    /// A licence text is that of another licence than the declared one.
    LicenseText {
        /// The text's file in the package.
        path: String,
        /// The licences that it is like.
        ids: Vec<String>,
    },
    /// A bill of materials lists something else than the lock has.
    Bill {
        /// The versions that it lists.
        listed: Vec<String>,
    },
    /// The shelf isn't what the lock says.
    Shelf,
}

/// Why a finding doesn't count for now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waived {
    /// The waiver's reason.
    pub reason: String,
    /// Its last day.
    pub until: Date,
}

/// A project's need of a package that others declare with another range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DriftingNeed {
    /// The project.
    pub project: PackageName,
    /// Its folder, from the workspace's.
    pub folder: String,
    /// Its folder as people write it.
    pub path: String,
    /// What it is for, beside running.
    pub purpose: Option<Purpose>,
    /// The range.
    pub range: Range,
    /// Whether the range is the workspace's.
    pub is_shared: bool,
    /// Where the need stands in the project's manifest.
    pub span: ops::Range<usize>,
}

impl Finding {
    /// A finding that is neither forbidden nor excepted.
    pub(super) fn new(
        code: &'static str,
        level: Level,
        message: impl Into<String>,
        advice: impl Into<String>,
        (place, subject): (Place, Subject),
    ) -> Self {
        let (message, advice) = (message.into(), advice.into());
        let (package, waived) = (None, None);
        let (is_forbidden, is_unaccepted_license) = (false, false);
        let location = Location::default();
        Self {
            code,
            level,
            package,
            message,
            advice,
            place,
            location,
            subject,
            is_forbidden,
            is_unaccepted_license,
            waived,
        }
    }

    /// The same finding about a package.
    #[must_use]
    pub(super) fn about(self, package: &PackageName) -> Self {
        Self { package: Some(package.clone()), ..self }
    }

    /// What names the finding in any version of lock and manifest: no versions, no lines.
    pub fn fingerprint(&self) -> String {
        let package = self.package.as_ref().map_or("", PackageName::as_str);
        let detail = match &self.subject {
            Subject::Rule { scope, detail, .. } => {
                format!("{} {detail}", scope.as_ref().map_or("", Purpose::as_str))
            }
            Subject::Feed { place } => place.clone(),
            Subject::LicenseText { path, .. } => path.clone(),
            Subject::Charter { charter, .. } => charter.name.to_string(),
            _ => String::new(),
        };
        format!("{} {package} {detail}", self.code).trim_end().to_owned()
    }

    /// Whether a word means it: its code, or the last part of that.
    pub(super) fn is_called(&self, word: &str) -> bool {
        self.code == word || self.code.rsplit('.').next() == Some(word)
    }

    /// That the lock is not what the manifests lead to.
    pub(super) fn of_lock(workspace: &WorkspaceFolder) -> Option<Self> {
        let (code, message) = match &workspace.lock {
            LockFile::None => ("lock.missing", "there is no lock yet".to_owned()),
            LockFile::Faulty { fault, .. } => (fault.code, fault.message.clone()),
            LockFile::Sound { .. } if !workspace.is_locked() => {
                ("lock.stale", "manifests changed since the lock was written".to_owned())
            }
            LockFile::Sound { .. } => return None,
        };
        let is_faulty = matches!(workspace.lock, LockFile::Faulty { .. });
        let command = if is_faulty { "resolve" } else { "install" };
        let place = (Place::Lock(None), Subject::Lock { is_faulty });
        Some(Self::new(code, Level::Error, message, format!("`bibliotax {command}` updates it"), place))
    }

    /// What stands in for packages.
    pub(super) fn of_stand_ins(workspace: &WorkspaceFolder) -> Vec<Self> {
        let locked = workspace.locked();
        let rules = &workspace.declared.rules;
        let finding = |(name, stand_in): (&PackageName, &bibliotax_core::manifest::StandIn)| {
            let package = locked.iter().find(|package| package.name == *name && package.stood_in);
            let by = package.map(|package| (package.source.clone(), package.version.clone()));
            let (message, advice) = match &by {
                Some((source, version)) => (
                    format!("{source} is the stand-in for {name} {version}"),
                    "sealed installs and publishing refuse stand-ins; remove it from `[stand-ins]` when it is no longer needed",
                ),
                None => (
                    format!("there is a stand-in for {name}, but nothing needs it"),
                    "remove it from `[stand-ins]`",
                ),
            };
            let place = Place::Manifest(String::new(), Some(stand_in.span.clone()));
            let finding =
                Self::new("stood-in", Level::Warning, message, advice, (place, Subject::StandIn { by }));
            // Where it is refused, the rule has a finding of its own.
            let stance = rules.stand_in(name);
            (stance == Stance::Warn || package.is_none()).then(|| finding.about(name))
        };
        workspace.declared.stand_ins.iter().filter_map(finding).collect()
    }

    /// That projects declare a package with different ranges.
    pub(super) fn of_drift(
        package: &PackageName,
        common: Option<Range>,
        needs: Vec<DriftingNeed>,
        unifies: bool,
    ) -> Self {
        let advice = match &common {
            Some(range) if unifies => format!("all accept \"{range}\", which they share:"),
            Some(range) => {
                format!("all accept \"{range}\": `bibliotax check --unify` makes it a shared range")
            }
            None => "no version is in all of them, so one lock can't satisfy all".to_owned(),
        };
        let place = needs
            .first()
            .map_or(Place::Lock(None), |need| Place::Manifest(need.folder.clone(), Some(need.span.clone())));
        let message = format!("{package} is declared with different ranges");
        let subject = Subject::Drift { common, needs };
        Self::new("drift", Level::Warning, message, advice, (place, subject)).about(package)
    }

    /// That other registries have a package of the name of a locked one.
    pub(super) fn of_shared_name(package: &LockedPackage, others: &[RegistryName]) -> Self {
        let name = &package.name;
        let names: Vec<&str> = others.iter().map(RegistryName::as_str).collect();
        let message = format!("{name} is in {} and in {}", package.source, names.join(" and "));
        let advice = "say which one is meant, with `owns` at the registry or with `from` at the need";
        let place = (Place::Lock(Some(name.clone())), Subject::SharedName { others: others.to_vec() });
        Self::new("shared-name", Level::Error, message, advice, place).about(name)
    }

    /// That the shelf isn't what manifests and lock say.
    pub(super) fn of_stale_shelf() -> Self {
        let message = "the shelf isn't what the lock says";
        let place = (Place::Lock(None), Subject::Shelf);
        Self::new("shelf.stale", Level::Warning, message, "`bibliotax install` updates it", place)
    }
}
