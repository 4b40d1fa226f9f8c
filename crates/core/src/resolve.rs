//! Resolving: from needs and the releases in registries to one release of each package.
//!
//! The answer is complete (a set of releases exactly when one exists), the best by a stated order, and the
//! same for any order in which entries arrive:
//!
//! 1. What is locked stays: direct needs in the manifest's order, then what staying ones need, nearest first, by name.
//! 2. Each direct need, in the manifest's order, is as new as those before it allow; deprecated releases come last.
//! 3. Nothing is taken that nobody needs.
//! 4. The rest, nearest to the project first and by name, stays if it can and otherwise is as new as can be.
//!
//! `engine` is the machine: many-valued variables, clauses, propagation and learning from conflicts. It knows
//! nothing of packages, but that the first choice of a variable leaves it out. `universe` states packages to it as facts, read from the [`Catalogue`] only as far
//! as the search reaches. `search` decides in the order above, `conflict` tells in sentences why there is no
//! answer, and `ways_out` finds what could change so that there is one. `update` moves what was asked and as
//! little else as possible.

mod choices;
mod conflict;
mod engine;
mod problem;
mod providers;
mod search;
#[cfg(test)]
mod tests;
mod universe;
mod update;
mod ways_out;

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;

pub use self::conflict::{Conflict, Sentence};
pub use self::problem::{Prefer, Problem, ProblemNeed, ProblemProject};
pub use self::providers::{MAX_PROVIDERS, OpenCapability, open_capability};
pub use self::search::resolve;
pub use self::update::{Update, comply, reconcile, update, update_among};
pub use self::ways_out::{Raised, Relaxation, WayOut, ways_out};
use crate::advisory::Affecting;
use crate::card::{Card, FileRecord, Step};
use crate::digest::Digest;
use crate::facet::Facets;
use crate::history::{History, Release};
use crate::name::{ComponentName, PackageName};
use crate::source::Source;
use crate::version::Version;

/// Where the resolver asks what releases there are.
pub trait Catalogue {
    /// Why a package could not be looked up.
    type Error;

    /// All releases of a package and where they come from; `None` if no registry holds the name.
    fn listing(&self, package: &PackageName) -> Result<Option<Arc<Listing>>, Self::Error>;

    /// Whether the caller gave up; looked at now and then during a long search.
    fn is_out_of_time(&self) -> bool {
        false
    }

    /// Now, for rules about ages; the end of time where no clock is read.
    fn now(&self) -> Timestamp {
        Timestamp::MAX
    }

    /// The advisories that affect releases of a package.
    fn advisories(&self, _listing: &Listing) -> Result<Arc<[Affecting]>, Self::Error> {
        Ok(Arc::default())
    }

    /// The facets that are defined where packages come from.
    fn facets(&self) -> Arc<Facets> {
        Arc::default()
    }

    /// Tells which packages will be asked for soon, so that they can be fetched ahead.
    fn prefetch(&self, _packages: &[PackageName]) {}
}

/// A package as one source has it.
#[derive(Debug, Clone)]
pub struct Listing {
    /// Where its releases come from.
    pub source: Source,
    /// The releases.
    pub history: History,
    /// What is known of releases that are in no registry, each with where it comes from.
    pub own: BTreeMap<Version, (Source, Card)>,
    /// Whether it stands in for the package while somebody works on it.
    pub is_stand_in: bool,
}

impl Listing {
    /// A package whose releases all come from one source.
    pub fn new(source: Source, history: History) -> Self {
        Self { source, history, own: BTreeMap::new(), is_stand_in: false }
    }

    /// A package that is in no registry, with these releases; `None` if there are none.
    pub fn of_own(releases: impl IntoIterator<Item = (Source, Card)>) -> Option<Self> {
        let (mut own, mut history) = (BTreeMap::new(), History::default());
        for (source, card) in releases {
            // There is no card that could be fetched.
            let entry = card.entry(Digest::of(b""));
            history.add(Release::new(entry));
            own.insert(card.version.clone(), (source, card));
        }
        let source = own.values().next_back()?.0.clone();
        Some(Self { own, ..Self::new(source, history) })
    }

    /// Whether charters say which of its releases can be chosen: not of what people work on in a folder, or in place of a package.
    pub fn is_bound_by_charters(&self) -> bool {
        !self.is_stand_in && self.source.path().is_none()
    }

    /// Its releases, oldest first, each with where it comes from.
    pub fn sourced_releases(&self) -> impl Iterator<Item = (&Release, &Source)> {
        self.history.releases().iter().map(|release| (release, self.source_of(&release.entry.version)))
    }

    /// Where a release comes from.
    pub fn source_of(&self, version: &Version) -> &Source {
        self.own.get(version).map_or(&self.source, |(source, _)| source)
    }
}

/// The answer to a problem.
#[derive(Debug, Clone)]
pub struct Resolution {
    /// One release of every package that is needed, nearest to the project first, then by name.
    pub packages: Vec<ChosenPackage>,
}

impl Resolution {
    /// The package of this name.
    pub fn package(&self, name: &PackageName) -> Option<&ChosenPackage> {
        self.packages.iter().find(|package| package.release.entry.name == *name)
    }
}

/// A package of a resolution.
#[derive(Debug, Clone)]
pub struct ChosenPackage {
    /// Where it comes from.
    pub source: Source,
    /// Whether that stands in for the package while somebody works on it.
    pub is_stand_in: bool,
    /// The release.
    pub release: Release,
    /// The packages that it needs here, by name: where it needs a capability, the provider that was taken.
    pub needs: Vec<PackageName>,
    /// What it needs and the project does without, by name.
    pub left_out: Vec<PackageName>,
    /// The capabilities that it was taken for, by name.
    pub provides: Vec<PackageName>,
    /// The targets on which it is needed.
    pub targets: Vec<String>,
    /// The components of it that are wanted on any of them, by name.
    pub components: Vec<ComponentName>,
    /// Its files that are taken.
    pub files: Vec<ChosenFile>,
    /// What it wants done by hand.
    pub steps: Vec<ChosenStep>,
}

/// A step of a resolution.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChosenStep {
    /// The step.
    pub step: Step,
    /// The targets that it is for; none where the project declares none.
    pub targets: Vec<String>,
}

/// A file of a resolution.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChosenFile {
    /// The file.
    pub file: FileRecord,
    /// The targets that take it; none where the project declares none, and each machine takes its own.
    pub targets: Vec<String>,
}

/// Why there is no resolution.
#[derive(Debug)]
pub enum Unresolved<E> {
    /// No set of releases satisfies all needs.
    Conflict(Box<Conflict>),
    /// The catalogue could not answer.
    Catalogue(E),
    /// No answer was found before patience ran out; the packages that were tried most often.
    GaveUp(Vec<PackageName>),
    /// So many packages provide a capability that one has to be chosen before any is sought.
    Open(Box<OpenCapability>),
}
