//! Walks packages by their distance from the project.

use std::collections::HashSet;

use crate::resolve::engine::{Engine, Mark, Var};

/// A walk over the packages in rings of equal distance from the project.
#[derive(Default)]
pub struct Nearest {
    /// The rings so far, and the decisions that each rests on.
    rings: Vec<(Vec<Var>, Mark)>,
    /// The place in the last ring up to which all is settled.
    pub next: usize,
    seen: HashSet<Var>,
    /// What was seen in nearer rings than the last.
    pub nearer: HashSet<Var>,
    /// Whether there is no further ring.
    pub is_done: bool,
    /// How often decisions had been taken back when the walk was last gone on with.
    backjumps: usize,
}

impl Nearest {
    pub fn start(engine: &Engine, direct: &[Var]) -> Self {
        let mut walk = Self { backjumps: engine.backjumps(), ..Self::default() };
        walk.advance(engine, direct.to_vec());
        walk
    }

    /// Goes back to the last ring whose decisions stand, where some were taken back: what was settled since may be
    /// open again.
    pub fn resume(&mut self, engine: &Engine, direct: &[Var]) {
        if self.rings.is_empty() {
            *self = Self::start(engine, direct);
        }
        if std::mem::replace(&mut self.backjumps, engine.backjumps()) == engine.backjumps() {
            return;
        }
        while let Some((ring, _)) = self.rings.pop_if(|(_, mark)| !engine.still_holds(*mark)) {
            for var in &ring {
                self.seen.remove(var);
            }
        }
        let last = self.rings.last().map_or(&[][..], |(ring, _)| ring);
        for var in last {
            self.nearer.remove(var);
        }
        self.next = 0;
        self.is_done = self.rings.is_empty();
    }

    /// The ring that is looked at.
    pub fn ring(&self) -> &[Var] {
        self.rings.last().map_or(&[], |(ring, _)| ring)
    }

    /// Goes on to the packages of `ring` that were not seen before.
    pub fn advance(&mut self, engine: &Engine, ring: Vec<Var>) {
        let ring: Vec<Var> = ring.into_iter().filter(|var| self.seen.insert(*var)).collect();
        if ring.is_empty() {
            self.is_done = true;
            return;
        }
        let last = self.rings.last().map_or(&[][..], |(ring, _)| ring);
        self.nearer.extend(last);
        self.rings.push((ring, engine.mark()));
        self.next = 0;
    }
}
