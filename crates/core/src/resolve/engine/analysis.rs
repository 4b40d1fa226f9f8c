//! Learning from a contradiction: resolving reasons until one term is to blame, or nothing is left.

use super::{ClauseId, Engine, Origin, Refuted, Term};

/// What a contradiction comes down to.
struct Lesson {
    /// The terms of which one must hold, with the step that made each impossible; the latest first.
    terms: Vec<(usize, Term)>,
    /// The clauses that it follows from.
    from: Vec<ClauseId>,
}

impl Engine {
    /// Learns from a violated clause, goes back to where the lesson matters and draws it there.
    pub(super) fn learn_from(&mut self, violated: ClauseId) -> Result<(), Refuted> {
        let mut violated = violated;
        loop {
            let lesson = self.lesson(violated);
            if lesson.terms.is_empty() {
                return Err(Refuted(self.facts_behind(&lesson.from)));
            }
            let back = lesson.terms.get(1).map_or(0, |(step, _)| self.steps[*step].level);
            self.return_to(back);
            let learned =
                self.add_clause(lesson.terms.into_iter().map(|(_, term)| term), Origin::Learned(lesson.from));
            self.force(learned, 0);
            match self.heed_late() {
                Some(again) => violated = again,
                None => return Ok(()),
            }
        }
    }

    fn lesson(&self, violated: ClauseId) -> Lesson {
        let terms = self.clauses[violated].terms.iter();
        let mut terms: Vec<(usize, Term)> =
            terms.filter_map(|term| Some((self.impossible_since(term)?, term.clone()))).collect();
        let mut from = vec![violated];
        loop {
            terms.sort_by_key(|(step, _)| std::cmp::Reverse(*step));
            let Some((latest, _)) = terms.first() else { break };
            let level = self.steps[*latest].level;
            let alone = terms.get(1).is_none_or(|(step, _)| self.steps[*step].level < level);
            match self.steps[*latest].reason {
                Some(reason) if level == 0 || !alone => {
                    self.resolve_with(&mut terms, reason);
                    from.push(reason);
                }
                // A decision opens its level, so it is alone there.
                _ => break,
            }
        }
        Lesson { terms, from }
    }

    /// Replaces the latest term by what the reason for its step rests on.
    ///
    /// From "p in S, or A" and "p in T, or B" follows "p in both S and T, or A, or B"; and p in both was
    /// impossible already before the step that narrowed p to T.
    fn resolve_with(&self, terms: &mut Vec<(usize, Term)>, reason: ClauseId) {
        let (_, latest) = terms.remove(0);
        for term in &self.clauses[reason].terms {
            if term.var == latest.var {
                let both = Term { var: term.var, choices: term.choices.and(&latest.choices) };
                self.merge(terms, both);
            } else {
                self.merge(terms, term.clone());
            }
        }
    }

    fn merge(&self, terms: &mut Vec<(usize, Term)>, term: Term) {
        let same = terms.iter().position(|(_, other)| other.var == term.var);
        let merged = match same {
            Some(at) => Term { var: term.var, choices: terms.swap_remove(at).1.choices.or(&term.choices) },
            None => term,
        };
        // Terms that were impossible from the start say nothing.
        if let Some(step) = self.impossible_since(&merged) {
            terms.push((step, merged));
        }
    }

    /// The facts that these clauses go back to, rising.
    fn facts_behind(&self, clauses: &[ClauseId]) -> Vec<usize> {
        let mut seen = vec![false; self.clauses.len()];
        let mut open = clauses.to_vec();
        let mut facts = Vec::new();
        while let Some(clause) = open.pop() {
            if std::mem::replace(&mut seen[clause], true) {
                continue;
            }
            match &self.clauses[clause].origin {
                Origin::Fact(fact) => facts.push(*fact),
                Origin::Learned(from) => open.extend(from),
            }
        }
        facts.sort_unstable();
        facts.dedup();
        facts
    }
}
