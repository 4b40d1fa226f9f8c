//! Which projects of a workspace a command acts on.

use bibliotax_core::name::PackageName;
use bibliotax_core::workspace::Project;

use super::WorkspaceFolder;
use crate::failure::Failure;

/// The word for all projects.
const ALL: &str = "all";

/// Projects as people name them: by their names, the last part of these, or their folders; `all` for all.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ProjectWords(pub Vec<String>);

impl ProjectWords {
    /// Whether nothing is said.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The same, or all where nothing is said, also in the folder of one project.
    #[must_use]
    pub fn or_all(&self) -> Self {
        if self.is_empty() { Self(vec![ALL.to_owned()]) } else { self.clone() }
    }

    /// The names of those that are named; none where none are, or all.
    pub fn names(&self, workspace: &WorkspaceFolder) -> Result<Vec<PackageName>, Failure> {
        Ok(named(&self.0, workspace)?.into_iter().map(|project| project.name().clone()).collect())
    }

    /// The projects that are meant: those that are named, else the one in whose folder we are, else (in the root of a
    /// workspace that is no project) all.
    pub fn chosen<'w>(&self, workspace: &'w WorkspaceFolder) -> Result<Vec<&'w Project>, Failure> {
        let named = named(&self.0, workspace)?;
        match (named.is_empty(), self.0.is_empty(), workspace.here()) {
            (false, _, _) => Ok(named),
            (true, true, Some(here)) => Ok(vec![here]),
            _ => Ok(workspace.declared.projects.iter().collect()),
        }
    }

    /// The projects that are changed: never all only because nothing is said.
    pub fn to_change<'w>(&self, workspace: &'w WorkspaceFolder) -> Result<Vec<&'w Project>, Failure> {
        if self.0.is_empty() { Ok(vec![workspace.project()?]) } else { self.chosen(workspace) }
    }

    /// The one project that is meant.
    pub fn one<'w>(&self, workspace: &'w WorkspaceFolder) -> Result<&'w Project, Failure> {
        let here = || workspace.here().into_iter().collect();
        let chosen = if self.0.is_empty() { here() } else { self.chosen(workspace)? };
        match chosen.as_slice() {
            [one] => Ok(one),
            _ => Err(which_one(workspace)),
        }
    }
}

/// The projects that words mean; none where there are no words, or all are meant.
fn named<'w>(words: &[String], workspace: &'w WorkspaceFolder) -> Result<Vec<&'w Project>, Failure> {
    if words.iter().any(|word| word == ALL) {
        return Ok(Vec::new());
    }
    words.iter().map(|word| project(workspace, word)).collect()
}

impl WorkspaceFolder {
    /// The project in whose folder we are; none in the root of a workspace that is no project.
    pub fn here(&self) -> Option<&Project> {
        self.declared.projects.iter().find(|project| project.folder == self.manifests.here)
    }

    /// The project in whose folder we are, or a failure.
    pub fn project(&self) -> Result<&Project, Failure> {
        self.here().ok_or_else(|| which_project(self))
    }
}

fn which_project(workspace: &WorkspaceFolder) -> Failure {
    Failure::new("workspace.which-project", "this folder isn't a project of the workspace").advice(format!(
        "go to a project's folder, or choose with `--in`: {}, or all",
        names(workspace).join(", ")
    ))
}

fn which_one(workspace: &WorkspaceFolder) -> Failure {
    Failure::new("workspace.which-project", "this command needs one project of the workspace")
        .advice(format!("go to its folder, or name it with `--in`: {}", names(workspace).join(", ")))
}

/// What projects are called on the command line.
fn names(workspace: &WorkspaceFolder) -> Vec<&str> {
    workspace.declared.projects.iter().map(called).collect()
}

/// What a project is called: the last part of its name.
pub fn called(project: &Project) -> &str {
    let name = project.name().as_str();
    name.rsplit('/').next().unwrap_or(name)
}

/// The project that a word means: by its name, the last part of it, or its folder.
fn project<'w>(workspace: &'w WorkspaceFolder, word: &str) -> Result<&'w Project, Failure> {
    let projects = &workspace.declared.projects;
    let is_meant =
        |project: &&Project| project.name().as_str() == word || project.path() == word.trim_end_matches('/');
    let by_end: Vec<&Project> = projects.iter().filter(|project| called(project) == word).collect();
    match (projects.iter().find(is_meant), by_end.as_slice()) {
        (Some(project), _) => Ok(project),
        (None, [project]) => Ok(*project),
        _ => {
            let failure =
                Failure::new("workspace.unknown-project", format!("the workspace has no project `{word}`"));
            Err(failure.suggest(word, &names(workspace), "it has none"))
        }
    }
}
