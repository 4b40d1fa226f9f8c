//! Restarts, and which learned clauses are kept.

use super::{Clause, ClauseId, Engine, NONE, Step, Unsat, offset};

/// Fewest conflicts between two restarts.
const MIN_CONFLICTS_TO_RESTART: u32 = 50;

/// Conflicts before learned clauses are deleted for the first time.
const FIRST_REDUCTION: u64 = 1000;

/// By how many conflicts each next deletion waits longer.
const REDUCTION_INCREMENT: u64 = 100;

/// Clauses with at most so many decision levels (LBD) are always kept.
const MAX_GLUE_KEPT: u32 = 2;

/// Over how many learned clauses the recent and the long-term average of the LBD are taken.
const RECENT: f64 = 32.0;
const LONG: f64 = 4096.0;

/// Averages of the LBD of learned clauses, and the counts that restarts and deletion go by.
#[derive(Debug, Default)]
pub struct Restarts {
    recent: f64,
    all: f64,
    /// Conflicts since the search last restarted.
    run: u32,
    /// Conflicts in all.
    conflicts: u64,
    /// How often learned clauses were deleted, and at which count they will be again.
    reductions: u64,
    next_reduction: u64,
}

impl Restarts {
    /// Records a learned clause of this LBD.
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
    /// How many conflicts there were.
    pub fn conflicts(&self) -> u64 {
        self.restarts.conflicts
    }

    /// Whether recent learned clauses were so much worse than the average that the search had better restart.
    pub fn should_restart(&self) -> bool {
        self.restarts.run >= MIN_CONFLICTS_TO_RESTART && self.restarts.recent > self.restarts.all * 1.2
    }

    /// Restarts from `level`, to decide by what is known now.
    pub fn restart(&mut self, level: u32) -> Result<(), Unsat> {
        self.restarts.run = 0;
        self.restarts.recent = self.restarts.all;
        self.backjump(level)
    }

    /// Deletes learned clauses that don't help, once there are many.
    pub(super) fn reduce_clauses(&mut self) {
        if self.restarts.conflicts >= self.restarts.next_reduction {
            self.restarts.reductions += 1;
            self.restarts.next_reduction += FIRST_REDUCTION + REDUCTION_INCREMENT * self.restarts.reductions;
            if self.restarts.reductions > 1 {
                self.delete_clauses();
            }
        }
    }

    /// Deletes the worse half of the learned clauses: those with the highest LBD, of equals the older.
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

    /// Compacts the clauses that are kept, and watches them as before.
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
