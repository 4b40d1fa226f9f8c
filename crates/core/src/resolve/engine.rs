//! A conflict-driven solver over many-valued variables.
//!
//! Each variable has a domain: the choices still open. A clause is a list of terms "this variable is among
//! these choices" of which at least one must hold. Two terms of each clause are watched: only when a
//! watched one becomes impossible is the clause looked at. When the last open term of a clause forces a
//! domain to shrink, that is a step with the clause as its reason. When no term is left open, the reasons are
//! resolved backwards until one term alone decided at the current level is to blame; the clause so learned
//! takes the search back to where it matters.
//!
//! Clauses may be added at any time, also when they force or contradict something at once. Nothing here is
//! random: the same calls lead to the same steps.

mod analysis;

use smallvec::SmallVec;

use super::choices::Choices;

/// A variable.
pub type Var = usize;

/// A clause.
pub type ClauseId = usize;

/// That a variable is among these choices.
#[derive(Debug, Clone)]
pub struct Term {
    pub var: Var,
    pub choices: Choices,
}

/// Where a clause comes from.
#[derive(Debug, Clone)]
enum Origin {
    /// Stated from outside, under this number.
    Fact(usize),
    /// Follows from these clauses.
    Learned(Vec<ClauseId>),
}

#[derive(Debug)]
struct Clause {
    /// The first two are watched; no variable occurs twice.
    terms: SmallVec<[Term; 2]>,
    origin: Origin,
}

#[derive(Debug)]
struct Step {
    var: Var,
    before: Choices,
    /// `None` for a decision.
    reason: Option<ClauseId>,
    level: usize,
}

/// That the facts numbered so contradict each other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refuted(pub Vec<usize>);

/// A clause that had at most one open term when it was added above level 0: the watches can't tell when it
/// would force that term at a lower level, so it is looked at again whenever levels are left.
#[derive(Debug)]
struct Late {
    clause: ClauseId,
    seen_at: usize,
}

/// The solver's state.
#[derive(Debug, Default)]
pub struct Engine {
    widths: Vec<usize>,
    domains: Vec<Choices>,
    /// The steps that shrank each variable, oldest first.
    steps_of: Vec<Vec<usize>>,
    steps: Vec<Step>,
    clauses: Vec<Clause>,
    watchers: Vec<Vec<ClauseId>>,
    /// The next step whose consequences are to be drawn.
    head: usize,
    level: usize,
    late: Vec<Late>,
    left_levels: usize,
    /// How many of the steps `take_narrowed` has told.
    told: usize,
}

/// How a clause stands.
enum Standing {
    Fine,
    /// Only the term at this place is open.
    Forces(usize),
    Violated,
}

impl Engine {
    /// A new variable with `width` choices, all open.
    pub fn new_var(&mut self, width: usize) -> Var {
        self.widths.push(width);
        self.domains.push(Choices::all(width));
        self.steps_of.push(Vec::new());
        self.watchers.push(Vec::new());
        self.widths.len() - 1
    }

    /// How many choices a variable has.
    pub fn width(&self, var: Var) -> usize {
        self.widths[var]
    }

    /// The choices of a variable that are still open.
    pub fn domain(&self, var: Var) -> &Choices {
        &self.domains[var]
    }

    /// How often decisions were taken back: while this stays the same, what was settled stays settled.
    pub fn left_levels(&self) -> usize {
        self.left_levels
    }

    /// The variables that were narrowed since this was last asked; told again where a step was taken back
    /// and another made.
    pub fn take_narrowed(&mut self) -> Vec<Var> {
        let told = std::mem::replace(&mut self.told, self.steps.len());
        self.steps[told..].iter().map(|step| step.var).collect()
    }

    /// States that one of `terms` holds; `fact` names this in a refutation.
    pub fn state(&mut self, terms: impl IntoIterator<Item = Term>, fact: usize) -> Result<(), Refuted> {
        let clause = self.add_clause(terms, Origin::Fact(fact));
        let open =
            self.clauses[clause].terms.iter().filter(|term| self.impossible_since(term).is_none()).count();
        if self.level > 0 && open <= 1 {
            self.late.push(Late { clause, seen_at: self.level });
        }
        self.heed(clause)
    }

    /// Narrows a variable by a decision, which opens a new level.
    pub fn decide(&mut self, var: Var, choices: &Choices) {
        self.level += 1;
        self.narrow(var, choices, None);
    }

    /// Draws all consequences, learning from every contradiction, until nothing more follows.
    pub fn settle(&mut self) -> Result<(), Refuted> {
        while let Some(violated) = self.propagate() {
            self.learn_from(violated)?;
        }
        Ok(())
    }

    fn add_clause(&mut self, terms: impl IntoIterator<Item = Term>, origin: Origin) -> ClauseId {
        let mut terms: SmallVec<[Term; 2]> =
            terms.into_iter().filter(|term| !term.choices.is_none()).collect();
        // Open terms first, then those that became impossible last: the right ones to watch.
        terms.sort_by_key(|term| {
            std::cmp::Reverse(self.impossible_since(term).map_or(usize::MAX, |step| step))
        });
        let id = self.clauses.len();
        for term in terms.iter().take(2) {
            self.watchers[term.var].push(id);
        }
        self.clauses.push(Clause { terms, origin });
        id
    }

