//! What a command prints that fails.

use bibliotax_app::failure::{Failure, Source};
use bibliotax_core::fault;
use schemars::JsonSchema;
use serde::Serialize;

use super::FORMAT;
use super::conflict::{Proof, WayOut};

/// What a command prints that fails.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ErrorOutput {
    /// The version of this format.
    pub format: u64,
    /// The command, with its subcommands; null where the command line is wrong.
    pub command: Option<String>,
    /// Why it failed.
    pub error: Error,
    /// What people should know beside that.
    pub warnings: Vec<String>,
}

/// Why a command failed.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Error {
    /// The stable code, listed in `docs/errors.md`.
    pub code: String,
    /// What is wrong.
    pub message: String,
    /// Why, sentence by sentence.
    pub reasons: Vec<String>,
    /// What to do.
    pub advice: Option<String>,
    /// Why there is no solution.
    pub proof: Option<Proof>,
    /// Ways out, each tried.
    pub ways_out: Vec<WayOut>,
    /// What is wrong in a file, and where.
    pub faults: Vec<Fault>,
    /// How many more faults the file has.
    pub more_faults: usize,
}

/// A fault in a file.
#[derive(Serialize, JsonSchema)]
pub struct Fault {
    /// The stable code, listed in `docs/errors.md`.
    pub code: String,
    /// What is wrong.
    pub message: String,
    /// The file.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The column, counted from 1.
    pub column: usize,
    /// What to do.
    pub advice: Option<String>,
}

impl ErrorOutput {
    /// What a failed command prints.
    pub fn of(command: Option<&str>, failure: &Failure, reasons: Vec<String>, warnings: Vec<String>) -> Self {
        Self {
            format: FORMAT,
            command: command.map(str::to_owned),
            error: Error {
                code: failure.code.to_owned(),
                message: failure.message.clone(),
                reasons,
                advice: failure.advice.clone(),
                proof: failure.unsolved.as_ref().map(|unsolved| Proof::from(&*unsolved.conflict)),
                ways_out: failure.ways().iter().map(WayOut::from).collect(),
                faults: failure.source.as_deref().map(faults).unwrap_or_default(),
                more_faults: failure.source.as_ref().map_or(0, |source| source.more),
            },
            warnings,
        }
    }
}

fn faults(source: &Source) -> Vec<Fault> {
    let one = |fault: &fault::Fault| {
        let (line, column) = fault.line_and_column(&source.text);
        Fault {
            code: fault.code.to_owned(),
            message: fault.message.clone(),
            file: source.name.clone(),
            line,
            column,
            advice: fault.advice.clone(),
        }
    };
    source.faults.iter().map(one).collect()
}
