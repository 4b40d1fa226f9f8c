//! What `ready` prints.

use bibliotax_app::ready::{Finding as Looked, RegistryState, Report};
use bibliotax_core::name::{ProgramName, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::finding::{Finding, Level};

/// What `ready` prints.
#[derive(Serialize, JsonSchema)]
pub struct Ready {
    /// Everything that was looked at; `ok` is the level of what is fine.
    pub findings: Vec<Finding<ReadyDetails>>,
}

impl Document for Ready {
    const COMMAND: &'static str = "ready";
}

/// What was looked at.
#[derive(Default, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ReadyDetails {
    /// The registry.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub registry: Option<RegistryName>,
    /// Where the registry is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// Where the credentials for it are saved.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub credentials: Option<String>,
    /// The target.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// Whether this machine could be the target.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub matches: Option<bool>,
    /// The program.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<ProgramName>,
    /// Where the program or the settings file is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The version that the program reports.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<Version>,
    /// The versions of the program that are required.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub required: Vec<RequiredProgram>,
}

/// A requirement on a program.
#[derive(Serialize, JsonSchema)]
pub struct RequiredProgram {
    /// The project or package that requires it.
    pub by: String,
    /// The versions that will do.
    pub range: Range,
}

impl Ready {
    /// What was looked at, each in words.
    pub fn of(report: &Report, in_words: impl Fn(&Looked) -> String) -> Self {
        Self { findings: report.findings.iter().map(|looked| finding(looked, in_words(looked))).collect() }
    }
}

fn finding(looked: &Looked, message: String) -> Finding<ReadyDetails> {
    let none = ReadyDetails::default;
    let (code, details) = match looked {
        Looked::NoRegistries | Looked::Registries(_) => ("ready.registries", none()),
        Looked::Store(_) => ("ready.store", none()),
        Looked::Merges { .. } => ("ready.merges", none()),
        Looked::Settings { file, .. } => {
            ("ready.settings", ReadyDetails { path: Some(file.display().to_string()), ..none() })
        }
        Looked::Registry { name, url, state } => {
            let place =
                if let RegistryState::Opened { place, .. } = state { Some(place.clone()) } else { None };
            let (registry, url) = (Some(name.clone()), Some(url.clone()));
            ("ready.registry", ReadyDetails { registry, url, credentials: place, ..none() })
        }
        Looked::Target { name, differs, .. } => {
            let details =
                ReadyDetails { target: Some(name.clone()), matches: Some(differs.is_empty()), ..none() };
            ("ready.target", details)
        }
        Looked::Program { program, path, version, wanted } => {
            let required =
                wanted.iter().map(|(by, range)| RequiredProgram { by: by.clone(), range: range.clone() });
            let details = ReadyDetails {
                program: Some(program.clone()),
                path: path.as_ref().map(|path| path.display().to_string()),
                version: version.clone(),
                required: required.collect(),
                ..none()
            };
            ("ready.program", details)
        }
    };
    let level = if looked.is_fine() { Level::Ok } else { Level::Error };
    Finding::new(code, level, message, details)
}
