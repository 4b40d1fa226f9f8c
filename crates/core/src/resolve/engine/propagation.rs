//! Unit propagation over clauses with two watched literals.

use super::{Clause, ClauseId, Engine, Literal, Var, Watch, offset};

/// What happens to a watch that was examined.
enum Looked {
    Stays(Watch),
    Moved,
    Conflicting(Watch),
}

impl Engine {
    /// Watches the first two literals of a clause. A clause of one literal needs no watch.
    pub(super) fn watch(&mut self, clause: ClauseId) {
        if let [first, second, ..] = *self.literals_of(clause) {
            for (mine, other) in [(first, second), (second, first)] {
                if let Some(place) = self.support(mine) {
                    self.watchers[place].push(Watch { clause, set: mine.set, other });
                }
            }
        }
    }

    /// The value that a literal is watched by: an open one or, of a false literal, one that opens as soon as it is
    /// possible again.
    fn support(&self, literal: Literal) -> Option<usize> {
        let (var, set) = (literal.var as usize, self.set(literal));
        let open = match self.impossible_since(literal) {
            None => self.domain(var).and(set),
            Some(step) => self.before(&self.steps[step as usize]).and(set),
        };
        open.highest().map(|choice| self.choices[var] + choice)
    }

    /// Propagates all new assignments; returns a violated clause.
    pub(super) fn unit_propagate(&mut self) -> Option<ClauseId> {
        while self.head < self.steps.len() {
            let step = self.steps[self.head];
            let var = step.var as usize;
            self.head += 1;
            let closed = self.before(&step).minus(self.domain(var));
            for choice in closed.iter() {
                if let Some(violated) = self.follow(var, choice) {
                    return Some(violated);
                }
            }
        }
        None
    }

    /// Examines all watches of an excluded value; returns a violated clause.
    fn follow(&mut self, var: Var, choice: usize) -> Option<ClauseId> {
        let place = self.choices[var] + choice;
        let mut watches = std::mem::take(&mut self.watchers[place]);
        let (mut at, mut kept, mut violated) = (0, 0, None);
        while at < watches.len() && violated.is_none() {
            let watch = watches[at];
            at += 1;
            let looked = self.look_at(watch, var);
            if let Looked::Conflicting(watch) = looked {
                violated = Some(watch.clause);
            }
            if let Looked::Stays(watch) | Looked::Conflicting(watch) = looked {
                watches[kept] = watch;
                kept += 1;
            }
        }
        watches.drain(kept..at);
        self.watchers[place] = watches;
        violated
    }

    /// Examines a clause whose watched literal of `var` lost the value it is watched by.
    fn look_at(&mut self, watch: Watch, var: Var) -> Looked {
        let mine = Literal { var: offset(var), set: watch.set };
        if let Some(choice) = self.domain(var).highest_in(self.set(mine)) {
            self.watchers[self.choices[var] + choice].push(watch);
            return Looked::Moved;
        }
        if self.is_certain(watch.other) {
            return Looked::Stays(watch);
        }
        let Clause { from, to, .. } = self.clauses[watch.clause as usize];
        let (from, to) = (from as usize, to as usize);
        if self.literals[from].var == mine.var {
            self.literals.swap(from, from + 1);
        }
        let other = self.literals[from];
        let watch = Watch { other, ..watch };
        if self.is_certain(other) {
            return Looked::Stays(watch);
        }
        for at in from + 2..to {
            let literal = self.literals[at];
            let now = literal.var as usize;
            if let Some(choice) = self.domain(now).highest_in(self.set(literal)) {
                self.literals.swap(from + 1, at);
                self.watchers[self.choices[now] + choice].push(Watch { set: literal.set, ..watch });
                return Looked::Moved;
            }
        }
        if !self.is_open(other) {
            return Looked::Conflicting(watch);
        }
        self.force(other, watch.clause);
        Looked::Stays(watch)
    }
}