    fn standing(&self, clause: ClauseId) -> Standing {
        let mut open = None;
        for (place, term) in self.clauses[clause].terms.iter().enumerate() {
            let domain = &self.domains[term.var];
            if domain.misses(&term.choices) {
                continue;
            }
            if open.is_some() || domain.within(&term.choices) {
                return Standing::Fine;
            }
            open = Some(place);
        }
        open.map_or(Standing::Violated, Standing::Forces)
    }

    /// Draws what a single clause says.
    fn heed(&mut self, clause: ClauseId) -> Result<(), Refuted> {
        match self.standing(clause) {
            Standing::Fine => Ok(()),
            Standing::Forces(place) => {
                self.force(clause, place);
                Ok(())
            }
            Standing::Violated => self.learn_from(clause),
        }
    }

    fn force(&mut self, clause: ClauseId, place: usize) {
        let Term { var, choices } = self.clauses[clause].terms[place].clone();
        self.narrow(var, &choices, Some(clause));
    }

    fn narrow(&mut self, var: Var, choices: &Choices, reason: Option<ClauseId>) {
        let narrower = self.domains[var].and(choices);
        if narrower == self.domains[var] {
            return;
        }
        let before = std::mem::replace(&mut self.domains[var], narrower);
        self.steps_of[var].push(self.steps.len());
        self.steps.push(Step { var, before, reason, level: self.level });
    }

    /// Follows the watched terms; the clause that is violated, if one is.
    fn propagate(&mut self) -> Option<ClauseId> {
        while self.head < self.steps.len() {
            let var = self.steps[self.head].var;
            self.head += 1;
            let mut place = 0;
            while place < self.watchers[var].len() {
                let clause = self.watchers[var][place];
                match self.rewatch(clause, var) {
                    Rewatch::Stays => place += 1,
                    Rewatch::Moved => {
                        self.watchers[var].swap_remove(place);
                    }
                    Rewatch::Forces(term) => {
                        self.force(clause, term);
                        place += 1;
                    }
                    Rewatch::Violated => return Some(clause),
                }
            }
        }
        None
    }

    /// Looks at a clause one of whose watched terms is about `var`, which was narrowed.
    fn rewatch(&mut self, clause: ClauseId, var: Var) -> Rewatch {
        let domains = &self.domains;
        let terms = &mut self.clauses[clause].terms;
        let watched = usize::from(terms[0].var != var);
        if !domains[var].misses(&terms[watched].choices) {
            return Rewatch::Stays;
        }
        let Some(other) = terms.get(1 - watched) else { return Rewatch::Violated };
        let (other_var, other_domain) = (other.var, &domains[other.var]);
        if other_domain.within(&other.choices) {
            return Rewatch::Stays;
        }
        let open = (2..terms.len()).find(|at| !domains[terms[*at].var].misses(&terms[*at].choices));
        if let Some(at) = open {
            terms.swap(watched, at);
            let now = terms[watched].var;
            debug_assert!(now != var && now != other_var);
            self.watchers[now].push(clause);
            return Rewatch::Moved;
        }
        if other_domain.misses(&terms[1 - watched].choices) {
            Rewatch::Violated
        } else {
            Rewatch::Forces(1 - watched)
        }
    }

    /// Takes back everything above `level` and looks again at what came late.
    fn return_to(&mut self, level: usize) {
        if level == self.level {
            return;
        }
        self.left_levels += 1;
        while self.steps.last().is_some_and(|step| step.level > level) {
            let Some(step) = self.steps.pop() else { break };
            self.domains[step.var] = step.before;
            self.steps_of[step.var].pop();
        }
        self.head = self.head.min(self.steps.len());
        self.told = self.told.min(self.steps.len());
        self.level = level;
    }

    /// Draws again what late clauses force at this level; the one that is violated, if one is.
    fn heed_late(&mut self) -> Option<ClauseId> {
        // What is drawn at level 0 is never taken back.
        self.late.retain(|late| late.seen_at > 0);
        for index in 0..self.late.len() {
            let Late { clause, seen_at } = self.late[index];
            if seen_at <= self.level {
                continue;
            }
            self.late[index].seen_at = self.level;
            match self.standing(clause) {
                Standing::Fine => {}
                Standing::Forces(place) => self.force(clause, place),
                Standing::Violated => return Some(clause),
            }
        }
        None
    }

    /// The step that made a term impossible; `None` while it is open.
    fn impossible_since(&self, term: &Term) -> Option<usize> {
        if !self.domains[term.var].misses(&term.choices) {
            return None;
        }
        let steps = &self.steps_of[term.var];
        // The domain before a step is the one after the step before it.
        let earlier = steps.iter().rposition(|step| !self.steps[*step].before.misses(&term.choices));
        earlier.map(|at| steps[at])
    }
}

enum Rewatch {
    Stays,
    Moved,
    Forces(usize),
    Violated,
}
