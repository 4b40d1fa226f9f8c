//! The sentences of a conflict: one per fact, and the conclusion.

use super::{Explainer, Sentence};
use crate::facet::{FitValue, Fits};
use crate::name::{ComponentName, FacetName, Family, PackageName};
use crate::range::{Range, VersionSet};
use crate::resolve::choices::Choices;
use crate::resolve::engine::Var;
use crate::resolve::universe::{Demand, Extra, Fact, Kind, Package};
use crate::resolve::{Catalogue, Listing, ProblemNeed};
use crate::rules::whole_sentence;
use crate::source::Source;

impl<C: Catalogue> Explainer<'_, C> {
    /// A fact as a sentence.
    pub(super) fn sentence(&self, fact: &Fact) -> Sentence {
        let (text, about) = match fact {
            Fact::Direct(number) => self.direct(&self.problem.needs[*number]),
            Fact::Kept { package, family } => self.kept(&self.packages[*package].name, family),
            Fact::InStep { one, other, family } => {
                let (one, other) = (&self.packages[*one].name, &self.packages[*other].name);
                let text = format!("{one} and {other} belong to the family {family}, which has one version.");
                (text, vec![one, other])
            }
            Fact::Unfit { package, .. } => (self.unfit(fact), vec![&self.packages[*package].name]),
            Fact::Provided { capability } => {
                let name = &self.packages[*capability].name;
                (format!("A provider of {name} has to fit every target that needs it."), vec![name])
            }
            Fact::Demands { package, releases, demand, extra } => {
                let package = &self.packages[*package];
                let who = spoken(package, releases) + &extra_text(extra.as_ref());
                let text = self.demanded(&who, releases.only().is_some(), demand);
                (text, vec![&package.name, demand.target()])
            }
            Fact::Held { package, choice } => {
                let package = &self.packages[*package];
                let version = package.release(*choice).map_or("", |release| release.entry.version.as_str());
                (format!("The lock has {} {version}.", package.name), vec![&package.name])
            }
            Fact::Refused { package, releases, breach, scope } => {
                let package = &self.packages[*package];
                let scope = scope.and_then(|spot| self.universe.purpose_of(spot));
                let who = releases_text_inside(package, releases);
                let text = breach.sentence(scope, &who, releases.only().is_some());
                (whole_sentence(&text), vec![&package.name])
            }
            Fact::Chartered { package, charter, family } => {
                self.chartered(*package, *charter, family.as_ref())
            }
            Fact::Charters { package, releases } => {
                let package = &self.packages[*package];
                let who = spoken(package, releases);
                let (is, what) =
                    if releases.only().is_some() { ("is", "a charter") } else { ("are", "charters") };
                let text = format!("{who} {is} {what}, which a workspace takes on under `[charters]`.");
                (text, vec![&package.name])
            }
            Fact::Withdrawn { package, releases } => {
                let package = &self.packages[*package];
                (withdrawn(package, releases), vec![&package.name])
            }
        };
        let is_question = matches!(fact, Fact::Direct(number) if self.problem.needs[*number].asked);
        Sentence { text, about: about.into_iter().cloned().collect(), is_question }
    }

    /// What a project needs itself, or what a question is about.
    fn direct<'n>(&'n self, need: &'n ProblemNeed) -> (String, Vec<&'n PackageName>) {
        let set = need.range.set(need.prereleases);
        let mut what = self.needed(&need.package, &need.range, set, &need.components);
        if need.bare && !need.asked {
            what = format!("bare {what}");
        }
        let targets: Vec<&str> = need.targets.iter().flatten().map(String::as_str).collect();
        if !targets.is_empty() {
            what = format!("{what}, for {}", targets.join(" and "));
        }
        // What it is for matters where rules differ by purpose.
        if let Some(purpose) = need.purpose.as_ref().filter(|_| !self.problem.rules.scopes().is_empty()) {
            what = format!("{what}, for the purpose {purpose}");
        }
        let text = if need.asked {
            format!("The question is about {what}.")
        } else {
            format!("{} needs {what}.", self.problem.needing(need))
        };
        (text, vec![self.problem.needing(need), &need.package])
    }

    /// That a package is at its family's range.
    fn kept<'n>(&'n self, package: &'n PackageName, family: &Family) -> (String, Vec<&'n PackageName>) {
        let range = self.problem.families.get(family).map(range_text).unwrap_or_default();
        let (keeper, mut about) = match self.problem.projects.as_slice() {
            [one] => (one.name.as_str(), vec![&one.name]),
            _ => ("The workspace", Vec::new()),
        };
        about.push(package);
        (format!("{keeper} keeps the family {family}, which {package} belongs to, at {range}."), about)
    }

    /// What a charter allows of a package.
    fn chartered(
        &self,
        package: Var,
        charter: usize,
        family: Option<&Family>,
    ) -> (String, Vec<&PackageName>) {
        let (name, bounds) = (&self.packages[package].name, &self.problem.charters[charter]);
        let release = &bounds.release;
        let (range, what) = match family {
            Some(family) => {
                (bounds.families.get(family), format!("the family {family}, which {name} belongs to,"))
            }
            None => (bounds.ranges.get(name), name.to_string()),
        };
        let range = range.map(range_text).unwrap_or_default();
        (format!("The charter {release} allows {what} {range}."), vec![&release.name, name])
    }

    fn demanded(&self, who: &str, is_one: bool, demand: &Demand) -> String {
        match demand {
            Demand::Needs(need) => {
                let verb = if is_one { "needs" } else { "need" };
                let set = need.range.set(need.prereleases);
                let what = self.needed(&need.name, &need.range, set, &need.components);
                let bare = if need.bare { "bare " } else { "" };
                format!("{who} {verb} {bare}{what}{}.", condition_text(&need.when))
            }
            Demand::Conflicts(conflict) => {
                format!("{who} can't be used with {} {}.", conflict.name, range_text(&conflict.range))
            }
        }
    }

    /// What is needed: of a capability with what provides it.
    fn needed(
        &self,
        name: &PackageName,
        range: &Range,
        set: &VersionSet,
        components: &[ComponentName],
    ) -> String {
        let what = format!("{name} {}{}", range_text(range), components_text(components));
        let Some(package) = self.universe.known(name).map(|var| &self.packages[var]) else { return what };
        if !matches!(package.kind, Kind::Capability(_)) {
            return what;
        }
        let providing = package.providers().iter().filter_map(|provider| {
            let provider = &self.packages[self.universe.known(provider)?];
            let releases = provider.providing(name, set).and(&provider.having(components));
            (!releases.is_none()).then(|| format!("{} {}", provider.name, stretches(provider, &releases)))
        });
        match providing.collect::<Vec<_>>().as_slice() {
            [] => format!("{what}, which no release provides"),
            providing => format!("{what}, provided by {}", providing.join(" or by ")),
        }
    }

    /// The sentence that the facts end in.
    pub(super) fn clash(&self, facts: &[&Fact]) -> Sentence {
        let in_step = facts.iter().find(|fact| matches!(fact, Fact::InStep { .. }));
        let clashing =
            facts.iter().filter_map(|fact| self.target(fact)).find(|var| self.is_unreachable(facts, *var));
        let clashing = clashing.or_else(|| self.target(in_step?));
        let capability =
            || facts.iter().filter_map(|fact| self.target(fact)).find(|var| self.is_capability(*var));
        let (text, about) = match clashing.or_else(capability) {
            Some(var) => (self.clash_of(facts, var), vec![self.packages[var].name.clone()]),
            None => (self.clash_of_all(facts), Vec::new()),
        };
        Sentence { text, about, is_question: false }
    }

    fn clash_of_all(&self, facts: &[&Fact]) -> String {
        let mut held = facts.iter().filter_map(|fact| match fact {
            Fact::Held { package, .. } => Some(&self.packages[*package].name),
            _ => None,
        });
        if let (Some(name), None) = (held.next(), held.next()) {
            return format!("So {name} can't stay as the lock has it.");
        }
        "With any choice of releases, one of these isn't satisfied.".to_owned()
    }

    fn is_capability(&self, var: Var) -> bool {
        matches!(self.packages[var].kind, Kind::Capability(_))
    }

    fn clash_of(&self, facts: &[&Fact], var: Var) -> String {
        let Package { name, kind, .. } = &self.packages[var];
        let narrowing = || facts.iter().filter(|fact| self.target(fact) == Some(var));
        if narrowing().any(|fact| matches!(fact, Fact::Held { .. })) {
            return format!("So {name} can't stay as the lock has it.");
        }
        let family = facts.iter().find_map(|fact| match fact {
            Fact::InStep { one, other, family } if *one == var || *other == var => Some(family),
            _ => None,
        });
        if let Some(family) = family {
            return format!("No version of the family {family} satisfies all of this.");
        }
        let bars = |fact: &&&Fact| {
            matches!(
                fact,
                Fact::Kept { .. }
                    | Fact::Unfit { .. }
                    | Fact::Refused { .. }
                    | Fact::Charters { .. }
                    | Fact::Chartered { family: Some(_), .. }
                    | Fact::Demands { demand: Demand::Conflicts(_), .. }
            )
        };
        let wants_components = |fact: &&&Fact| match fact {
            Fact::Direct(number) => !self.problem.needs[*number].components.is_empty(),
            Fact::Demands { demand: Demand::Needs(need), .. } => !need.components.is_empty(),
            _ => false,
        };
        if narrowing().any(|fact| bars(&fact) || wants_components(&fact)) {
            return format!("So no release of {name} is left.");
        }
        let ranges = self.ranges_asked(facts, var);
        if self.is_capability(var) {
            return match ranges.as_slice() {
                [range] if facts.len() == 1 => format!("No release provides {name} in {range}."),
                _ => format!("So nothing provides {name}."),
            };
        }
        match (kind, ranges.as_slice()) {
            (Kind::Nothing, _) => format!("No registry has a package {name}."),
            (Kind::Package(_), _) if self.packages[var].releases().is_empty() => {
                format!("{name} has no release yet.")
            }
            (_, [range]) => {
                let source =
                    if let Kind::Package(listing) = kind { from_elsewhere(listing) } else { String::new() };
                format!(
                    "No release of {name} matches {range} (available: {}{source}).",
                    existing(&self.packages[var])
                )
            }
            (_, [one, other]) => format!("No release of {name} is in both {one} and {other}."),
            (_, ranges) => format!("No release of {name} is in all of {}.", ranges.join(" and ")),
        }
    }

    /// Whether the facts that narrow a package leave none of its releases, all of them holding at once.
    fn is_unreachable(&self, facts: &[&Fact], var: Var) -> bool {
        let package = &self.packages[var];
        let narrowing: Vec<&&Fact> = facts.iter().filter(|fact| self.target(fact) == Some(var)).collect();
        // Charters bind together.
        let others = narrowing.iter().filter(|fact| !matches!(fact, Fact::Chartered { .. }));
        let mut subjects: Vec<Option<Var>> = others.map(|fact| fact.subject()).collect();
        subjects.sort_unstable();
        // Two facts about one other package may be about different releases of it, of which one is taken.
        let alternatives = subjects.windows(2).any(|pair| pair[0].is_some() && pair[0] == pair[1]);
        let left = narrowing.iter().filter_map(|fact| self.accepted(fact));
        left.fold(package.taken(), |all, choices| all.and(&choices)).is_none() && !alternatives
    }

    fn ranges_asked(&self, facts: &[&Fact], var: Var) -> Vec<String> {
        let asked =
            facts.iter().filter(|fact| self.target(fact) == Some(var)).filter_map(|fact| match fact {
                Fact::Direct(number) => Some(range_text(&self.problem.needs[*number].range)),
                Fact::Demands { demand: Demand::Needs(need), .. } => Some(range_text(&need.range)),
                Fact::Chartered { charter, family: None, .. } => {
                    let ranges = &self.problem.charters[*charter].ranges;
                    ranges.get(&self.packages[var].name).map(range_text)
                }
                _ => None,
            });
        let mut ranges: Vec<String> = Vec::new();
        for range in asked.filter(|range| !range.is_empty()) {
            if !ranges.contains(&range) {
                ranges.push(range);
            }
        }
        // What accepts all contradicts nothing.
        if ranges.len() > 1 {
            ranges.retain(|range| *range != Range::any().to_string());
        }
        ranges
    }
}

