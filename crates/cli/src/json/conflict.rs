//! Why there is no solution, and ways out.

use bibliotax_app::failure::Way;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Conflict, Sentence};
use schemars::JsonSchema;
use serde::Serialize;

/// Why no versions satisfy all requirements, as a graph of facts.
#[derive(Serialize, JsonSchema)]
pub struct Proof {
    /// The packages that the facts name.
    pub packages: Vec<PackageName>,
    /// The facts that lead to the clash.
    pub facts: Vec<Fact>,
    /// What follows from them.
    pub clash: Clash,
    /// Whether every fact is needed; false where that would take too long to find out.
    pub minimal: bool,
}

/// A fact of a conflict.
#[derive(Serialize, JsonSchema)]
pub struct Fact {
    /// The package that it is about.
    pub from: Option<PackageName>,
    /// The package that it leads to.
    pub to: Option<PackageName>,
    /// The fact, as a sentence.
    pub text: String,
    /// Whether it only repeats what was asked.
    pub question: bool,
}

/// Where a conflict ends.
#[derive(Serialize, JsonSchema)]
pub struct Clash {
    /// The package.
    pub at: Option<PackageName>,
    /// The clash, as a sentence.
    pub text: String,
}

impl From<&Conflict> for Proof {
    fn from(conflict: &Conflict) -> Self {
        let mut packages: Vec<PackageName> =
            conflict.facts.iter().flat_map(|fact| fact.about.clone()).collect();
        packages.sort_unstable();
        packages.dedup();
        let fact = |fact: &Sentence| Fact {
            from: fact.about.first().cloned(),
            to: fact.about.last().cloned(),
            text: fact.text.clone(),
            question: fact.is_question,
        };
        Self {
            packages,
            facts: conflict.facts.iter().map(fact).collect(),
            clash: Clash { at: conflict.clash.about.first().cloned(), text: conflict.clash.text.clone() },
            minimal: conflict.is_minimal,
        }
    }
}

/// A way out of a conflict, which was tried and resolves.
#[derive(Serialize, JsonSchema)]
pub struct WayOut {
    /// The command to run.
    pub command: String,
    /// What it does.
    pub effect: String,
}

impl From<&Way> for WayOut {
    fn from(way: &Way) -> Self {
        Self { command: way.command.clone(), effect: way.note.clone() }
    }
}
