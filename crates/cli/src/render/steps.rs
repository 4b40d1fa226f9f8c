//! What `steps` shows.

use bibliotax_app::steps::SeenStep;
use bibliotax_core::card::StepCheck;
use bibliotax_core::steps::{StepStatus, Todo};
use bibliotax_present::table::Table;
use bibliotax_present::words::{count, step_place};

use crate::json::step::{CheckedStep, CheckedSteps, NotedStep, Step, Steps};
use crate::ui::{Ui, clean, style, styled};

/// Width of texts where there is no terminal.
const PIPE_WIDTH: usize = 100;

/// Lists steps; those that are done, too, if asked to.
pub fn list(ui: &Ui, todos: &[Todo<'_>], all: bool) {
    let open = todos.iter().filter(|todo| todo.is_open()).count();
    let shown: Vec<&Todo<'_>> = todos.iter().filter(|todo| all || todo.is_open()).collect();
    ui.answer(match (open, todos.len()) {
        (0, 0) => "no package has steps to do by hand".to_owned(),
        (0, done) => format!("no open steps; {} done", count(done, "step")),
        (open, all) => format!("{} open, {} done", count(open, "step"), all - open),
    });
    // The same step at several places is shown once.
    shown.chunk_by(|one, next| std::ptr::eq(one.step, next.step)).for_each(|places| show(ui, places));
    if open > 0 {
        ui.say("\n`bibliotax steps done STEP` marks a step as done");
    }
    ui.report(|| Steps { open, steps: shown.iter().map(|todo| Step::from(*todo)).collect() });
}

/// A step at a place, in one row: its name, package and place, and how its text begins.
pub fn in_a_row(todo: &Todo<'_>) -> String {
    let begin = todo.step.text.lines().next().unwrap_or_default();
    format!("{} of {}, {}: {}", todo.step.id, todo.package.name, step_place(&todo.place), clean(begin))
}

/// A step with all its places.
fn show(ui: &Ui, places: &[&Todo<'_>]) {
    let Some(first) = places.first() else { return };
    let head = styled(style::STRONG, &first.step.id);
    ui.answer(format!("\n{head}  {} {}", first.package.name, first.package.shown_version()));
    let width = ui.terminal_width().unwrap_or(PIPE_WIDTH).saturating_sub(2);
    for line in textwrap::wrap(&clean(&first.step.text), width) {
        ui.answer(format!("  {line}"));
    }
    let row = |todo: &&Todo<'_>| vec![format!("  {}", status(todo.status)), step_place(&todo.place)];
    ui.answer(ui.table(places.iter().map(row)));
}

fn status(status: StepStatus) -> String {
    styled(if status == StepStatus::Done { style::GOOD } else { style::WARNING }, word(status))
}

/// Whether a step is done, in words.
pub fn word(status: StepStatus) -> &'static str {
    match status {
        StepStatus::New => "open",
        StepStatus::Changed => "open again, because its text changed",
        StepStatus::Updated => "open again, after the update",
        StepStatus::Done => "done",
    }
}

/// Shows that a step was ticked off or opened again, or would be; how many are open then.
pub fn show_noted(ui: &Ui, todo: &Todo<'_>, is_done: bool, is_dry_run: bool, open: usize) {
    let verb = match (is_dry_run, is_done) {
        (false, true) => "done",
        (false, false) => "open again",
        (true, true) => "would be done",
        (true, false) => "would be open again",
    };
    ui.say(format!("{verb}: {} of {}, {}", todo.step.id, todo.package.name, step_place(&todo.place)));
    ui.report(|| NotedStep {
        dry_run: is_dry_run,
        id: todo.step.id.clone(),
        package: todo.package.name.clone(),
        place: todo.place.clone(),
        done: is_done,
        open,
    });
}

/// Shows what was seen of steps.
pub fn show_seen(ui: &Ui, seen: &[SeenStep<'_>], is_dry_run: bool) {
    if seen.is_empty() {
        ui.answer("no step has a check");
    } else {
        ui.answer(ui.lines_of(&Table::of(seen.iter().map(seen_row)).titled(2)));
    }
    ui.report(|| CheckedSteps { dry_run: is_dry_run, steps: seen.iter().map(CheckedStep::from).collect() });
}

fn seen_row(SeenStep { todo, check, is_seen }: &SeenStep<'_>) -> Vec<String> {
    let (style, word) = if *is_seen { (style::GOOD, "done") } else { (style::WARNING, "open") };
    let (step, package) = (&todo.step.id, &todo.package.name);
    vec![
        format!(" {}", styled(style, word)),
        format!("{step} of {package}, {}", step_place(&todo.place)),
        looked_for(check),
    ]
}

/// What a check looks for.
fn looked_for(check: &StepCheck) -> String {
    match &check.contains {
        None => format!("{} is there", clean(check.file.as_str())),
        Some(text) => format!("{} has `{}`", clean(check.file.as_str()), clean(text)),
    }
}