fn withdrawn(package: &Package, releases: &Choices) -> String {
    let verb = if releases.only().is_some() { "was" } else { "were" };
    let reason = releases.highest().and_then(|choice| package.release(choice)?.withdrawn.as_ref());
    let reason = reason.map(|withdrawal| format!(" ({})", withdrawal.reason)).unwrap_or_default();
    format!("{} {verb} withdrawn{reason}.", spoken(package, releases))
}

/// A range as a sentence names it, which ends in a full stop: not `2.4 ..` but `2.4 or newer`.
pub fn range_text(range: &Range) -> String {
    let text = range.to_string();
    text.strip_suffix(" ..").map_or(text.clone(), |from| format!("{from} or newer"))
}

/// The conditions of a need, as a sentence ends with them.
fn condition_text(when: &Fits) -> String {
    let one = |(facet, value): (&FacetName, &FitValue)| format!("{facet} is {value}");
    let all: Vec<String> = when.iter().map(one).collect();
    if all.is_empty() { String::new() } else { format!(", where {}", all.join(" and ")) }
}

/// The components that a need wants, as its sentence ends with them.
fn components_text(components: &[ComponentName]) -> String {
    let names: Vec<&str> = components.iter().map(ComponentName::as_str).collect();
    if names.is_empty() { String::new() } else { format!(" with {}", names.join(" and ")) }
}

