//! A name that the search has reached: a package with its releases, a capability with its providers, or unknown.

use std::collections::HashMap;
use std::sync::Arc;

use crate::card::{CardConflict, CardNeed, Entry};
use crate::history::Release;
use crate::name::{ComponentName, Family, PackageName};
use crate::range::VersionSet;
use crate::resolve::Listing;
use crate::resolve::choices::Choices;
use crate::resolve::engine::Var;
use crate::version::{Point, Version};

/// A name that the search has reached, and what can be chosen for it.
#[derive(Debug)]
pub struct Package {
    pub name: PackageName,
    pub kind: Kind,
    /// The releases that are not deprecated.
    pub sound: Choices,
    finals: Choices,
    pres: Choices,
    /// Whether any release has components.
    has_components: bool,
    /// The demands of the releases; worked out on first use.
    demands: Option<Vec<Demanded>>,
}

/// What a name stands for.
#[derive(Debug)]
pub enum Kind {
    /// No registry has it.
    Nothing,
    /// A package: its values are releases.
    Package(Arc<Listing>),
    /// A capability: its values are the packages that provide it, by name.
    Capability(Vec<PackageName>),
    /// A package is needed on a target: its one value says so.
    Presence,
    /// An extra of a package is needed on a target: its one value says so.
    Extra(Var),
}

/// What a need can have of a package beside the package itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Extra {
    /// The default components, whichever those are of the chosen release.
    Defaults,
    /// A component.
    Component(ComponentName),
}

impl Extra {
    /// The extras that a need has of a package.
    pub fn wanted(components: &[ComponentName], bare: bool) -> impl Iterator<Item = Self> {
        let defaults = (!bare).then_some(Self::Defaults);
        components.iter().cloned().map(Self::Component).chain(defaults)
    }
}

/// What a release demands of another package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Demand {
    /// It is needed.
    Needs(CardNeed),
    /// Some of its releases are excluded.
    Conflicts(CardConflict),
}

impl Demand {
    /// The package that it is about.
    pub fn target(&self) -> &PackageName {
        match self {
            Self::Needs(need) => &need.name,
            Self::Conflicts(conflict) => &conflict.name,
        }
    }

    /// Whether it is stated like a need of a card; others may be equivalent.
    fn is_like(&self, said: Said<'_>) -> bool {
        match (self, said) {
            (Self::Needs(a), Said::Needs(b)) => {
                let (also, other) = ((&a.components, a.bare), (&b.components, b.bare));
                let alike = a.prereleases == b.prereleases && a.when == b.when && also == other;
                alike && a.range.is_written_like(&b.range)
            }
            (Self::Conflicts(a), Said::Conflicts(b)) => a.range.is_written_like(&b.range),
            _ => false,
        }
    }
}

/// A demand as a card says it.
#[derive(Clone, Copy)]
enum Said<'e> {
    Needs(&'e CardNeed),
    Conflicts(&'e CardConflict),
}

impl<'e> Said<'e> {
    fn target(self) -> &'e PackageName {
        match self {
            Self::Needs(need) => &need.name,
            Self::Conflicts(conflict) => &conflict.name,
        }
    }

    fn to_demand(self) -> Demand {
        match self {
            Self::Needs(need) => Demand::Needs(need.clone()),
            Self::Conflicts(conflict) => Demand::Conflicts(conflict.clone()),
        }
    }
}

/// A demand, and all releases that make it.
#[derive(Debug)]
pub struct Demanded {
    pub demand: Demand,
    /// The extra of the package that has the demand.
    pub extra: Option<Extra>,
    pub releases: Choices,
    /// Whether it was added, or waits for its target to be reached.
    pub stated: bool,
}

