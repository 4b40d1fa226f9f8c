//! A conflict-driven clause-learning (CDCL) solver over many-valued variables.
//!
//! A variable's domain is the set of its values that are still open. A clause is a list of literals "this variable is one of
//! these values", of which at least one must hold. Two literals of each clause are watched: a clause is examined only when a watched
//! literal becomes false. When the last open literal of a clause narrows a domain, that assignment is put on the trail with the clause as its
//! reason. When no literal is open, `analysis` resolves the reasons backwards to the first unique implication point, and the learned
//! clause makes the search jump back. `propagation` follows the watches, `proof` remembers what each learned clause was
//! resolved from, `activity` ranks the variables of recent conflicts, and `restarts` restarts and deletes learned clauses that don't help.
//!
//! Clauses may be added at any time, also when they propagate or are violated at once. Nothing here is random: the same calls
//! lead to the same assignments.
//!
//! Sets lie one after the other in long vectors of words, all sets of a variable with the same number of words: the search
//! spends its time comparing them.

mod activity;
mod analysis;
mod proof;
mod propagation;
mod restarts;

use std::ops::Range;

use self::activity::Activity;
use self::analysis::LearnedClause;
use self::proof::{ProofId, Proofs};
use self::restarts::Restarts;
use super::choices::{Choices, View, words};

/// A variable.
pub type Var = usize;

/// The index of a clause.
type ClauseId = u32;

/// The index of an assignment on the trail.
type StepId = u32;

/// No clause, or no assignment.
const NONE: u32 = u32::MAX;

/// A literal: a variable has one of these values.
#[derive(Debug, Clone)]
pub struct Term {
    pub var: Var,
    pub choices: Choices,
}

/// A literal in a clause: its set begins at this index of `sets`.
#[derive(Debug, Clone, Copy)]
struct Literal {
    var: u32,
    set: u32,
}

#[derive(Debug, Clone, Copy)]
struct Clause {
    /// The range of its literals; the first two are watched, and no variable occurs twice.
    from: u32,
    to: u32,
    proof: ProofId,
    /// Its number of decision levels when it was learned (LBD); 0 for an original clause, which is never deleted.
    levels: u32,
}

/// A watch: its clause is examined when the literal with `set` has become false and `other` is not true.
///
/// It is attached to one value of the set and looked at only when that value is excluded: then another value that is
/// open takes over, or the literal is false. It is the newest one, since that stays open most often.
#[derive(Debug, Clone, Copy)]
struct Watch {
    clause: ClauseId,
    set: u32,
    other: Literal,
}

#[derive(Debug, Clone, Copy)]
struct Step {
    var: u32,
    /// Where the domain before it begins in `saved`.
    before: u32,
    /// The clause that forced it; `NONE` for a decision.
    reason: ClauseId,
    level: u32,
    /// The assignment before it on the same variable.
    previous: StepId,
    /// What it follows from, at level 0.
    proof: ProofId,
}

/// The numbers of facts that contradict each other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsat(pub Vec<usize>);

/// A clause that had at most one open literal when it was added above level 0: the watches can't tell when it
/// propagates at a lower level, so it is examined again after each backjump.
#[derive(Debug)]
struct Late {
    clause: ClauseId,
    seen_at: u32,
}

/// The solver's state.
#[derive(Debug)]
pub struct Engine {
    widths: Vec<usize>,
    /// Where each variable's words begin in `domains`; one more at the end.
    starts: Vec<usize>,
    domains: Vec<u64>,
    steps: Vec<Step>,
    saved: Vec<u64>,
    /// The last assignment of each variable.
    last: Vec<StepId>,
    clauses: Vec<Clause>,
    literals: Vec<Literal>,
    sets: Vec<u64>,
    /// The watches of each value of each variable.
    watchers: Vec<Vec<Watch>>,
    /// Where each variable's values begin in `watchers`.
    choices: Vec<usize>,
    proofs: Proofs,
    learned: LearnedClause,
    activity: Activity,
    restarts: Restarts,
    /// The value that each variable had when it was last assigned.
    saved_phases: Vec<Option<u32>>,
    /// The next assignment to propagate.
    head: usize,
    level: u32,
    late: Vec<Late>,
    backjumps: usize,
    /// How many decisions were made in all, and the number of each current one.
    decisions: u64,
    opened: Vec<u64>,
    /// How many of the assignments `take_changed` has returned.
    reported: usize,
}

