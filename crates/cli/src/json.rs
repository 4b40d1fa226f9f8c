//! The JSON that commands print: a type for each, in one place.
//!
//! One shape for one thing, in every command: a package is [`package::Package`], how one fits a target [`fit::Fit`], a problem
//! [`finding::Finding`], a change of the lock [`change::Change`], a step [`step::Step`], why there is no solution
//! [`conflict::Proof`]. A key `package` or `project` is always a name.

pub mod change;
pub mod check;
pub mod compare;
pub mod conflict;
pub mod declare;
pub mod describe;
pub mod error;
pub mod explain;
pub mod export;
pub mod find;
pub mod finding;
pub mod fit;
pub mod follow;
pub mod graph;
pub mod history;
pub mod install;
pub mod links;
pub mod machine;
pub mod merge;
pub mod newer;
pub mod package;
pub mod publish;
pub mod ready;
pub mod reference;
pub mod registry;
pub mod report;
pub mod sarif;
pub mod schemas;
pub mod step;
pub mod store;
pub mod survey;
pub mod task;
pub mod verify;

use schemars::JsonSchema;
use serde::Serialize;

/// Version of the JSON that commands print.
pub const FORMAT: u64 = 1;

/// What a command prints as JSON.
pub trait Document: Serialize + JsonSchema {
    /// The command, with its subcommands.
    const COMMAND: &'static str;
}

/// A result with what every command says.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Output<T> {
    /// The version of this format.
    pub format: u64,
    /// The command, with its subcommands and without its options.
    pub command: String,
    #[serde(flatten)]
    pub result: T,
    /// What people should know beside the result.
    pub warnings: Vec<String>,
}
