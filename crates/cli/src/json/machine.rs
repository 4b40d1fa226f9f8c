//! What `completions`, `manual`, `schema` and `demo` print.

use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `completions` prints.
#[derive(Serialize, JsonSchema)]
pub struct Completions {
    /// The shell.
    pub shell: String,
    /// The script.
    pub script: String,
}

impl Document for Completions {
    const COMMAND: &'static str = "completions";
}

/// What `help TOPIC` prints.
#[derive(Serialize, JsonSchema)]
pub struct ExplainedTopic {
    /// What there is to say, for people.
    pub text: String,
}

impl Document for ExplainedTopic {
    const COMMAND: &'static str = "help";
}

/// What `manual` prints.
#[derive(Serialize, JsonSchema)]
pub struct Manual {
    /// The folder.
    pub folder: String,
    /// The pages that were written.
    pub pages: Vec<String>,
}

impl Document for Manual {
    const COMMAND: &'static str = "manual";
}

/// What `schema` prints without a name.
#[derive(Serialize, JsonSchema)]
pub struct Schemas {
    /// The names of the schemas.
    pub schemas: Vec<SchemaName>,
}

impl Document for Schemas {
    const COMMAND: &'static str = "schema";
}

/// The name of a schema.
#[derive(Serialize, JsonSchema)]
pub struct SchemaName {
    /// The name.
    pub name: String,
    /// What it describes.
    pub about: String,
}

/// What `demo` prints.
#[derive(Serialize, JsonSchema)]
pub struct Demo {
    /// The folder with the demo's files.
    pub folder: String,
}

impl Document for Demo {
    const COMMAND: &'static str = "demo";
}