impl Package {
    /// A package, or a capability with its possible providers.
    pub fn new(name: PackageName, listing: Option<Arc<Listing>>, providers: Vec<PackageName>) -> Self {
        let kind = match listing {
            None => Kind::Nothing,
            Some(listing) if listing.history.providers().is_empty() => Kind::Package(listing),
            Some(_) => Kind::Capability(providers),
        };
        let none = || Choices::none(0);
        let (has_components, demands) = (false, None);
        let mut package =
            Self { name, kind, sound: none(), finals: none(), pres: none(), has_components, demands };
        package.has_components =
            package.releases().iter().any(|release| !release.entry.components.is_empty());
        package.sound = package.choices_where(|release| release.deprecated.is_none());
        package.finals = package.choices_where(|release| !release.entry.version.is_pre());
        package.pres = package.choices_where(|release| release.entry.version.is_pre());
        package
    }

    /// The variable "a package is needed on a target".
    pub fn presence(name: PackageName) -> Self {
        Self { kind: Kind::Presence, ..Self::new(name, None, Vec::new()) }
    }

    /// The variable "an extra of a package is needed on a target".
    pub fn extra(name: PackageName, of: Var) -> Self {
        Self { kind: Kind::Extra(of), ..Self::new(name, None, Vec::new()) }
    }

    /// What its source has of it, where it is a package.
    pub fn listing(&self) -> Option<&Listing> {
        if let Kind::Package(listing) = &self.kind { Some(listing) } else { None }
    }

    /// The releases, oldest first; none where the name stands for something else.
    pub fn releases(&self) -> &[Release] {
        match &self.kind {
            Kind::Package(listing) => listing.history.releases(),
            Kind::Capability(_) | Kind::Presence | Kind::Extra(_) | Kind::Nothing => &[],
        }
    }

    /// The packages that provide it, by name; none unless it is a capability.
    pub fn providers(&self) -> &[PackageName] {
        match &self.kind {
            Kind::Capability(providers) => providers,
            Kind::Package(_) | Kind::Presence | Kind::Extra(_) | Kind::Nothing => &[],
        }
    }

    /// The release of a value; `None` for leaving the package out.
    pub fn release(&self, choice: usize) -> Option<&Release> {
        self.releases().get(choice.checked_sub(1)?)
    }

    /// The provider of a value.
    pub fn provider(&self, choice: usize) -> Option<&PackageName> {
        self.providers().get(choice.checked_sub(1)?)
    }

    /// The value of a provider.
    pub fn taking(&self, provider: &PackageName) -> Option<usize> {
        self.providers().binary_search(provider).ok().map(|at| at + 1)
    }

    /// The value of `version`.
    pub fn choice(&self, version: &Version) -> Option<usize> {
        let found = self.releases().binary_search_by(|release| release.entry.version.cmp(version));
        found.ok().map(|at| at + 1)
    }

    /// How many values there are: a release or provider each, and leaving it out.
    pub fn width(&self) -> usize {
        let present = usize::from(matches!(self.kind, Kind::Presence | Kind::Extra(_)));
        self.releases().len() + self.providers().len() + present + 1
    }

    /// Every value but leaving it out.
    pub fn taken(&self) -> Choices {
        let mut taken = Choices::none(self.width());
        taken.insert_from(1, self.width());
        taken
    }

    /// The values of the releases in `set`.
    pub fn within(&self, set: &VersionSet) -> Choices {
        let finals = self.between(set.finals()).and(&self.finals);
        if self.pres.is_none() { finals } else { finals.or(&self.between(set.pres()).and(&self.pres)) }
    }

