//! `task`: the commands that a manifest has names for.

use std::ffi::OsString;
use std::path::Path;
use std::process::Command;

use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::tasks::{Task as Declared, in_order};
use bibliotax_core::name::TaskName;
use bibliotax_core::workspace::Member;
use serde_json::json;

use super::on_shelf::OnShelf;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::{In, Project, called};
use crate::running::{become_it, run};
use crate::show::table;
use crate::ui::{Ui, clean, style, styled};

/// Run a task of the manifest, and before it those that it needs
///
/// The shelf is made right first, without a word where it is. Tasks are written under `[tasks]`, run by the system's shell in
/// the project's folder, and find the same in their environment as with `bibliotax with`. With --in, it is run in several members
/// of a workspace, in each after those whose folders it needs. Without a name, the tasks there are are listed.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax task\n  bibliotax task build\n  bibliotax task test -- --verbose\n  bibliotax task build --in all"
)]
pub struct Task {
    /// The task
    name: Option<String>,
    #[command(flatten)]
    members: In,
    /// Run it first in the members whose folders are needed, where they have a task of this name
    #[arg(long)]
    needed: bool,
    #[command(flatten)]
    shelf: OnShelf,
    /// Show what would be run and run nothing
    #[arg(long)]
    dry_run: bool,
    /// What the task's command gets beside what the manifest says
    #[arg(last = true, value_name = "ARGUMENTS")]
    arguments: Vec<OsString>,
}

/// A task of a member.
#[derive(Clone, Copy)]
struct Job<'p> {
    member: &'p Member,
    task: &'p Declared,
}

impl Task {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::without_lock(here)?;
        let Some(name) = &self.name else { return self.list(ui, &project) };
        let jobs = self.jobs(&project, name)?;
        if self.dry_run {
            return Ok(show(ui, &project, &jobs));
        }
        let members: Vec<&Member> = jobs.iter().map(|job| job.member).collect();
        let mut distinct = members;
        distinct.dedup_by_key(|member| &member.folder);
        let surroundings = self.shelf.surroundings(here, &project, &distinct, ui)?;
        let around = |job: &Job<'_>| {
            let at = distinct.iter().position(|member| member.folder == job.member.folder);
            at.and_then(|at| surroundings.get(at))
        };
        let Some((last, before)) = jobs.split_last() else { return Ok(Exit::Done) };
        for job in before {
            let arguments = if job.is(name) { self.arguments.as_slice() } else { &[] };
            let Some(mut command) = command_of(job, &project, arguments) else { continue };
            around(job).into_iter().for_each(|around| around.put_into(&mut command, job.task.tokens));
            say(ui, &project, job);
            match run(&mut command)? {
                Exit::Passed(0) => {}
                ended => {
                    let (failed, left) = (told(&project, job), told(&project, last));
                    ui.warn(format!("task `{failed}` failed, so `{left}` was not run"));
                    return Ok(ended);
                }
            }
        }
        let Some(mut command) = command_of(last, &project, &self.arguments) else { return Ok(Exit::Done) };
        around(last).into_iter().for_each(|around| around.put_into(&mut command, last.task.tokens));
        if !before.is_empty() {
            say(ui, &project, last);
        }
        become_it(&mut command)
    }

    /// The tasks to run, in their order: what is asked for stands last.
    fn jobs<'p>(&self, project: &'p Project, name: &str) -> Result<Vec<Job<'p>>, Failure> {
        let chosen = self.members.to_change(project)?;
        let is_chosen = |member: &Member| chosen.iter().any(|one| one.folder == member.folder);
        let mut members: Vec<&Member> = Vec::new();
        for member in chosen.iter().flat_map(|member| project.workspace.with_needed(member)) {
            let is_new = !members.iter().any(|other| other.folder == member.folder);
            if is_new && (self.needed || is_chosen(member)) {
                members.push(member);
            }
        }
        // Of several members, those that have no such task are passed over.
        let having = members.iter().filter(|member| has(member, name)).count();
        let mut jobs = Vec::new();
        for member in members {
            let is_passed_over = having > 0 && !has(member, name) && (chosen.len() > 1 || !is_chosen(member));
            if !is_passed_over {
                jobs.extend(wanted(member, name)?.into_iter().map(|task| Job { member, task }));
            }
        }
        Ok(jobs)
    }

    fn list(&self, ui: &Ui, project: &Project) -> Result<Exit, Failure> {
        let members = self.members.chosen(project)?;
        let all = members
            .iter()
            .flat_map(|member| member.manifest.tasks.iter().map(move |task| Job { member, task }));
        let jobs: Vec<Job<'_>> = all.collect();
        if jobs.is_empty() {
            ui.answer("the manifest has no tasks; write them under `[tasks]`: `build = \"make\"`");
        } else {
            ui.answer(table(ui, jobs.iter().map(|job| row(job, members.len() > 1))));
        }
        ui.report("task", || json!({ "tasks": jobs.iter().map(as_json).collect::<Vec<_>>() }));
        Ok(Exit::Done)
    }
}