/// What has to be wanted of releases, behind their name.
pub(super) fn extra_text(extra: Option<&Extra>) -> String {
    match extra {
        None => String::new(),
        Some(Extra::Component(name)) => format!(" with {name}"),
        Some(Extra::Defaults) => " with the default components".to_owned(),
    }
}

/// Releases as a sentence names them that doesn't begin with them.
pub(super) fn releases_text_inside(package: &Package, releases: &Choices) -> String {
    let text = spoken(package, releases);
    text.strip_prefix("All").map_or(text.clone(), |rest| format!("all{rest}"))
}

/// Releases of a package as a sentence names them: `rain-ledger 2.4.0 to 2.6.1`, `every rain-ledger`.
fn spoken(package: &Package, releases: &Choices) -> String {
    if let Some(release) = releases.only().and_then(|choice| package.release(choice)) {
        return format!("{} {}", package.name, release.entry.version);
    }
    if releases.iter().count() == package.releases().len() {
        return format!("All releases of {}", package.name);
    }
    format!("{} {}", package.name, stretches(package, releases))
}

/// Most versions that are listed of those that there are.
const MAX_VERSIONS: usize = 5;

/// Releases as stretches of neighbours: `1.0`, `1.2 to 1.5`.
fn stretches(package: &Package, releases: &Choices) -> String {
    let mut stretches: Vec<(usize, usize)> = Vec::new();
    for choice in releases.iter().filter(|choice| *choice != Choices::LEFT_OUT) {
        match stretches.last_mut() {
            Some((_, end)) if *end + 1 == choice => *end = choice,
            _ => stretches.push((choice, choice)),
        }
    }
    let version =
        |choice: usize| package.release(choice).map_or("", |release| release.entry.version.as_str());
    let words: Vec<String> = stretches
        .into_iter()
        .map(|(from, to)| match to - from {
            0 => version(from).to_owned(),
            1 => format!("{} and {}", version(from), version(to)),
            _ => format!("{} to {}", version(from), version(to)),
        })
        .collect();
    words.join(", ")
}

/// Where releases come from that are in no registry.
fn from_elsewhere(listing: &Listing) -> String {
    match &listing.source {
        Source::Registry(_) => String::new(),
        source if listing.is_stand_in => format!(", by {source}, which stands in for it"),
        source => format!(", from {source}"),
    }
}

/// The versions that can be chosen, the newest first.
fn existing(package: &Package) -> String {
    let releases = package.releases().iter().rev().filter(|release| release.withdrawn.is_none());
    let versions: Vec<&str> = releases.map(|release| release.entry.version.as_str()).collect();
    if versions.is_empty() {
        return "none".to_owned();
    }
    let shown = versions[..versions.len().min(MAX_VERSIONS)].join(", ");
    match versions.len().saturating_sub(MAX_VERSIONS) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}
