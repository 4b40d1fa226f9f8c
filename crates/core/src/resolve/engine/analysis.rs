//! Conflict analysis: resolves reasons backwards to the first unique implication point.

use super::proof::ProofId;
use super::{ClauseId, Engine, Literal, NONE, StepId, Unsat, Var, View, offset};

/// The clause that is learned from a conflict, while it is worked out: at most one literal per variable.
#[derive(Debug, Default)]
pub struct LearnedClause {
    /// The literals' sets, laid out like the domains.
    sets: Vec<u64>,
    /// The assignment that made each variable's literal false; `NONE` where there is no literal.
    blamed: Vec<StepId>,
    /// The variables that have, or had, a literal.
    vars: Vec<Var>,
    /// The proofs that the learned clause follows from.
    from: Vec<ProofId>,
    /// The first assignment of the conflict's level, and how many literals it falsified.
    bar: StepId,
    above_bar: usize,
    /// Which levels were counted, by the number of the count.
    counted: Vec<u64>,
    counts: u64,
}

impl LearnedClause {
    /// Adds a variable whose sets have so many words.
    pub fn make_room(&mut self, words: usize) {
        self.sets.resize(self.sets.len() + words, 0);
        self.blamed.push(NONE);
    }

    fn is_above_bar(&self, step: StepId) -> bool {
        step != NONE && step >= self.bar
    }

    /// Sets the assignment that falsified a variable's literal; none where there is no literal any more.
    fn blame(&mut self, var: Var, step: StepId) {
        self.above_bar -= usize::from(self.is_above_bar(self.blamed[var]));
        self.above_bar += usize::from(self.is_above_bar(step));
        self.blamed[var] = step;
    }
}

impl Engine {
    /// Learns from a violated clause, jumps back to where the learned clause is unit and propagates it there.
    pub(super) fn learn_from(&mut self, violated: ClauseId) -> Result<(), Unsat> {
        let mut violated = violated;
        loop {
            let level = self.arose_at(violated);
            self.undo_to(level);
            let mut learned = std::mem::take(&mut self.learned);
            self.analyze(&mut learned, violated);
            let unsat = level == 0;
            if unsat {
                let facts = self.proofs.facts_behind(&learned.from);
                self.clear_learned(&mut learned);
                self.learned = learned;
                return Err(Unsat(facts));
            }
            self.minimize(&mut learned);
            self.learn(&mut learned);
            self.learned = learned;
            match self.revisit_late() {
                Some(again) => violated = again,
                None => return Ok(()),
            }
        }
    }

    /// The highest level in a violated clause.
    fn arose_at(&self, violated: ClauseId) -> u32 {
        let steps = self.literals_of(violated).iter().filter_map(|literal| self.impossible_since(*literal));
        steps.map(|step| self.steps[step as usize].level).max().unwrap_or(0)
    }

    /// Resolves backwards until one literal of the highest level is left; at level 0, until none is.
    fn analyze(&mut self, learned: &mut LearnedClause, violated: ClauseId) {
        let level = self.level;
        learned.bar = offset(self.steps.partition_point(|step| step.level < level));
        learned.above_bar = 0;
        learned.from.push(self.clauses[violated as usize].proof);
        for literal in self.literals_of(violated) {
            self.add(learned, *literal);
        }
        let mut at = self.steps.len();
        while learned.above_bar > 1 {
            at -= 1;
            let step = self.steps[at];
            if learned.blamed[step.var as usize] == offset(at) {
                self.resolve_with(learned, step.var as usize, step.reason);
            }
        }
        for var in &learned.vars {
            self.activity.bump(*var);
        }
        self.activity.decay();
    }

    /// Resolves with the reason of the assignment that falsified the literal of `var`.
    ///
    /// From "p in S, or A" and "p in T, or B" follows "p in S and T, or A, or B"; and p in both was
    /// false already before the assignment that narrowed p to T.
    fn resolve_with(&self, learned: &mut LearnedClause, var: Var, reason: ClauseId) {
        learned.from.push(self.clauses[reason as usize].proof);
        for literal in self.literals_of(reason) {
            if literal.var as usize != var {
                self.add(learned, *literal);
                continue;
            }
            for (word, also) in self.words_of(var).zip(self.set(*literal).words()) {
                learned.sets[word] &= also;
            }
        }
        self.blame_earlier(learned, var);
    }

