//! Learning from a contradiction: resolving reasons until one term is to blame, or nothing is left.

use super::proof::ProofId;
use super::{ClauseId, Engine, Literal, NONE, Refuted, StepId, Var, View, offset};

/// What a contradiction comes down to, while it is worked out: one term at most for each variable.
#[derive(Debug, Default)]
pub struct Lesson {
    /// The terms' sets, laid out like the domains.
    sets: Vec<u64>,
    /// The step that made each variable's term impossible; `NONE` where there is no term.
    blamed: Vec<StepId>,
    /// The variables that have, or had, a term.
    vars: Vec<Var>,
    /// What the lesson follows from.
    from: Vec<ProofId>,
    /// The first step of the level at which the contradiction arose, and how many terms it is to blame for.
    bar: StepId,
    above_bar: usize,
    /// Which levels were counted, by the number of the count.
    counted: Vec<u64>,
    counts: u64,
}

impl Lesson {
    /// Makes room for one more variable, whose sets have so many words.
    pub fn make_room(&mut self, words: usize) {
        self.sets.resize(self.sets.len() + words, 0);
        self.blamed.push(NONE);
    }

    fn is_above_bar(&self, step: StepId) -> bool {
        step != NONE && step >= self.bar
    }

    /// Blames another step for a variable's term, or none because there is no term any more.
    fn blame(&mut self, var: Var, step: StepId) {
        self.above_bar -= usize::from(self.is_above_bar(self.blamed[var]));
        self.above_bar += usize::from(self.is_above_bar(step));
        self.blamed[var] = step;
    }
}

impl Engine {
    /// Learns from a violated clause, goes back to where the lesson matters and draws it there.
    pub(super) fn learn_from(&mut self, violated: ClauseId) -> Result<(), Refuted> {
        let mut violated = violated;
        loop {
            let level = self.arose_at(violated);
            self.return_to(level);
            let mut lesson = std::mem::take(&mut self.lesson);
            self.work_out(&mut lesson, violated);
            let refuted = level == 0;
            if refuted {
                let facts = self.proofs.facts_behind(&lesson.from);
                self.forget_lesson(&mut lesson);
                self.lesson = lesson;
                return Err(Refuted(facts));
            }
            self.shorten(&mut lesson);
            self.learn(&mut lesson);
            self.lesson = lesson;
            match self.heed_late() {
                Some(again) => violated = again,
                None => return Ok(()),
            }
        }
    }

    /// The level of the last step that a violated clause is about.
    fn arose_at(&self, violated: ClauseId) -> u32 {
        let steps = self.literals_of(violated).iter().filter_map(|literal| self.impossible_since(*literal));
        steps.map(|step| self.steps[step as usize].level).max().unwrap_or(0)
    }

    /// Resolves backwards until one term of the highest level is left; at level 0, until nothing is.
    fn work_out(&mut self, lesson: &mut Lesson, violated: ClauseId) {
        let level = self.level;
        lesson.bar = offset(self.steps.partition_point(|step| step.level < level));
        lesson.above_bar = 0;
        lesson.from.push(self.clauses[violated as usize].proof);
        for literal in self.literals_of(violated) {
            self.add(lesson, *literal);
        }
        let mut at = self.steps.len();
        while lesson.above_bar > 1 {
            at -= 1;
            let step = self.steps[at];
            if lesson.blamed[step.var as usize] == offset(at) {
                self.resolve_with(lesson, step.var as usize, step.reason);
            }
        }
        for var in &lesson.vars {
            self.activity.blame(*var);
        }
        self.activity.fade();
    }

    /// Replaces the term of `var` by what the reason for its step rests on.
    ///
    /// From "p in S, or A" and "p in T, or B" follows "p in both S and T, or A, or B"; and p in both was
    /// impossible already before the step that narrowed p to T.
    fn resolve_with(&self, lesson: &mut Lesson, var: Var, reason: ClauseId) {
        lesson.from.push(self.clauses[reason as usize].proof);
        for literal in self.literals_of(reason) {
            if literal.var as usize != var {
                self.add(lesson, *literal);
                continue;
            }
            for (word, also) in self.words_of(var).zip(self.set(*literal).words()) {
                lesson.sets[word] &= also;
            }
        }
        self.blame_earlier(lesson, var);
    }

