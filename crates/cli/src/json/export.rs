//! What `export` prints.

use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `export` prints.
#[derive(Serialize, JsonSchema)]
pub struct ExportedDocument {
    /// The form of the document.
    pub form: String,
    /// How many packages it is about.
    pub packages: usize,
    /// The file that it was written to; `null` where it is printed.
    pub file: Option<String>,
    /// The document's text; `null` where it was written to a file.
    pub document: Option<String>,
}

impl Document for ExportedDocument {
    const COMMAND: &'static str = "export";
}