impl Job<'_> {
    fn is(&self, name: &str) -> bool {
        self.task.name.as_str() == name
    }
}

fn has(member: &Member, name: &str) -> bool {
    member.manifest.tasks.iter().any(|task| task.name.as_str() == name)
}

/// The task of a name, which stands last, and what it needs.
fn wanted<'p>(member: &'p Member, name: &str) -> Result<Vec<&'p Declared>, Failure> {
    let tasks = &member.manifest.tasks;
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
fn command_of(job: &Job<'_>, project: &Project, arguments: &[OsString]) -> Option<Command> {
    let line = job.task.run.as_deref()?;
    let mut command = shell(line, job.task.name.as_str(), arguments);
    let folder = project.root.join(&job.member.folder);
    command.current_dir(job.task.folder.as_ref().map_or(folder.clone(), |inner| folder.join(inner.as_str())));
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

/// A task's name; in a workspace with its member's.
fn told(project: &Project, job: &Job<'_>) -> String {
    if project.workspace.members.len() == 1 {
        return job.task.name.to_string();
    }
    format!("{} of {}", job.task.name, called(job.member))
}

fn say(ui: &Ui, project: &Project, job: &Job<'_>) {
    let run = clean(job.task.run.as_deref().unwrap_or_default());
    let head = styled(style::STRONG, format!("{}:", told(project, job)));
    ui.aside().say(format!("{head} {}", styled(style::FAINT, run)));
}

fn row(job: &Job<'_>, with_member: bool) -> Vec<String> {
    let needs: Vec<&str> = job.task.needs.iter().map(TaskName::as_str).collect();
    let after = if needs.is_empty() { String::new() } else { format!("after {}", needs.join(", ")) };
    let run = clean(job.task.run.as_deref().unwrap_or_default());
    let member = with_member.then(|| called(job.member).to_owned());
    [format!(" {}", styled(style::STRONG, &job.task.name))]
        .into_iter()
        .chain(member)
        .chain([after, run])
        .collect()
}

fn show(ui: &Ui, project: &Project, jobs: &[Job<'_>]) -> Exit {
    for job in jobs.iter().filter(|job| job.task.run.is_some()) {
        let run = clean(job.task.run.as_deref().unwrap_or_default());
        ui.answer(format!("  would run {}: {run}", told(project, job)));
    }
    ui.report("task", || json!({ "dry-run": true, "order": jobs.iter().map(as_json).collect::<Vec<_>>() }));
    Exit::Done
}

fn as_json(job: &Job<'_>) -> serde_json::Value {
    let task = job.task;
    json!({ "member": job.member.project.name, "name": task.name, "run": task.run, "needs": task.needs,
        "in": task.folder.as_ref().map(InnerPath::as_str) })
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
