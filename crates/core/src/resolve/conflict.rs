//! Why there is no resolution: the facts that contradict each other, cut down to those that matter, and told
//! in sentences that a person can check against a manifest or a card.

mod fits;
pub mod words;

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

use super::choices::Choices;
use super::engine::{Engine, Unsat, Var};
use super::universe::{Demand, Fact, Lack, Package, Universe};
use super::{Catalogue, Problem};
use crate::card::CardNeed;
use crate::name::{FacetName, PackageName};
use crate::range::Range;

/// Conflicts that are gone through at most to tell a conflict with as few facts as possible: usual ones take
/// a few dozen. One that took more to find is shown as it was found; it is too long to follow anyway.
const MAX_CONFLICTS: u64 = 5_000;

/// Most facts of which it is tried for each whether it is needed.
const MAX_FACTS: usize = 300;

/// A conflict, told from the project to the clash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// The chain of facts; taking any away would end the conflict, if it is minimal.
    pub facts: Vec<Sentence>,
    /// What follows from them.
    pub clash: Sentence,
    /// The direct needs in it, by their numbers in the problem; for a family one that has its range.
    pub direct: Vec<usize>,
    /// The packages in it that were held at their releases, by name.
    pub held: Vec<PackageName>,
    /// The targets in it that releases don't fit, by number, with the facet that speaks against them.
    pub misfits: Vec<(usize, Option<FacetName>)>,
    /// The charters in it, each with a package that it binds.
    pub chartered: Vec<(PackageName, PackageName)>,
    /// Whether every fact was shown to be needed; not where that would take too long.
    pub is_minimal: bool,
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

/// Tells a refutation that a search ended in after so many conflicts.
pub fn explain<C: Catalogue>(universe: &Universe<'_, C>, unsat: &Unsat, conflicts: u64) -> Conflict {
    let left = Cell::new(if conflicts < MAX_CONFLICTS { MAX_CONFLICTS } else { 0 });
    let teller = Explainer { problem: universe.problem, packages: &universe.packages, universe, left };
    let facts: Vec<&Fact> = unsat.0.iter().map(|fact| &universe.stated[*fact]).collect();
    let core = teller.merged(&teller.minimal(facts));
    let core: Vec<&Fact> = core.iter().collect();
    let reported = teller.in_order(&core);
    let of_family =
        |family| universe.problem.needs.iter().position(|need| need.family.as_ref() == Some(family));
    let direct = core.iter().filter_map(|fact| match fact {
        Fact::Direct(number) => Some(*number),
        Fact::Kept { family, .. } => of_family(family),
        _ => None,
    });
    let mut direct: Vec<usize> = direct.collect();
    direct.sort_unstable();
    direct.dedup();
    let held = core.iter().filter_map(|fact| match fact {
        Fact::Held { package, .. } => Some(universe.packages[*package].name.clone()),
        _ => None,
    });
    let mut held: Vec<PackageName> = held.collect();
    held.sort();
    let misfits = core.iter().filter_map(|fact| match fact {
        Fact::Unfit { target, lack: Lack::Facet(facet), .. } => Some((*target, Some(facet.clone()))),
        Fact::Unfit { target, lack: Lack::Part(_), .. } => Some((*target, None)),
        _ => None,
    });
    let misfits: BTreeSet<(usize, Option<FacetName>)> = misfits.collect();
    let chartered = core.iter().filter_map(|fact| match fact {
        Fact::Chartered { package, charter, .. } => {
            let charter = &universe.problem.charters[*charter].release.name;
            Some((charter.clone(), universe.packages[*package].name.clone()))
        }
        _ => None,
    });
    let chartered: BTreeSet<(PackageName, PackageName)> = chartered.collect();
    Conflict {
        chartered: chartered.into_iter().collect(),
        misfits: misfits.into_iter().collect(),
        facts: reported.iter().map(|fact| teller.sentence(fact)).collect(),
        clash: teller.clash(&core),
        direct,
        held,
        is_minimal: !teller.is_over_budget(),
    }
}

struct Explainer<'u, C> {
    problem: &'u Problem,
    packages: &'u [Package],
    universe: &'u Universe<'u, C>,
    /// How many conflicts may yet be gone through to tell it shorter.
    left: Cell<u64>,
}

