//! Why there is no resolution: the facts that contradict each other, cut down to those that matter, and told
//! in sentences that a person can check against a manifest or a card.

use super::choices::Choices;
use super::engine::{Engine, Refuted, Term, Var};
use super::universe::{Fact, Package, Universe};
use super::{Catalogue, Problem};
use crate::card::CardNeed;
use crate::name::PackageName;
use crate::range::Range;

/// A contradiction, told from the project to the clash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// The chain of facts; taking any away would end the contradiction.
    pub facts: Vec<Sentence>,
    /// What follows from them.
    pub clash: Sentence,
    /// The direct needs in it, by their numbers in the problem.
    pub direct: Vec<usize>,
    /// The packages in it that were held at their releases, by name.
    pub held: Vec<PackageName>,
}

impl Conflict {
    /// The sentences that answer a question: without the question itself and, where it clashes with what is
    /// declared of the same package, without a clash that would only repeat both.
    pub fn without_question(&self) -> impl Iterator<Item = &Sentence> {
        let question = self.facts.iter().find(|fact| fact.is_question);
        let repeats = question.is_some_and(|question| question.about.last() == self.clash.about.first());
        let clash = Some(&self.clash).filter(|_| !repeats || self.facts.len() < 2);
        self.facts.iter().filter(|fact| !fact.is_question).chain(clash)
    }
}

/// One sentence, and the packages that it is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sentence {
    /// The text.
    pub text: String,
    /// The packages named in it, the one that it speaks of first.
    pub about: Vec<PackageName>,
    /// Whether it only repeats the question.
    pub is_question: bool,
}

/// Tells a refutation that the search ended in.
pub fn tell<C: Catalogue>(universe: &Universe<'_, C>, refuted: &Refuted) -> Conflict {
    let teller = Teller { problem: universe.problem, packages: &universe.packages, universe };
    let mut facts: Vec<Fact> = Vec::new();
    for fact in refuted.0.iter().flat_map(|fact| universe.facts_of(&universe.stated[*fact])) {
        if !facts.contains(&fact) {
            facts.push(fact);
        }
    }
    let merged = teller.merged(&teller.minimal(facts.iter().collect()));
    let core: Vec<&Fact> = merged.iter().collect();
    let told = teller.in_order(&core);
    let direct = core.iter().filter_map(|fact| match fact {
        Fact::Direct(number) => Some(*number),
        Fact::Needs { .. } | Fact::Withdrawn { .. } | Fact::Held { .. } => None,
    });
    let direct = direct.collect();
    let held = core.iter().filter_map(|fact| match fact {
        Fact::Held { package, .. } => Some(universe.packages[*package].name.clone()),
        Fact::Direct(_) | Fact::Needs { .. } | Fact::Withdrawn { .. } => None,
    });
    let mut held: Vec<PackageName> = held.collect();
    held.sort();
    Conflict {
        facts: told.iter().map(|fact| teller.sentence(fact)).collect(),
        clash: teller.clash(&core),
        direct,
        held,
    }
}

struct Teller<'u, C> {
    problem: &'u Problem,
    packages: &'u [Package],
    universe: &'u Universe<'u, C>,
}

