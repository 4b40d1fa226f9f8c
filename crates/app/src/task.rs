//! `task`: the named commands of a manifest.

use std::ffi::OsString;
use std::process::Command;

use bibliotax_core::manifest::tasks::{Task, in_order};
use bibliotax_core::workspace::Project;

use crate::failure::Failure;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// Which tasks are run, where.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The projects.
    pub projects: ProjectWords,
    /// Whether it is run first in the projects whose folders are needed, where they have a task of this name.
    pub needs_first: bool,
}

/// A task of a project.
#[derive(Clone, Copy)]
pub struct Job<'w> {
    /// The project.
    pub project: &'w Project,
    /// The task.
    pub task: &'w Task,
}

impl Job<'_> {
    /// Whether its task has this name.
    pub fn is(&self, name: &str) -> bool {
        self.task.name.as_str() == name
    }

    /// Its command line in the system's shell, with more arguments at its end; `None` where it only needs others.
    pub fn command(&self, workspace: &WorkspaceFolder, arguments: &[OsString]) -> Option<Command> {
        let line = self.task.command.as_deref()?;
        let mut command = shell(line, self.task.name.as_str(), arguments);
        let folder = workspace.root.join(&self.project.folder);
        let inner = self.task.folder.as_ref();
        command.current_dir(inner.map_or(folder.clone(), |inner| folder.join(inner.as_str())));
        Some(command)
    }
}

/// The tasks to run for a name, in their order: what is asked for stands last.
pub fn jobs<'w>(
    request: &Request,
    workspace: &'w WorkspaceFolder,
    name: &str,
) -> Result<Vec<Job<'w>>, Failure> {
    let chosen = request.projects.to_change(workspace)?;
    let is_chosen = |project: &Project| chosen.iter().any(|one| one.folder == project.folder);
    let mut projects: Vec<&Project> = Vec::new();
    for project in chosen.iter().flat_map(|project| workspace.declared.with_needed(project)) {
        let is_new = !projects.iter().any(|other| other.folder == project.folder);
        if is_new && (request.needs_first || is_chosen(project)) {
            projects.push(project);
        }
    }
    // Of several projects, those that have no such task are passed over.
    let having = projects.iter().filter(|project| has(project, name)).count();
    let mut jobs = Vec::new();
    for project in projects {
        let is_passed_over = having > 0 && !has(project, name) && (chosen.len() > 1 || !is_chosen(project));
        if !is_passed_over {
            jobs.extend(wanted(project, name)?.into_iter().map(|task| Job { project, task }));
        }
    }
    Ok(jobs)
}

/// All tasks of the projects that are meant, and how many projects these are.
pub fn list<'w>(request: &Request, workspace: &'w WorkspaceFolder) -> Result<(Vec<Job<'w>>, usize), Failure> {
    let projects = request.projects.chosen(workspace)?;
    let jobs = projects
        .iter()
        .flat_map(|project| project.manifest.tasks.iter().map(move |task| Job { project, task }));
    Ok((jobs.collect(), projects.len()))
}

fn has(project: &Project, name: &str) -> bool {
    project.manifest.tasks.iter().any(|task| task.name.as_str() == name)
}

/// The task of a name, which stands last, and what it needs.
fn wanted<'w>(project: &'w Project, name: &str) -> Result<Vec<&'w Task>, Failure> {
    let tasks = &project.manifest.tasks;
    let known: Vec<&str> = tasks.iter().map(|task| task.name.as_str()).collect();
    match tasks.iter().find(|task| task.name.as_str() == name) {
        Some(task) => Ok(in_order(tasks, &task.name)),
        None => Err(Failure::new("task.unknown", format!("the manifest has no task `{name}`")).suggest(
            name,
            &known,
            "write it under `[tasks]`: `build = \"make\"`",
        )),
    }
}

#[cfg(unix)]
fn shell(line: &str, name: &str, arguments: &[OsString]) -> Command {
    let mut command = Command::new("sh");
    // The shell passes arguments on unchanged, quotes and blanks included.
    let line = if arguments.is_empty() { line.to_owned() } else { format!("{line} \"$@\"") };
    command.arg("-c").arg(line).arg(name).args(arguments);
    command
}

#[cfg(windows)]
fn shell(line: &str, _: &str, arguments: &[OsString]) -> Command {
    use std::os::windows::process::CommandExt;
    let arguments: Vec<_> = arguments.iter().map(|argument| argument.to_string_lossy()).collect();
    let mut command = Command::new("cmd");
    // The line is for `cmd` as it is written; the quotes of programs would be part of it.
    command.raw_arg(format!("/D /S /C \"{}\"", line_for_cmd(line, &arguments)));
    command
}

/// A line for `cmd` with arguments behind it: with `/S`, it takes off the first quote and the last and nothing else.
#[cfg(any(windows, test))]
fn line_for_cmd<S: AsRef<str>>(line: &str, arguments: &[S]) -> String {
    let quoted = arguments.iter().map(|argument| format!(" \"{}\"", argument.as_ref().replace('"', "\"\"")));
    line.to_owned() + &quoted.collect::<String>()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_for_cmd_stays_as_it_is_written() {
        for (line, arguments, wanted) in [
            ("cl /nologo \"moss map.c\"", &[][..], "cl /nologo \"moss map.c\""),
            ("build", &["a b", "say \"x\""], "build \"a b\" \"say \"\"x\"\"\""),
        ] {
            assert_eq!(line_for_cmd(line, arguments), wanted);
        }
    }
}