/// A mark of the decisions made so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mark {
    level: u32,
    /// The number of the last of them.
    opened: u64,
}

/// The state of a clause.
enum ClauseState {
    Satisfied,
    /// Only this literal is open: the clause is unit.
    Unit(Literal),
    Conflicting,
}

impl Default for Engine {
    fn default() -> Self {
        Self {
            widths: Vec::new(),
            starts: vec![0],
            domains: Vec::new(),
            steps: Vec::new(),
            saved: Vec::new(),
            last: Vec::new(),
            clauses: Vec::new(),
            literals: Vec::new(),
            sets: Vec::new(),
            watchers: Vec::new(),
            choices: Vec::new(),
            proofs: Proofs::default(),
            learned: LearnedClause::default(),
            activity: Activity::default(),
            restarts: Restarts::default(),
            saved_phases: Vec::new(),
            head: 0,
            level: 0,
            late: Vec::new(),
            backjumps: 0,
            decisions: 0,
            opened: Vec::new(),
            reported: 0,
        }
    }
}

impl Engine {
    /// Adds a variable with `width` values, all open.
    pub fn new_var(&mut self, width: usize) -> Var {
        let var = self.widths.len();
        self.widths.push(width);
        self.domains.extend(Choices::all(width).view().words());
        self.starts.push(self.domains.len());
        self.last.push(NONE);
        self.choices.push(self.watchers.len());
        self.watchers.resize(self.watchers.len() + width, Vec::new());
        self.saved_phases.push(None);
        self.learned.make_room(words(width));
        self.activity.add(var);
        var
    }

    /// How many values a variable has.
    pub fn width(&self, var: Var) -> usize {
        self.widths[var]
    }

