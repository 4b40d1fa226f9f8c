//! What `install` and `update` print.

use bibliotax_app::install::{Built, ShelfChanges};
use bibliotax_app::update::{ForcedMove, Plan, RewrittenRange};
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::change::{Changes, PassedOver, passed_over};
use super::conflict::Proof;

/// What `install` prints.
#[derive(Serialize, JsonSchema)]
pub struct Install {
    #[serde(flatten)]
    pub changes: Changes,
    /// Of a dry run: the packages that would be installed.
    pub build: Vec<ToBuild>,
    /// Of a dry run: what would be removed from the shelf.
    pub remove: Vec<String>,
}

impl Document for Install {
    const COMMAND: &'static str = "install";
}

/// A package that would be installed.
#[derive(Serialize, JsonSchema)]
pub struct ToBuild {
    /// Its name.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
    /// The target that it is for.
    pub target: Option<String>,
}

impl Install {
    /// What was done.
    pub fn done(changes: Changes) -> Self {
        Self { changes, build: Vec::new(), remove: Vec::new() }
    }

    /// What would be done.
    pub fn planned(changes: Changes, shelf: &ShelfChanges) -> Self {
        let build = |built: &Built| ToBuild {
            name: built.package.clone(),
            version: built.version.clone(),
            target: built.target.clone(),
        };
        Self { changes, build: shelf.build.iter().map(build).collect(), remove: shelf.remove.clone() }
    }
}

/// What `update` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Update {
    #[serde(flatten)]
    pub changes: Changes,
    /// The ranges that were written to manifests.
    pub ranges: Vec<Rewritten>,
    /// Packages that had to change with those that were named.
    pub forced: Vec<Forced>,
    /// Newer releases that were not used.
    pub passed_over: Vec<PassedOver>,
}

impl Document for Update {
    const COMMAND: &'static str = "update";
}

/// A range that was written to a manifest.
#[derive(Serialize, JsonSchema)]
pub struct Rewritten {
    /// What it is the range of.
    pub of: String,
    /// The range before.
    pub from: Range,
    /// The range after.
    pub to: Range,
}

/// A package that had to change.
#[derive(Serialize, JsonSchema)]
pub struct Forced {
    /// The package.
    pub package: PackageName,
    /// Why, sentence by sentence.
    pub reasons: Vec<String>,
    /// Why, as a graph of facts.
    pub proof: Proof,
}

impl Update {
    /// What moves, and why.
    pub fn of(plan: &Plan, changes: Changes) -> Self {
        let range = |RewrittenRange { of, old, new }: &RewrittenRange| Rewritten {
            of: of.clone(),
            from: old.clone(),
            to: new.clone(),
        };
        Self {
            changes,
            ranges: plan.rewritten.iter().map(range).collect(),
            forced: forced(plan),
            passed_over: passed_over(&plan.passed_over),
        }
    }
}

fn forced(plan: &Plan) -> Vec<Forced> {
    let moves = plan.forced_moves();
    let one = |ForcedMove { package, why, conflict }: &ForcedMove<'_>| Forced {
        package: (*package).clone(),
        reasons: why.iter().map(|sentence| (*sentence).to_owned()).collect(),
        proof: Proof::from(*conflict),
    };
    moves.iter().map(one).collect()
}
