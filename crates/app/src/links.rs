//! `links`: which files build tools read, and the line that a build file needs for each.

use std::collections::BTreeMap;

use bibliotax_core::build_tool::BuildTool;
use bibliotax_core::links::{LinkSettings, file_stem};
use bibliotax_core::name::{PackageName, ToolName};
use bibliotax_core::workspace::Project;
use bibliotax_store::shelf::{NAME, Template};

use crate::failure::Failure;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// Which links are meant.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The tools; all that links are rendered for where none are named.
    pub tools: Vec<String>,
    /// The projects.
    pub projects: ProjectWords,
    /// The targets; all where none are named.
    pub targets: Vec<String>,
}

/// A file of links.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkedFile {
    /// The project that it is for.
    pub project: PackageName,
    /// The target that it is for, where the project declares any.
    pub target: Option<String>,
    /// The tool that reads it; none where a template makes it.
    pub tool: Option<BuildTool>,
    /// The file, or folder of files, from the project's folder.
    pub path: String,
    /// Whether it is there.
    pub is_there: bool,
    /// The line that a build file or a person needs.
    pub line: Option<String>,
}

/// The files of links of a workspace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// The files, by project and target.
    pub files: Vec<LinkedFile>,
    /// Tools that are named and that links aren't rendered for.
    pub undeclared: Vec<BuildTool>,
}

/// Lists the files of links of a workspace.
pub fn list(request: &Request, workspace: &WorkspaceFolder) -> Result<Report, Failure> {
    let named: Vec<BuildTool> = request.tools.iter().map(|text| tool(text)).collect::<Result<_, _>>()?;
    workspace.targets_named(&request.targets)?;
    let settings = LinkSettings::of(&workspace.declared);
    let templates = workspace.manifests.templates()?;
    let (mut files, mut undeclared) = (Vec::new(), Vec::new());
    for project in request.projects.chosen(workspace)? {
        let declared = settings.tools_of(project.name());
        undeclared.extend(named.iter().copied().filter(|tool| !declared.contains(tool)));
        let tools = declared.iter().copied().filter(|tool| named.is_empty() || named.contains(tool));
        let tools: Vec<BuildTool> = tools.collect();
        for target in targets_of(project, &request.targets) {
            let place = FilePlace { workspace, project, target: target.as_deref() };
            files.extend(tools.iter().map(|tool| place.file(tool.ending(), Some(*tool))));
            if named.is_empty() {
                files.extend(names_of(&templates, &project.folder).map(|name| place.file(name, None)));
            }
        }
    }
    undeclared.dedup();
    Ok(Report { files, undeclared })
}

/// The files of links that aren't there yet, for build tools.
pub struct MissingFiles(Vec<LinkedFile>);

impl MissingFiles {
    /// Those of a workspace before its shelf changes.
    pub fn of(workspace: &WorkspaceFolder) -> Result<Self, Failure> {
        let files = list(&Request::default(), workspace)?.files;
        Ok(Self(files.into_iter().filter(|file| !file.is_there && file.tool.is_some()).collect()))
    }

    /// Those that were made since then.
    pub fn made(self, workspace: &WorkspaceFolder) -> Result<Vec<LinkedFile>, Failure> {
        if self.0.is_empty() {
            return Ok(Vec::new());
        }
        let was_missing = |file: &LinkedFile| {
            self.0.iter().any(|missing| (&missing.project, &missing.path) == (&file.project, &file.path))
        };
        let files = list(&Request::default(), workspace)?.files;
        Ok(files.into_iter().filter(|file| file.is_there && was_missing(file)).collect())
    }
}

fn tool(text: &str) -> Result<BuildTool, Failure> {
    text.parse().map_err(|fault| Failure::in_words("the tool", text, fault))
}

/// The targets of a project that are meant; nothing once where it declares none.
fn targets_of(project: &Project, wanted: &[String]) -> Vec<Option<String>> {
    let is_wanted = |name: &String| wanted.is_empty() || wanted.contains(name);
    let targets = project.targets.iter().map(|target| target.name.clone());
    let targets: Vec<Option<String>> = targets.filter(is_wanted).map(Some).collect();
    if project.targets.is_empty() { vec![None] } else { targets }
}

/// The templates of a project and of the root, each name once.
fn names_of<'t>(templates: &'t [Template], folder: &str) -> impl Iterator<Item = &'t str> {
    let is_meant = |template: &&Template| template.folder == folder || template.folder.is_empty();
    let mut names: Vec<&str> =
        templates.iter().filter(is_meant).map(|template| template.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    names.into_iter()
}

/// What the files of a project and target are called.
struct FilePlace<'w> {
    workspace: &'w WorkspaceFolder,
    project: &'w Project,
    target: Option<&'w str>,
}

impl FilePlace<'_> {
    /// Whether the target has tools of its own.
    fn has_tools(&self) -> bool {
        let of = |tools: &BTreeMap<String, BTreeMap<ToolName, String>>| {
            self.target.is_some_and(|target| tools.contains_key(target))
        };
        of(&self.project.manifest.tools) || of(&self.workspace.declared.tools)
    }

    fn file(&self, ending: &str, tool: Option<BuildTool>) -> LinkedFile {
        let stem = file_stem(self.project.name(), self.target);
        let from_root = format!("{NAME}/links/{stem}.{ending}");
        let up = self.project.folder.split('/').filter(|name| !name.is_empty()).count();
        let path = "../".repeat(up) + &from_root;
        LinkedFile {
            project: self.project.name().clone(),
            target: self.target.map(str::to_owned),
            is_there: self.workspace.root.join(&from_root).exists(),
            line: tool.map(|tool| tool.line(&path, self.has_tools())),
            tool,
            path,
        }
    }
}