    /// The values of a variable that are still open.
    pub fn domain(&self, var: Var) -> View<'_> {
        View::of(&self.domains[self.words_of(var)])
    }

    /// The current decision level.
    pub fn level(&self) -> u32 {
        self.level
    }

    /// How often the search has backtracked: while this stays the same, what was assigned stays assigned.
    pub fn backjumps(&self) -> usize {
        self.backjumps
    }

    /// The variables that were narrowed since the last call; again after backtracking and another assignment.
    pub fn take_changed(&mut self) -> Vec<Var> {
        let reported = std::mem::replace(&mut self.reported, self.steps.len());
        self.steps[reported..].iter().map(|step| step.var as usize).collect()
    }

    /// The saved phase of a variable, if it is open.
    pub fn saved_phase(&self, var: Var) -> Option<usize> {
        self.saved_phases[var].map(|choice| choice as usize).filter(|choice| self.domain(var).has(*choice))
    }

    /// Takes the variable with the most activity of those that need a decision: they can't be left out, and
    /// aren't assigned.
    pub fn take_most_active(&mut self) -> Option<Var> {
        while let Some(var) = self.activity.take() {
            let domain = self.domain(var);
            if !domain.has(Choices::LEFT_OUT) && domain.only().is_none() {
                return Some(var);
            }
        }
        None
    }

    /// Adds a clause; `fact` names it in a refutation, and several clauses may have the same fact.
    pub fn state(&mut self, terms: impl IntoIterator<Item = Term>, fact: usize) -> Result<(), Unsat> {
        let proof = self.proofs.fact(fact);
        self.state_by(terms, proof)
    }

    /// Adds a clause that follows from these facts.
    pub fn state_following(
        &mut self,
        terms: impl IntoIterator<Item = Term>,
        facts: &[usize],
    ) -> Result<(), Unsat> {
        let proofs: Vec<ProofId> = facts.iter().map(|fact| self.proofs.fact(*fact)).collect();
        let proof = self.proofs.learned(&proofs);
        self.state_by(terms, proof)
    }

    fn state_by(&mut self, terms: impl IntoIterator<Item = Term>, proof: ProofId) -> Result<(), Unsat> {
        let from = self.literals.len();
        for Term { var, choices } in terms {
            if !choices.is_none() {
                let set = offset(self.sets.len());
                self.sets.extend(choices.view().words());
                self.literals.push(Literal { var: offset(var), set });
            }
        }
        let clause = self.add_clause(from, proof, 0);
        let literals = &self.literals[from..];
        let open = literals.iter().filter(|literal| self.is_open(**literal)).count();
        if self.level > 0 && open <= 1 {
            self.late.push(Late { clause, seen_at: self.level });
        }
        match self.clause_state(clause) {
            ClauseState::Satisfied => Ok(()),
            ClauseState::Unit(literal) => {
                self.force(literal, clause);
                Ok(())
            }
            ClauseState::Conflicting => self.learn_from(clause),
        }
    }

    /// A mark that shows later whether the decisions made so far still hold.
    pub fn mark(&self) -> Mark {
        Mark { level: self.level, opened: self.opened.last().copied().unwrap_or_default() }
    }

    /// Whether all decisions that had been made when a mark was set still hold.
    pub fn still_holds(&self, mark: Mark) -> bool {
        let opened = (mark.level as usize).checked_sub(1).map(|at| self.opened.get(at));
        mark.level <= self.level && opened.is_none_or(|opened| opened == Some(&mark.opened))
    }

    /// Narrows a variable by a decision, which opens a new level.
    pub fn decide(&mut self, var: Var, choices: &Choices) {
        self.level += 1;
        self.decisions += 1;
        self.opened.push(self.decisions);
        self.narrow(var, choices, NONE);
    }

    /// Propagates, and learns from every conflict, until nothing more follows.
    pub fn propagate(&mut self) -> Result<(), Unsat> {
        while let Some(violated) = self.unit_propagate() {
            self.learn_from(violated)?;
            self.reduce_clauses();
        }
        Ok(())
    }

    /// Makes a clause of the literals from this place on.
    fn add_clause(&mut self, from: usize, proof: ProofId, levels: u32) -> ClauseId {
        // Open literals first, then those that became false last: the right ones to watch.
        let mut literals = self.literals.split_off(from);
        literals.sort_by_key(|literal| std::cmp::Reverse(self.impossible_since(*literal).unwrap_or(NONE)));
        self.literals.append(&mut literals);
        let id = offset(self.clauses.len());
        self.clauses.push(Clause { from: offset(from), to: offset(self.literals.len()), proof, levels });
        self.watch(id);
        id
    }

    fn literals_of(&self, clause: ClauseId) -> &[Literal] {
        let Clause { from, to, .. } = self.clauses[clause as usize];
        &self.literals[from as usize..to as usize]
    }

    fn words_of(&self, var: Var) -> Range<usize> {
        self.starts[var]..self.starts[var + 1]
    }

    /// The set of a literal.
    fn set(&self, literal: Literal) -> View<'_> {
        let set = literal.set as usize;
        View::of(&self.sets[set..set + self.words_of(literal.var as usize).len()])
    }

    /// The domain of an assignment's variable before it.
    fn before(&self, step: &Step) -> View<'_> {
        let before = step.before as usize;
        View::of(&self.saved[before..before + self.words_of(step.var as usize).len()])
    }

    fn is_open(&self, literal: Literal) -> bool {
        !self.domain(literal.var as usize).misses(self.set(literal))
    }

    fn is_certain(&self, literal: Literal) -> bool {
        self.domain(literal.var as usize).within(self.set(literal))
    }

    fn clause_state(&self, clause: ClauseId) -> ClauseState {
        let mut open = None;
        for literal in self.literals_of(clause) {
            if !self.is_open(*literal) {
                continue;
            }
            if open.is_some() || self.is_certain(*literal) {
                return ClauseState::Satisfied;
            }
            open = Some(*literal);
        }
        open.map_or(ClauseState::Conflicting, ClauseState::Unit)
    }

    fn force(&mut self, literal: Literal, reason: ClauseId) {
        let choices = self.set(literal).to_owned();
        self.narrow(literal.var as usize, &choices, reason);
    }

    /// Narrows a variable to the values in a set.
    fn narrow(&mut self, var: Var, choices: &Choices, reason: ClauseId) {
        if self.domain(var).within(choices.view()) {
            return;
        }
        let proof = if self.level == 0 { self.root_proof(var, reason) } else { NONE };
        let before = offset(self.saved.len());
        let words = self.words_of(var);
        self.saved.extend_from_slice(&self.domains[words.clone()]);
        for (word, left) in self.domains[words].iter_mut().zip(choices.view().words()) {
            *word &= left;
        }
        let id = offset(self.steps.len());
        let previous = std::mem::replace(&mut self.last[var], id);
        self.steps.push(Step { var: offset(var), before, reason, level: self.level, previous, proof });
        self.activity.queue(var);
    }

    /// Backtracks to `level`, and propagates there the clauses that were added since.
    pub fn backjump(&mut self, level: u32) -> Result<(), Unsat> {
        self.undo_to(level);
        self.revisit_late().map_or(Ok(()), |violated| self.learn_from(violated))
    }

    /// Backtracks to `level`; the caller has to examine late clauses.
    fn undo_to(&mut self, level: u32) {
        if level >= self.level {
            return;
        }
        self.backjumps += 1;
        while let Some(step) = self.steps.pop_if(|step| step.level > level) {
            let var = step.var as usize;
            if let Some(choice) = self.domain(var).only() {
                self.saved_phases[var] = Some(offset(choice));
            }
            let words = self.words_of(var);
            self.domains[words].copy_from_slice(&self.saved[step.before as usize..]);
            self.saved.truncate(step.before as usize);
            self.last[var] = step.previous;
            self.activity.queue(var);
        }
        self.head = self.head.min(self.steps.len());
        self.reported = self.reported.min(self.steps.len());
        self.opened.truncate(level as usize);
        self.level = level;
    }

    /// Propagates late clauses at this level; returns a violated one.
    fn revisit_late(&mut self) -> Option<ClauseId> {
        // Assignments at level 0 are never undone.
        self.late.retain(|late| late.seen_at > 0);
        for index in 0..self.late.len() {
            let Late { clause, seen_at } = self.late[index];
            if seen_at <= self.level {
                continue;
            }
            self.late[index].seen_at = self.level;
            match self.clause_state(clause) {
                ClauseState::Satisfied => {}
                ClauseState::Unit(literal) => self.force(literal, clause),
                ClauseState::Conflicting => return Some(clause),
            }
        }
        None
    }

    /// The assignment that made a literal false; `None` while it is open.
    fn impossible_since(&self, literal: Literal) -> Option<StepId> {
        let set = self.set(literal);
        let misses = self.domain(literal.var as usize).misses(set);
        misses.then(|| self.blamed(set, self.last[literal.var as usize]))
    }

    /// The assignment at or before `latest`, on the same variable, that excluded the last value of a set that is false.
    fn blamed(&self, set: View<'_>, latest: StepId) -> StepId {
        let mut blamed = latest;
        loop {
            let step = &self.steps[blamed as usize];
            if step.previous == NONE || !self.before(step).misses(set) {
                return blamed;
            }
            blamed = step.previous;
        }
    }
}

/// An index as it is stored: no memory holds so many clauses and sets that it overflows.
fn offset(place: usize) -> u32 {
    u32::try_from(place).expect("the engine never holds four thousand million of anything")
}