impl<C: Catalogue> Explainer<'_, C> {
    /// The package that a fact narrows.
    fn target(&self, fact: &Fact) -> Option<Var> {
        match fact {
            Fact::Direct(number) => self.universe.known(&self.problem.needs[*number].package),
            Fact::Demands { demand, .. } => self.universe.known(demand.target()),
            Fact::Withdrawn { package, .. } | Fact::Held { package, .. } | Fact::Kept { package, .. } => {
                Some(*package)
            }
            Fact::InStep { other, .. } => Some(*other),
            Fact::Unfit { package, .. }
            | Fact::Refused { package, .. }
            | Fact::Chartered { package, .. }
            | Fact::Charters { package, .. }
            | Fact::Provided { capability: package } => Some(*package),
        }
    }

    /// The choices of its target that a fact leaves once its subject is chosen.
    fn accepted(&self, fact: &Fact) -> Option<Choices> {
        let target = self.target(fact)?;
        let clauses = self.universe.clauses_of(fact);
        let mut narrowing = clauses.iter().flatten().filter(|term| term.var == target);
        let first = narrowing.next()?;
        narrowing.all(|term| term.choices == first.choices).then(|| first.choices.clone())
    }

    /// The facts without those that are not needed for the conflict.
    fn minimal<'f>(&self, mut facts: Vec<&'f Fact>) -> Vec<&'f Fact> {
        // What a search ends in is about all that it went through; a second one is about less.
        while !self.is_over_budget() {
            match self.unsat_core(&facts) {
                Some(core) if core.len() < facts.len() => facts = core,
                _ => break,
            }
        }
        if facts.len() > MAX_FACTS {
            self.left.set(0);
        }
        let mut at = facts.len();
        // A telling that is longer than need be is better than none.
        while at > 0 && !self.is_over_budget() {
            at -= 1;
            let without: Vec<&Fact> =
                facts.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, fact)| *fact).collect();
            if let Some(core) = self.unsat_core(&without) {
                // All behind this place are needed, so what is left before it is what is still in doubt.
                at = facts[..at].iter().filter(|fact| is_among(&core, fact)).count();
                facts = core;
            }
        }
        facts
    }

    /// The facts with what several releases of one package need of another told in one, where that is still
    /// enough for the conflict.
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

    /// Those of the facts that a search for a conflict comes down to, in their order; `None` if it finds
    /// none.
    fn unsat_core<'f>(&self, facts: &[&'f Fact]) -> Option<Vec<&'f Fact>> {
        let mut engine = Engine::default();
        for package in self.packages {
            engine.new_var(package.width());
        }
        let state = |engine: &mut Engine| {
            facts.iter().enumerate().try_for_each(|(number, fact)| {
                self.universe.clauses_of(fact).into_iter().try_for_each(|terms| engine.state(terms, number))
            })
        };
        let result = state(&mut engine).and_then(|()| self.solve(&mut engine));
        self.left.set(self.left.get().saturating_sub(engine.conflicts()));
        match result {
            Ok(()) => None,
            Err(Unsat(core)) => Some(core.into_iter().map(|number| facts[number]).collect()),
        }
    }

    fn is_over_budget(&self) -> bool {
        self.left.get() == 0 || self.universe.catalogue.is_out_of_time()
    }

    fn contradict(&self, facts: &[&Fact]) -> bool {
        self.unsat_core(facts).is_some()
    }

    /// Looks for releases that satisfy all that was stated, until that is found impossible or patience ends.
    fn solve(&self, engine: &mut Engine) -> Result<(), Unsat> {
        loop {
            engine.propagate()?;
            if engine.should_restart() {
                engine.restart(0)?;
                continue;
            }
            let Some(var) = engine.take_most_active() else { return Ok(()) };
            let choice = engine.saved_phase(var).or_else(|| engine.domain(var).highest());
            if engine.conflicts() > self.left.get() || self.universe.catalogue.is_out_of_time() {
                return Ok(());
            }
            engine.decide(var, &Choices::of(engine.width(var), choice));
        }
    }

    /// The facts in the order of telling: each chain from a direct need on, one after the other.
    fn in_order<'f>(&self, facts: &[&'f Fact]) -> Vec<&'f Fact> {
        let mut left: BTreeMap<Option<Var>, VecDeque<&Fact>> = BTreeMap::new();
        for fact in facts {
            left.entry(fact.subject()).or_default().push_back(fact);
        }
        let mut reported: Vec<&Fact> = Vec::new();
        // What was reached and may be gone on from, the latest last.
        let mut reached: Vec<Option<Var>> = Vec::new();
        while reported.len() < facts.len() {
            let from = reached.last().copied().unwrap_or(None);
            let next = left.get_mut(&from).and_then(VecDeque::pop_front);
            if next.is_none() && reached.pop().is_some() {
                continue;
            }
            // Nothing leads to what is left: each of it begins a chain.
            let next = next.or_else(|| left.values_mut().find_map(VecDeque::pop_front));
            let Some(fact) = next else { break };
            reported.push(fact);
            reached.extend(self.target(fact).map(Some));
        }
        reported
    }
}

/// What two groups of releases of one package need of another, as one fact: the range is either's.
fn together(one: &Fact, other: &Fact) -> Option<Fact> {
    let (
        Fact::Demands { package, releases, demand, extra },
        Fact::Demands { package: same, releases: others, demand: also, extra: same_extra },
    ) = (one, other)
    else {
        return None;
    };
    let (Demand::Needs(need), Demand::Needs(also)) = (demand, also) else { return None };
    let beside_range = |need: &CardNeed| CardNeed { range: Range::any(), ..need.clone() };
    if (package, extra) != (same, same_extra) || beside_range(need) != beside_range(also) {
        return None;
    }
    let either = need.range.set(need.prereleases).or(also.range.set(need.prereleases));
    let range: Range = either.to_string().parse().ok()?;
    let demand = Demand::Needs(CardNeed { range, ..need.clone() });
    Some(Fact::Demands { package: *package, releases: releases.or(others), demand, extra: extra.clone() })
}

fn is_among(facts: &[&Fact], fact: &Fact) -> bool {
    facts.iter().any(|other| std::ptr::eq(*other, fact))
}
