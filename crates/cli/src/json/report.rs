//! What `report` prints.

use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `report` prints: where the page is. What it shows is what `check`, `newer`, `graph`, `fit` and `steps` print.
#[derive(Serialize, JsonSchema)]
pub struct WrittenReport {
    /// How many packages it is about.
    pub packages: usize,
    /// What `check` finds.
    pub problems: Problems,
    /// The file that it was written to; `null` where it is printed.
    pub file: Option<String>,
    /// The page; `null` where it was written to a file.
    pub page: Option<String>,
}

/// How many problems `check` finds that aren't waived.
#[derive(Serialize, JsonSchema)]
pub struct Problems {
    /// Errors.
    pub errors: usize,
    /// Warnings.
    pub warnings: usize,
    /// Notes.
    pub notes: usize,
}

impl Document for WrittenReport {
    const COMMAND: &'static str = "report";
}