impl<C: Catalogue> Teller<'_, C> {
    /// The package that a fact narrows, and the releases of it that the fact leaves.
    fn target(&self, fact: &Fact) -> Option<Var> {
        match fact {
            Fact::Direct(number) => self.universe.known(&self.problem.needs[*number].package),
            Fact::Needs { need, .. } => self.universe.known(&need.name),
            Fact::Withdrawn { package, .. } | Fact::Held { package, .. } => Some(*package),
        }
    }

    /// The package whose releases a fact is about, if not the project.
    fn subject(&self, fact: &Fact) -> Option<Var> {
        match fact {
            Fact::Direct(_) => None,
            Fact::Needs { package, .. } | Fact::Withdrawn { package, .. } | Fact::Held { package, .. } => {
                Some(*package)
            }
        }
    }

    fn accepted(&self, fact: &Fact) -> Option<(Var, Choices)> {
        let var = self.target(fact)?;
        let package = &self.packages[var];
        Some(match fact {
            Fact::Direct(number) => {
                let need = &self.problem.needs[*number];
                (var, package.within(need.range.set(need.prereleases)))
            }
            Fact::Needs { need, .. } => (var, package.within(need.range.set(need.prereleases))),
            Fact::Withdrawn { releases, .. } => (var, releases.not(package.width())),
            Fact::Held { choice, .. } => (var, Choices::of(package.width(), [Choices::LEFT_OUT, *choice])),
        })
    }

    fn terms(&self, fact: &Fact) -> Vec<Term> {
        let target = self.accepted(fact).map(|(var, choices)| Term { var, choices });
        let Fact::Needs { package, releases, .. } = fact else { return target.into_iter().collect() };
        let unless = releases.not(self.packages[*package].width());
        match target {
            Some(term) if term.var == *package => {
                vec![Term { var: term.var, choices: term.choices.or(&unless) }]
            }
            target => [Term { var: *package, choices: unless }].into_iter().chain(target).collect(),
        }
    }

    /// The facts without those that are not needed for the contradiction.
    fn minimal<'f>(&self, mut facts: Vec<&'f Fact>) -> Vec<&'f Fact> {
        let mut at = facts.len();
        // A telling that is longer than need be is better than none.
        while at > 0 && !self.universe.catalogue.gives_up() {
            at -= 1;
            let without: Vec<&Fact> =
                facts.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, fact)| *fact).collect();
            if self.contradict(&without) {
                facts = without;
            }
        }
        facts
    }

    /// The facts with what several releases of one package need of another told in one, where that is still
    /// enough for the contradiction.
    fn merged(&self, facts: &[&Fact]) -> Vec<Fact> {
        let mut merged: Vec<Fact> = facts.iter().map(|fact| (*fact).clone()).collect();
        let mut at = 0;
        while at < merged.len() {
            let partner = (at + 1..merged.len())
                .find_map(|other| Some((other, together(&merged[at], &merged[other])?)));
            let Some((other, both)) = partner else {
                at += 1;
                continue;
            };
            let mut attempt = merged.clone();
            attempt.remove(other);
            attempt[at] = both;
            if !self.contradict(&attempt.iter().collect::<Vec<_>>()) {
                at += 1;
                continue;
            }
            merged = attempt;
        }
        merged
    }

    fn contradict(&self, facts: &[&Fact]) -> bool {
        let mut engine = Engine::default();
        for package in self.packages {
            engine.new_var(package.width());
        }
        let stated: Result<(), Refuted> =
            facts.iter().enumerate().try_for_each(|(number, fact)| engine.state(self.terms(fact), number));
        stated.is_err() || self.solve(&mut engine).is_err()
    }

    fn solve(&self, engine: &mut Engine) -> Result<(), Refuted> {
        loop {
            engine.settle()?;
            let open = (0..self.packages.len()).find(|var| engine.domain(*var).only().is_none());
            let Some(var) = open else { return Ok(()) };
            let lowest = Choices::of(engine.width(var), engine.domain(var).lowest());
            engine.decide(var, &lowest);
        }
    }

    /// The facts in the order of telling: each chain from a direct need on, one after the other.
    fn in_order<'f>(&self, facts: &[&'f Fact]) -> Vec<&'f Fact> {
        let mut left: Vec<&Fact> = facts.to_vec();
        let mut told: Vec<&Fact> = Vec::new();
        while !left.is_empty() {
            let follows = told.iter().rev().find_map(|before| {
                let reached = self.target(before);
                left.iter().position(|fact| reached.is_some() && self.subject(fact) == reached)
            });
            let next =
                follows.or_else(|| left.iter().position(|fact| self.subject(fact).is_none())).unwrap_or(0);
            told.push(left.remove(next));
        }
        told
    }

    fn sentence(&self, fact: &Fact) -> Sentence {
        match fact {
            Fact::Held { package, choice } => {
                let package = &self.packages[*package];
                let version = package.release(*choice).map_or("", |release| release.entry.version.as_str());
                let text = format!("The lock has {} {version}.", package.name);
                Sentence { text, about: vec![package.name.clone()], is_question: false }
            }
            Fact::Direct(number) => {
                let need = &self.problem.needs[*number];
                let Problem { project, .. } = self.problem;
                let text = match need.asked {
                    true => format!("Asked for is {} {}.", need.package, spoken_range(&need.range)),
                    false => format!("{project} needs {} {}.", need.package, spoken_range(&need.range)),
                };
                Sentence { text, about: vec![project.clone(), need.package.clone()], is_question: need.asked }
            }
            Fact::Needs { package, releases, need } => {
                let package = &self.packages[*package];
                let verb = if releases.only().is_some() { "needs" } else { "need" };
                let (who, range) = (spoken(package, releases), spoken_range(&need.range));
                let text = format!("{who} {verb} {} {range}.", need.name);
                Sentence { text, about: vec![package.name.clone(), need.name.clone()], is_question: false }
            }
            Fact::Withdrawn { package, releases } => {
                let package = &self.packages[*package];
                let verb = if releases.only().is_some() { "was" } else { "were" };
                let reason =
                    releases.highest().and_then(|choice| package.release(choice)?.withdrawn.as_ref());
                let reason = reason.map(|withdrawal| format!(" ({})", withdrawal.reason)).unwrap_or_default();
                let text = format!("{} {verb} withdrawn{reason}.", spoken(package, releases));
                Sentence { text, about: vec![package.name.clone()], is_question: false }
            }
        }
    }

    /// The sentence that the facts end in.
    fn clash(&self, facts: &[&Fact]) -> Sentence {
        let clashing =
            facts.iter().filter_map(|fact| self.target(fact)).find(|var| self.is_unreachable(facts, *var));
        let Some(var) = clashing else {
            let text = "Whichever releases are taken, one of these does not hold.".to_owned();
            return Sentence { text, about: Vec::new(), is_question: false };
        };
        let package = &self.packages[var];
        if facts.iter().any(|fact| matches!(fact, Fact::Held { package, .. } if *package == var)) {
            let text = format!("So {} can't stay as the lock has it.", package.name);
            return Sentence { text, about: vec![package.name.clone()], is_question: false };
        }
        let ranges = self.ranges_asked(facts, var);
        let text = match (package.listing.is_some(), ranges.as_slice()) {
            (false, _) => format!("No registry has a package {}.", package.name),
            (true, _) if package.releases().is_empty() => format!("{} has no release yet.", package.name),
            (true, [range]) => {
                format!("No release of {} is in {range}: there are {}.", package.name, existing(package))
            }
            (true, [one, other]) => format!("No release of {} is in both {one} and {other}.", package.name),
            (true, _) => format!("No release of {} is in all of {}.", package.name, ranges.join(" and ")),
        };
        Sentence { text, about: vec![package.name.clone()], is_question: false }
    }

    /// Whether the facts that narrow a package leave none of its releases, all of them holding at once.
    fn is_unreachable(&self, facts: &[&Fact], var: Var) -> bool {
        let package = &self.packages[var];
        let width = package.width();
        let narrowing: Vec<&&Fact> = facts.iter().filter(|fact| self.target(fact) == Some(var)).collect();
        let mut subjects: Vec<Option<Var>> = narrowing.iter().map(|fact| self.subject(fact)).collect();
        subjects.sort_unstable();
        // Two facts about one other package may be about different releases of it, of which one is taken.
        let alternatives = subjects.windows(2).any(|pair| pair[0].is_some() && pair[0] == pair[1]);
        let releases = Choices::of(width, 1..width);
        let left =
            narrowing.iter().filter_map(|fact| self.accepted(fact)).fold(releases, |all, (_, c)| all.and(&c));
        left.is_none() && !alternatives
    }

    fn ranges_asked(&self, facts: &[&Fact], var: Var) -> Vec<String> {
        let asked =
            facts.iter().filter(|fact| self.target(fact) == Some(var)).filter_map(|fact| match fact {
                Fact::Direct(number) => Some(spoken_range(&self.problem.needs[*number].range)),
                Fact::Needs { need, .. } => Some(spoken_range(&need.range)),
                Fact::Withdrawn { .. } | Fact::Held { .. } => None,
            });
        let mut ranges: Vec<String> = Vec::new();
        for range in asked.filter(|range| !range.is_empty()) {
            if !ranges.contains(&range) {
                ranges.push(range);
            }
        }
        ranges
    }
}

/// What two groups of releases of one package need of another, as one fact: the range is either's.
fn together(one: &Fact, other: &Fact) -> Option<Fact> {
    let Fact::Needs { package, releases, need } = one else { return None };
    let Fact::Needs { package: same, releases: others, need: also } = other else { return None };
    if package != same || need.name != also.name || need.prereleases != also.prereleases {
        return None;
    }
    let either = need.range.set(need.prereleases).or(also.range.set(need.prereleases));
    let range: Range = either.to_string().parse().ok()?;
    let need = CardNeed { range, ..need.clone() };
    Some(Fact::Needs { package: *package, releases: releases.or(others), need })
}

/// A range as a sentence names it, which ends in a full stop: not `2.4 ..` but `2.4 or newer`.
pub fn spoken_range(range: &Range) -> String {
    let text = range.to_string();
    text.strip_suffix(" ..").map_or(text.clone(), |from| format!("{from} or newer"))
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

fn existing(package: &Package) -> String {
    let width = package.width();
    stretches(package, &Choices::of(width, 1..width))
}