    /// The values between each two consecutive points, as an interval's ends.
    fn between<'p>(&self, intervals: impl Iterator<Item = (&'p Point, Option<&'p Point>)>) -> Choices {
        let releases = self.releases();
        let before =
            |point: &Point| releases.partition_point(|release| release.entry.version.point() < point) + 1;
        let mut choices = Choices::none(self.width());
        for (from, to) in intervals {
            choices.insert_from(before(from), to.map_or(self.width(), before));
        }
        choices
    }

    /// The values of the releases that pass a test.
    pub fn choices_where(&self, holds: impl Fn(&Release) -> bool) -> Choices {
        let held = self.releases().iter().enumerate().filter(|(_, release)| holds(release));
        Choices::of(self.width(), held.map(|(at, _)| at + 1))
    }

    /// The values of the providers that have a capability at a version in `set`.
    pub fn providing(&self, capability: &PackageName, set: &VersionSet) -> Choices {
        let in_set = |version: &Version| set.contains(version.point());
        self.choices_where(|release| release.entry.provided(capability).is_some_and(in_set))
    }

    /// The values of the releases that have all these components.
    pub fn having(&self, components: &[ComponentName]) -> Choices {
        let has_all = |release: &Release| {
            components.iter().all(|component| release.entry.components.contains_key(component))
        };
        self.choices_where(has_all)
    }

    /// Whether some release has this extra.
    pub fn knows(&self, extra: &Extra) -> bool {
        self.has_components
            && self.releases().iter().any(|release| match extra {
                Extra::Defaults => release.entry.components.values().any(|component| component.default),
                Extra::Component(name) => release.entry.components.contains_key(name),
            })
    }

    /// The values of the releases of a family.
    pub fn of_family(&self, family: &Family) -> Choices {
        self.choices_where(|release| release.entry.family.as_ref() == Some(family))
    }

    /// The families of its releases.
    pub fn families(&self) -> Vec<Family> {
        let mut families: Vec<Family> =
            self.releases().iter().filter_map(|release| release.entry.family.clone()).collect();
        families.sort();
        families.dedup();
        families
    }

    /// The demands of the releases, but for needs that don't apply.
    pub fn demands(&mut self, applies: impl Fn(&CardNeed) -> bool) -> &mut [Demanded] {
        if self.demands.is_none() {
            self.demands = Some(self.gathered(applies));
        }
        self.demands.as_deref_mut().unwrap_or_default()
    }

    /// Whether its demands were worked out.
    pub fn has_demands(&self) -> bool {
        self.demands.is_some()
    }

    /// The demands that were worked out.
    pub fn known_demands(&self) -> &[Demanded] {
        self.demands.as_deref().unwrap_or_default()
    }

    /// The demand of this number, once they were worked out.
    pub fn demand(&self, number: usize) -> Option<&Demand> {
        self.demands.as_ref()?.get(number).map(|demanded| &demanded.demand)
    }

    fn gathered(&self, applies: impl Fn(&CardNeed) -> bool) -> Vec<Demanded> {
        let mut demands: Vec<Demanded> = Vec::new();
        let mut by_target: HashMap<&PackageName, Vec<usize>> = HashMap::new();
        for (at, release) in self.releases().iter().enumerate() {
            let needs = release.entry.running_needs().map(|need| (None, need));
            let needs = needs.chain(extra_needs(&release.entry)).filter(|(_, need)| applies(need));
            let needs = needs.map(|(extra, need)| (extra, Said::Needs(need)));
            let conflicts = release.entry.conflicts.iter().filter(|conflict| conflict.name != self.name);
            let conflicts = conflicts.map(|conflict| (None, Said::Conflicts(conflict)));
            for (extra, said) in needs.chain(conflicts) {
                let alike = by_target.entry(said.target()).or_default();
                let is_like = |made: &Demanded| made.extra == extra && made.demand.is_like(said);
                match alike.iter().find(|other| is_like(&demands[**other])) {
                    Some(same) => demands[*same].releases.insert(at + 1),
                    None => {
                        alike.push(demands.len());
                        let releases = Choices::of(self.width(), [at + 1]);
                        demands.push(Demanded { demand: said.to_demand(), extra, releases, stated: false });
                    }
                }
            }
        }
        demands
    }
}

/// The needs of a release with the extra that has each: of a default component either the component or the default
/// components.
pub fn extra_needs(entry: &Entry) -> impl Iterator<Item = (Option<Extra>, &CardNeed)> {
    entry.components.iter().flat_map(|(name, component)| {
        let needs = component.needs.iter().filter(|need| need.purpose.is_none());
        let by_default = component.needs.iter().filter(|need| component.default && need.purpose.is_none());
        let by_default = by_default.map(|need| (Some(Extra::Defaults), need));
        needs.map(|need| (Some(Extra::Component(name.clone())), need)).chain(by_default)
    })
}
