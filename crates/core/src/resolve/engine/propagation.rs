//! Watching clauses, and drawing what follows when a choice that one is watched with is closed.

use super::{Clause, ClauseId, Engine, Literal, Var, Watch, offset};

/// What becomes of a watch that was looked at.
enum Looked {
    Stays(Watch),
    Moved,
    Conflicting(Watch),
}

impl Engine {
    /// Watches the first two literals of a clause. A clause of one literal holds from when it is drawn.
    pub(super) fn watch(&mut self, clause: ClauseId) {
        if let [first, second, ..] = *self.literals_of(clause) {
            for (mine, other) in [(first, second), (second, first)] {
                if let Some(place) = self.support(mine) {
                    self.watchers[place].push(Watch { clause, set: mine.set, other });
                }
            }
        }
    }

    /// Where a literal is watched: with a choice that is open or, of an impossible literal, one that opens as soon as
    /// it is possible again.
    fn support(&self, literal: Literal) -> Option<usize> {
        let (var, set) = (literal.var as usize, self.set(literal));
        let open = match self.impossible_since(literal) {
            None => self.domain(var).and(set),
            Some(step) => self.before(&self.steps[step as usize]).and(set),
        };
        open.highest().map(|choice| self.choices[var] + choice)
    }

    /// Follows the watched literals; the clause that is violated, if one is.
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

    /// Looks at all that is watched with a choice that was closed; the clause that is violated, if one is.
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

    /// Looks at a clause one of whose watched literals is about `var`, which lost the choice it is watched with.
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
