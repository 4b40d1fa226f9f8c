//! Problems that commands find.

use bibliotax_core::name::PackageName;
use schemars::JsonSchema;
use serde::Serialize;

/// A problem, or something that was looked at, with details of its kind.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[schemars(rename = "Finding-{D}")]
pub struct Finding<D> {
    /// What kind of finding it is.
    pub code: String,
    /// How serious it is.
    pub level: Level,
    /// The package that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageName>,
    /// The project that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub project: Option<PackageName>,
    /// What was found.
    pub message: String,
    /// What to do about it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
    #[serde(flatten)]
    pub details: D,
}

/// How serious a finding is.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Level {
    /// It has to be fixed.
    Error,
    /// It is worth a look.
    Warning,
    /// It is good to know.
    Note,
    /// Nothing is wrong.
    Ok,
}

impl<D> Finding<D> {
    /// A finding without a package, a project or advice.
    pub fn new(code: impl Into<String>, level: Level, message: impl Into<String>, details: D) -> Self {
        Self {
            code: code.into(),
            level,
            package: None,
            project: None,
            message: message.into(),
            advice: None,
            details,
        }
    }
}
