//! What `task` shows.

use bibliotax_app::task::Job;
use bibliotax_app::workspace::{WorkspaceFolder, called};
use bibliotax_core::name::TaskName;

use crate::json::task::Tasks;
use crate::ui::{Ui, clean, style, styled};

/// Lists tasks; with the names of their projects where there are several.
pub fn list(ui: &Ui, jobs: &[Job<'_>], with_projects: bool) {
    if jobs.is_empty() {
        ui.answer("the manifest has no tasks; write them under `[tasks]`: `build = \"make\"`");
    } else {
        ui.answer(ui.table(jobs.iter().map(|job| row(job, with_projects))));
    }
    ui.report(|| Tasks::of(jobs, false));
}

/// Shows what would be run.
pub fn show_plan(ui: &Ui, workspace: &WorkspaceFolder, jobs: &[Job<'_>]) {
    for job in jobs.iter().filter(|job| job.task.command.is_some()) {
        ui.answer(format!("  would run {}: {}", title(workspace, job), command_line(job)));
    }
    ui.report(|| Tasks::of(jobs, true));
}

/// Says which task is run now.
pub fn show_running(ui: &Ui, workspace: &WorkspaceFolder, job: &Job<'_>) {
    let head = styled(style::STRONG, format!("{}:", title(workspace, job)));
    ui.aside().say(format!("{head} {}", styled(style::FAINT, command_line(job))));
}

/// A task's name; in a workspace with its project's.
pub fn title(workspace: &WorkspaceFolder, job: &Job<'_>) -> String {
    if workspace.is_alone() {
        return job.task.name.to_string();
    }
    format!("{} of {}", job.task.name, called(job.project))
}

fn command_line(job: &Job<'_>) -> String {
    clean(job.task.command.as_deref().unwrap_or_default())
}

fn row(job: &Job<'_>, with_project: bool) -> Vec<String> {
    let needs: Vec<&str> = job.task.after.iter().map(TaskName::as_str).collect();
    let after = if needs.is_empty() { String::new() } else { format!("after {}", needs.join(", ")) };
    let project = with_project.then(|| called(job.project).to_owned());
    [format!(" {}", styled(style::STRONG, &job.task.name))]
        .into_iter()
        .chain(project)
        .chain([after, command_line(job)])
        .collect()
}
