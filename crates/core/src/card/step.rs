//! Steps: what a person has to do by hand after an install or an update.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::facet::Fits;
use crate::inner_path::InnerPath;
use crate::name::StepName;

/// Something that a person must still do, because no installing can.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Step {
    /// What it is called; a step of this name in a later release is the same step, unless its text differs.
    pub id: StepName,
    /// After which change it is open.
    #[serde(default, skip_serializing_if = "StepWhen::is_usual")]
    pub when: StepWhen,
    /// How often it has to be done.
    #[serde(default, skip_serializing_if = "StepPer::is_usual")]
    pub per: StepPer,
    /// The targets that it is for: those on which all of this holds.
    #[serde(rename = "for", default, skip_serializing_if = "Fits::is_empty")]
    pub only_for: Fits,
    /// What to do.
    pub text: String,
    /// How it can be seen that it was done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub check: Option<StepCheck>,
}

/// After which change a step is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StepWhen {
    /// When the package comes.
    #[default]
    Install,
    /// When it comes and when it moves to another release.
    Update,
}

/// How often a step has to be done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StepPer {
    /// Once for the project.
    #[default]
    Project,
    /// Once for each target.
    Target,
    /// Once for each device, which people name.
    Device,
}

impl StepWhen {
    fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

impl StepPer {
    fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

/// What can be seen of a step that was done: declared data, nothing that runs.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StepCheck {
    /// A file that is there then, inside the project.
    pub file: InnerPath,
    /// A text that is in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contains: Option<String>,
}
