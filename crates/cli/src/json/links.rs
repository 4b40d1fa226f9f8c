//! What `links` prints.

use bibliotax_app::links::{LinkedFile, Report};
use bibliotax_core::build_tool::BuildTool;
use bibliotax_core::name::PackageName;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `links` prints.
#[derive(Serialize, JsonSchema)]
pub struct Links {
    /// The files.
    pub files: Vec<File>,
    /// Tools that were named and that no files are made for.
    pub undeclared: Vec<BuildTool>,
}

impl Document for Links {
    const COMMAND: &'static str = "links";
}

/// A file for a build tool.
#[derive(Serialize, JsonSchema)]
pub struct File {
    /// The project.
    pub project: PackageName,
    /// The target; null where the project declares none.
    pub target: Option<String>,
    /// The tool; null where a template makes the file.
    pub tool: Option<BuildTool>,
    /// The file, or folder of files, seen from the project's folder.
    pub path: String,
    /// Whether it is there.
    pub there: bool,
    /// The line that a build file or a person needs.
    pub line: Option<String>,
}

impl From<&Report> for Links {
    fn from(report: &Report) -> Self {
        Self { files: report.files.iter().map(File::from).collect(), undeclared: report.undeclared.clone() }
    }
}

impl From<&LinkedFile> for File {
    fn from(file: &LinkedFile) -> Self {
        Self {
            project: file.project.clone(),
            target: file.target.clone(),
            tool: file.tool,
            path: file.path.clone(),
            there: file.is_there,
            line: file.line.clone(),
        }
    }
}
