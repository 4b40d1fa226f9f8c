//! When a long search begins anew, and which learned clauses it keeps.

use super::{Clause, ClauseId, Engine, NONE, Step, Unsat, offset};

/// Fewest contradictions between two new beginnings.
const MIN_CONFLICTS_TO_RESTART: u32 = 50;

/// Contradictions before learned clauses are looked through for the first time.
const FIRST_REDUCTION: u64 = 1000;

/// By how many more each next clearing waits.
const REDUCTION_INCREMENT: u64 = 100;

/// Clauses in which no more levels than this met are always kept.
const MAX_GLUE_KEPT: u32 = 2;

/// How many lessons count as recent, and how many as all.
const RECENT: f64 = 32.0;
const LONG: f64 = 4096.0;

/// How lessons have gone: how many levels met in the recent ones and in all.
#[derive(Debug, Default)]
pub struct Restarts {
    recent: f64,
    all: f64,
    /// Contradictions since the search last began anew.
    run: u32,
    /// Contradictions in all.
    conflicts: u64,
    /// How often learned clauses were looked through, and at which count they will be again.
    reductions: u64,
    next_reduction: u64,
}

impl Restarts {
    /// Notes a lesson in which so many levels met.
    pub fn note(&mut self, levels: u32) {
        let levels = f64::from(levels);
        self.run += 1;
        self.conflicts += 1;
        let seen = u32::try_from(self.conflicts).map_or(LONG, f64::from);
        self.recent += (levels - self.recent) / RECENT.min(seen);
        self.all += (levels - self.all) / LONG.min(seen);
    }
}

impl Engine {
    /// How many contradictions there were.
    pub fn conflicts(&self) -> u64 {
        self.restarts.conflicts
    }

    /// Whether recent lessons were so much worse than most that the search had better begin anew.
    pub fn should_restart(&self) -> bool {
        self.restarts.run >= MIN_CONFLICTS_TO_RESTART && self.restarts.recent > self.restarts.all * 1.2
    }

    /// Takes back all decisions above `level`, to decide by what is known now.
    pub fn restart(&mut self, level: u32) -> Result<(), Unsat> {
        self.restarts.run = 0;
        self.restarts.recent = self.restarts.all;
        self.backjump(level)
    }

    /// Forgets learned clauses that don't help, where they have become many.
    pub(super) fn reduce_clauses(&mut self) {
        if self.restarts.conflicts >= self.restarts.next_reduction {
            self.restarts.reductions += 1;
            self.restarts.next_reduction += FIRST_REDUCTION + REDUCTION_INCREMENT * self.restarts.reductions;
            if self.restarts.reductions > 1 {
                self.delete_clauses();
            }
        }
    }

    /// Forgets the worse half of the learned clauses: those in which the most levels met, of equals the older.
    fn delete_clauses(&mut self) {
        let mut kept = vec![true; self.clauses.len()];
        let mut worst: Vec<usize> =
            (0..kept.len()).filter(|id| self.clauses[*id].levels > MAX_GLUE_KEPT).collect();
        worst.sort_by_key(|id| (std::cmp::Reverse(self.clauses[*id].levels), *id));
        worst.truncate(worst.len() / 2);
        worst.into_iter().for_each(|id| kept[id] = false);
        for Step { reason, .. } in self.steps.iter().filter(|step| step.level > 0 && step.reason != NONE) {
            kept[*reason as usize] = true;
        }
        self.late.iter().for_each(|late| kept[late.clause as usize] = true);
        self.keep_only(&kept);
    }

    /// Puts the clauses that are kept next to each other, and watches them as before.
    fn keep_only(&mut self, kept: &[bool]) {
        let old = std::mem::take(&mut self.clauses);
        let (literals, sets) = (std::mem::take(&mut self.literals), std::mem::take(&mut self.sets));
        let mut moved: Vec<ClauseId> = vec![NONE; old.len()];
        self.watchers.iter_mut().for_each(Vec::clear);
        for (id, clause) in old.iter().enumerate().filter(|(id, _)| kept[*id]) {
            let from = offset(self.literals.len());
            for literal in &literals[clause.from as usize..clause.to as usize] {
                let (set, words) = (literal.set as usize, self.words_of(literal.var as usize).len());
                self.literals.push(super::Literal { set: offset(self.sets.len()), ..*literal });
                self.sets.extend_from_slice(&sets[set..set + words]);
            }
            moved[id] = offset(self.clauses.len());
            self.clauses.push(Clause { from, to: offset(self.literals.len()), ..*clause });
            self.watch(moved[id]);
        }
        for step in self.steps.iter_mut().filter(|step| step.reason != NONE) {
            step.reason = moved[step.reason as usize];
        }
        self.late.iter_mut().for_each(|late| late.clause = moved[late.clause as usize]);
    }
}
