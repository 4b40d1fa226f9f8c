//! `task`: the commands that a manifest has names for.

use std::ffi::OsString;
use std::path::Path;
use std::process::Command;

use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::tasks::{Task as Declared, in_order};
use bibliotax_core::name::TaskName;
use serde_json::json;

use super::on_shelf::OnShelf;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::Project;
use crate::running::{become_it, run};
use crate::show::table;
use crate::ui::{Ui, clean, style, styled};

/// Run a task of the manifest, and before it those that it needs
///
/// The shelf is made right first, without a word where it is. Tasks are written under `[tasks]`, run by the system's shell in
/// the project's folder, and find the same in their environment as with `bibliotax with`. Without a name, the tasks there are
/// are listed.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax task\n  bibliotax task build\n  bibliotax task test -- --verbose"
)]
pub struct Task {
    /// The task
    name: Option<String>,
    #[command(flatten)]
    shelf: OnShelf,
    /// Show what would be run and run nothing
    #[arg(long)]
    dry_run: bool,
    /// What the task's command gets beside what the manifest says
    #[arg(last = true, value_name = "ARGUMENTS")]
    arguments: Vec<OsString>,
}

impl Task {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::without_lock(here)?;
        let Some(name) = &self.name else { return Ok(list(ui, &project)) };
        let tasks = wanted(&project, name)?;
        if self.dry_run {
            return Ok(show(ui, &tasks));
        }
        let surroundings = self.shelf.surroundings(here, &project, ui)?;
        let Some((last, before)) = tasks.split_last() else { return Ok(Exit::Done) };
        for task in before {
            let Some(mut command) = command_of(task, &project, &[]) else { continue };
            surroundings.put_into(&mut command);
            say(ui, task);
            match run(&mut command)? {
                Exit::Passed(0) => {}
                ended => {
                    ui.warn(format!("task `{}` failed, so `{}` was not run", task.name, last.name));
                    return Ok(ended);
                }
            }
        }
        let Some(mut command) = command_of(last, &project, &self.arguments) else { return Ok(Exit::Done) };
        surroundings.put_into(&mut command);
        if !before.is_empty() {
            say(ui, last);
        }
        become_it(&mut command)
    }
}

/// The task of a name, which stands last, and what it needs.
fn wanted<'p>(project: &'p Project, name: &str) -> Result<Vec<&'p Declared>, Failure> {
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

/// The command line of a task in the system's shell, with more arguments at its end.
fn command_of(task: &Declared, project: &Project, arguments: &[OsString]) -> Option<Command> {
    let line = task.run.as_deref()?;
    let mut command = shell(line, task.name.as_str(), arguments);
    let folder = task.folder.as_ref().map_or(project.root.clone(), |inner| project.root.join(inner.as_str()));
    command.current_dir(folder);
    Some(command)
}

#[cfg(unix)]
fn shell(line: &str, name: &str, arguments: &[OsString]) -> Command {
    let mut command = Command::new("sh");
    // The shell passes arguments on as they are, whatever is in them.
    let line = if arguments.is_empty() { line.to_owned() } else { format!("{line} \"$@\"") };
    command.arg("-c").arg(line).arg(name).args(arguments);
    command
}

#[cfg(not(unix))]
fn shell(line: &str, _: &str, arguments: &[OsString]) -> Command {
    let mut command = Command::new("cmd");
    command.arg("/C").arg(line).args(arguments);
    command
}

fn say(ui: &Ui, task: &Declared) {
    let run = clean(task.run.as_deref().unwrap_or_default());
    ui.aside().say(format!(
        "{} {}",
        styled(style::STRONG, format!("{}:", task.name)),
        styled(style::FAINT, run)
    ));
}

fn list(ui: &Ui, project: &Project) -> Exit {
    let tasks = &project.manifest.tasks;
    if tasks.is_empty() {
        ui.answer("the manifest has no tasks; write them under `[tasks]`: `build = \"make\"`");
    }
    let row = |task: &Declared| {
        let needs: Vec<&str> = task.needs.iter().map(TaskName::as_str).collect();
        let after = if needs.is_empty() { String::new() } else { format!("after {}", needs.join(", ")) };
        let run = clean(task.run.as_deref().unwrap_or_default());
        vec![format!(" {}", styled(style::STRONG, &task.name)), after, run]
    };
    if !tasks.is_empty() {
        ui.answer(table(ui, tasks.iter().map(row)));
    }
    ui.report("task", json!({ "tasks": tasks.iter().map(as_json).collect::<Vec<_>>() }));
    Exit::Done
}

fn show(ui: &Ui, tasks: &[&Declared]) -> Exit {
    for task in tasks.iter().filter(|task| task.run.is_some()) {
        ui.answer(format!("  would run {}: {}", task.name, clean(task.run.as_deref().unwrap_or_default())));
    }
    ui.report(
        "task",
        json!({ "dry-run": true, "order": tasks.iter().map(|task| as_json(task)).collect::<Vec<_>>() }),
    );
    Exit::Done
}

fn as_json(task: &Declared) -> serde_json::Value {
    json!({ "name": task.name, "run": task.run, "needs": task.needs, "in": task.folder.as_ref().map(InnerPath::as_str) })
}