    /// Sets the assignment since which the literal of `var`, which has lost values, is false.
    fn blame_earlier(&self, learned: &mut LearnedClause, var: Var) {
        let set = View::of(&learned.sets[self.words_of(var)]);
        if set.is_none() {
            learned.blame(var, NONE);
            return;
        }
        let step = self.blamed(set, learned.blamed[var]);
        self.blame_step(learned, var, step);
    }

    /// Adds a literal; one that is false at level 0 is left out, and its proof is recorded.
    fn add(&self, learned: &mut LearnedClause, literal: Literal) {
        let var = literal.var as usize;
        let Some(step) = self.impossible_since(literal) else { return };
        if self.steps[step as usize].level == 0 {
            learned.from.push(self.steps[step as usize].proof);
            return;
        }
        let is_there = learned.blamed[var] != NONE;
        if !is_there {
            learned.vars.push(var);
        }
        for (word, more) in self.words_of(var).zip(self.set(literal).words()) {
            learned.sets[word] = if is_there { learned.sets[word] | more } else { *more };
        }
        let step = if is_there { step.max(learned.blamed[var]) } else { step };
        learned.blame(var, step);
    }

    fn blame_step(&self, learned: &mut LearnedClause, var: Var, step: StepId) {
        if self.steps[step as usize].level == 0 {
            learned.from.push(self.steps[step as usize].proof);
            learned.blame(var, NONE);
        } else {
            learned.blame(var, step);
        }
    }

    /// Removes literals from a learned clause that follow from its others.
    fn minimize(&self, learned: &mut LearnedClause) {
        for at in 0..learned.vars.len() {
            let var = learned.vars[at];
            let step = learned.blamed[var];
            if step == NONE || learned.is_above_bar(step) {
                continue;
            }
            let reason = self.steps[step as usize].reason;
            if reason != NONE && self.is_redundant(learned, var, reason) {
                self.resolve_with(learned, var, reason);
            }
        }
    }

    /// Whether the learned clause has all literals of a reason but that of `var`.
    fn is_redundant(&self, learned: &LearnedClause, var: Var, reason: ClauseId) -> bool {
        self.literals_of(reason).iter().all(|literal| {
            let other = literal.var as usize;
            other == var || self.is_root(*literal) || {
                learned.blamed[other] != NONE
                    && self.set(*literal).within(View::of(&learned.sets[self.words_of(other)]))
            }
        })
    }

    fn is_root(&self, literal: Literal) -> bool {
        self.impossible_since(literal).is_some_and(|step| self.steps[step as usize].level == 0)
    }

    /// Adds the learned clause, jumps back to where it is unit and propagates it.
    fn learn(&mut self, learned: &mut LearnedClause) {
        learned.vars.sort_unstable();
        learned.vars.dedup();
        let from = self.literals.len();
        let (mut back, mut levels) = (0, 0);
        learned.counts += 1;
        learned.counted.resize(self.level as usize + 1, 0);
        for var in &learned.vars {
            let step = learned.blamed[*var];
            if step == NONE {
                continue;
            }
            let level = self.steps[step as usize].level;
            if std::mem::replace(&mut learned.counted[level as usize], learned.counts) != learned.counts {
                levels += 1;
            }
            if !learned.is_above_bar(step) {
                back = back.max(level);
            }
            let set = offset(self.sets.len());
            self.sets.extend_from_slice(&learned.sets[self.words_of(*var)]);
            self.literals.push(Literal { var: offset(*var), set });
        }
        let proof = self.proofs.learned(&learned.from);
        self.clear_learned(learned);
        self.restarts.note(levels);
        self.undo_to(back);
        let learned = self.add_clause(from, proof, levels);
        self.force(self.literals[from], learned);
    }

    fn clear_learned(&self, learned: &mut LearnedClause) {
        for var in learned.vars.drain(..) {
            learned.blamed[var] = NONE;
        }
        learned.from.clear();
    }
}