    /// Blames the term of `var`, which has lost choices, on the step that it is impossible since now.
    fn blame_earlier(&self, lesson: &mut Lesson, var: Var) {
        let set = View::of(&lesson.sets[self.words_of(var)]);
        if set.is_none() {
            lesson.blame(var, NONE);
            return;
        }
        let step = self.blamed(set, lesson.blamed[var]);
        self.blame_step(lesson, var, step);
    }

    /// Adds a term; one that is impossible at level 0 is left out, and what makes it so is noted.
    fn add(&self, lesson: &mut Lesson, literal: Literal) {
        let var = literal.var as usize;
        let Some(step) = self.impossible_since(literal) else { return };
        if self.steps[step as usize].level == 0 {
            lesson.from.push(self.steps[step as usize].proof);
            return;
        }
        let is_there = lesson.blamed[var] != NONE;
        if !is_there {
            lesson.vars.push(var);
        }
        for (word, more) in self.words_of(var).zip(self.set(literal).words()) {
            lesson.sets[word] = if is_there { lesson.sets[word] | more } else { *more };
        }
        let step = if is_there { step.max(lesson.blamed[var]) } else { step };
        lesson.blame(var, step);
    }

    fn blame_step(&self, lesson: &mut Lesson, var: Var, step: StepId) {
        if self.steps[step as usize].level == 0 {
            lesson.from.push(self.steps[step as usize].proof);
            lesson.blame(var, NONE);
        } else {
            lesson.blame(var, step);
        }
    }

    /// Takes terms out of a lesson that follow from its others.
    fn shorten(&self, lesson: &mut Lesson) {
        for at in 0..lesson.vars.len() {
            let var = lesson.vars[at];
            let step = lesson.blamed[var];
            if step == NONE || lesson.is_above_bar(step) {
                continue;
            }
            let reason = self.steps[step as usize].reason;
            if reason != NONE && self.adds_nothing(lesson, var, reason) {
                self.resolve_with(lesson, var, reason);
            }
        }
    }

    /// Whether all that a reason says of other variables than `var` is in the lesson.
    fn adds_nothing(&self, lesson: &Lesson, var: Var, reason: ClauseId) -> bool {
        self.literals_of(reason).iter().all(|literal| {
            let other = literal.var as usize;
            other == var || self.is_root(*literal) || {
                lesson.blamed[other] != NONE
                    && self.set(*literal).within(View::of(&lesson.sets[self.words_of(other)]))
            }
        })
    }

    fn is_root(&self, literal: Literal) -> bool {
        self.impossible_since(literal).is_some_and(|step| self.steps[step as usize].level == 0)
    }

    /// Makes a clause of a lesson, goes back to where all but one of its terms are impossible and draws it.
    fn learn(&mut self, lesson: &mut Lesson) {
        lesson.vars.sort_unstable();
        lesson.vars.dedup();
        let from = self.literals.len();
        let (mut back, mut levels) = (0, 0);
        lesson.counts += 1;
        lesson.counted.resize(self.level as usize + 1, 0);
        for var in &lesson.vars {
            let step = lesson.blamed[*var];
            if step == NONE {
                continue;
            }
            let level = self.steps[step as usize].level;
            if std::mem::replace(&mut lesson.counted[level as usize], lesson.counts) != lesson.counts {
                levels += 1;
            }
            if !lesson.is_above_bar(step) {
                back = back.max(level);
            }
            let set = offset(self.sets.len());
            self.sets.extend_from_slice(&lesson.sets[self.words_of(*var)]);
            self.literals.push(Literal { var: offset(*var), set });
        }
        let proof = self.proofs.lesson(&lesson.from);
        self.forget_lesson(lesson);
        self.pace.note(levels);
        self.return_to(back);
        let learned = self.add_clause(from, proof, levels);
        self.force(self.literals[from], learned);
    }

    fn forget_lesson(&self, lesson: &mut Lesson) {
        for var in lesson.vars.drain(..) {
            lesson.blamed[var] = NONE;
        }
        lesson.from.clear();
    }
}
