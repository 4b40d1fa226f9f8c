//! The clauses that each learned clause was resolved from, kept even when the clause is deleted.

use super::{ClauseId, Engine, NONE, Var};

/// The index of a proof.
pub type ProofId = u32;

/// What something follows from.
#[derive(Debug)]
enum Proof {
    /// It is the fact of this number.
    Fact(u32),
    /// It follows from these.
    LearnedClause(Box<[ProofId]>),
}

/// All proofs; each follows from earlier ones only.
#[derive(Debug, Default)]
pub struct Proofs(Vec<Proof>);

impl Proofs {
    /// The proof of the fact of this number.
    pub fn fact(&mut self, fact: usize) -> ProofId {
        self.add(Proof::Fact(super::offset(fact)))
    }

    /// The proof of what follows from these.
    pub fn learned(&mut self, from: &[ProofId]) -> ProofId {
        self.add(Proof::LearnedClause(from.into()))
    }

    fn add(&mut self, proof: Proof) -> ProofId {
        self.0.push(proof);
        super::offset(self.0.len() - 1)
    }

    /// The facts that these follow from, in rising order.
    pub fn facts_behind(&self, proofs: &[ProofId]) -> Vec<usize> {
        let mut seen = vec![false; self.0.len()];
        let mut open = proofs.to_vec();
        let mut facts = Vec::new();
        while let Some(proof) = open.pop() {
            if std::mem::replace(&mut seen[proof as usize], true) {
                continue;
            }
            match &self.0[proof as usize] {
                Proof::Fact(fact) => facts.push(*fact as usize),
                Proof::LearnedClause(from) => open.extend(from),
            }
        }
        facts.sort_unstable();
        facts.dedup();
        facts
    }
}

impl Engine {
    /// The proof of what a clause propagates to `var` at level 0, with all that was known of `var` before.
    pub(super) fn root_proof(&mut self, var: Var, reason: ClauseId) -> ProofId {
        let mut from = vec![self.clauses[reason as usize].proof];
        if let Some(step) = self.steps.get(self.last[var] as usize) {
            from.push(step.proof);
        }
        for literal in self.literals_of(reason).iter().filter(|literal| literal.var as usize != var) {
            from.extend(self.impossible_since(*literal).map(|step| self.steps[step as usize].proof));
        }
        debug_assert!(!from.contains(&NONE), "what holds at level 0 follows from what holds there");
        self.proofs.learned(&from)
    }
}
