//! `steps`: what people must still do by hand, and what they did.

mod check;
mod tick;

use std::path::Path;

use bibliotax_core::lock::{Lock, LockedMember, Wires};
use bibliotax_core::name::PackageName;
use bibliotax_core::steps::{Place, Standing, Todo, todos};
use bibliotax_store::ledger::LedgerFolder;
use serde_json::{Value, json};

use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Only, Project};
use crate::show::{count, table};
use crate::ui::{Ui, clean, style, styled};

/// List what must still be done by hand, or tick it off
///
/// Packages can ask for things that no install can do: flash a table onto a device, switch something on. What was done is
/// noted in `bibliotax.steps`, which belongs into version control; a step that reads otherwise after an update is open again.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax steps\n  bibliotax steps done calibrate --device hand-3\n  bibliotax steps check"
)]
pub struct Steps {
    #[command(subcommand)]
    command: Option<StepsCommand>,
    #[command(flatten)]
    members: Only,
    /// List the steps that are done, too
    #[arg(long)]
    all: bool,
}

#[derive(Debug, clap::Subcommand)]
enum StepsCommand {
    /// Tick a step off
    #[command(after_help = "Example:\n  bibliotax steps done calibrate --device hand-3")]
    Done(tick::Tick),
    /// Open a step again that was ticked off
    #[command(after_help = "Example:\n  bibliotax steps reopen calibrate --device hand-3")]
    Reopen(tick::Tick),
    /// Look whether steps were done, as far as their packages say how to see it
    ///
    /// What is seen to be done is ticked off, and what isn't is opened again. Ends with status 1 if something isn't.
    #[command(after_help = "Example:\n  bibliotax steps check")]
    Check(check::Check),
}

impl Steps {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        match &self.command {
            None => self.list(ui, &Project::find(here)?),
            Some(command) => {
                let progress = Progress::new(ui);
                let (project, _held) = Project::hold(here, &progress)?;
                drop(progress);
                match command {
                    StepsCommand::Done(tick) => tick.run(ui, &project, true),
                    StepsCommand::Reopen(tick) => tick.run(ui, &project, false),
                    StepsCommand::Check(check) => check.run(ui, &project),
                }
            }
        }
    }

    fn list(&self, ui: &Ui, project: &Project) -> Result<Exit, Failure> {
        let lock = project.needed_lock()?;
        let members = self.members.names(project)?;
        let mut todos = todos_of(project, lock)?;
        let wires = Wires::of(lock);
        todos.retain(|todo| members.is_empty() || concerns(todo, &members, project, lock, &wires));
        let open = todos.iter().filter(|todo| todo.is_open()).count();
        let shown: Vec<&Todo<'_>> = todos.iter().filter(|todo| self.all || todo.is_open()).collect();
        ui.answer(match (open, todos.len()) {
            (0, 0) => "no package asks for anything to be done by hand".to_owned(),
            (0, done) => format!("nothing is open; {} done", count(done, "step")),
            (open, all) => format!("{} open, {} done", count(open, "step"), all - open),
        });
        // The same step at several places is told once.
        shown.chunk_by(|one, next| std::ptr::eq(one.step, next.step)).for_each(|places| show(ui, places));
        if open > 0 {
            ui.say("\n`bibliotax steps done STEP` ticks one off");
        }
        ui.report(
            "steps",
            || json!({ "open": open, "steps": shown.iter().map(|todo| as_json(todo)).collect::<Vec<_>>() }),
        );
        Ok(Exit::Done)
    }
}

/// What a lock's packages want done in a project.
fn todos_of<'l>(project: &Project, lock: &'l Lock) -> Result<Vec<Todo<'l>>, Failure> {
    Ok(todos(lock, &project.workspace.devices, &LedgerFolder::of(&project.root).read()?))
}

/// Whether a step is for what one of some members reaches, on a target of its own where it has any.
fn concerns(
    todo: &Todo<'_>,
    members: &[PackageName],
    project: &Project,
    lock: &Lock,
    wires: &Wires<'_>,
) -> bool {
    let target = todo.place.target(&project.workspace.devices);
    let members = lock.members.iter().filter(|member| members.contains(&member.name));
    let has_target = |member: &&LockedMember| {
        target.is_none_or(|target| {
            member.targets.is_empty() || member.targets.iter().any(|one| one.as_str() == target)
        })
    };
    let members: Vec<&LockedMember> = members.filter(has_target).collect();
    let reached = wires.reached(&members, &[]);
    reached.keys().any(|at| lock.packages[*at].name == todo.package.name)
}

/// A step with all its places.
fn show(ui: &Ui, places: &[&Todo<'_>]) {
    let Some(first) = places.first() else { return };
    let head = styled(style::STRONG, &first.step.id);
    ui.answer(format!("\n{head}  {} {}", first.package.name, first.package.told_version()));
    let width = ui.terminal_width().unwrap_or(100).saturating_sub(2);
    for line in wrapped(&clean(&first.step.text), width) {
        ui.answer(format!("  {line}"));
    }
    let row = |todo: &&Todo<'_>| vec![format!("  {}", standing(todo.standing)), place(&todo.place)];
    ui.answer(table(ui, places.iter().map(row)));
}

fn standing(standing: Standing) -> String {
    let (style, word) = match standing {
        Standing::New => (style::WARNING, "open"),
        Standing::Changed => (style::WARNING, "open again, it reads otherwise now"),
        Standing::Updated => (style::WARNING, "open again, after the update"),
        Standing::Done => (style::GOOD, "done"),
    };
    styled(style, word)
}

/// Where a step is to be done, in words.
fn place(place: &Place) -> String {
    match place {
        Place::Project => "once, for the project".to_owned(),
        Place::Target(target) => format!("for {target}"),
        Place::Device(device) => format!("on {device}"),
        Place::EachDevice(Some(target)) => format!("on each device of {target}"),
        Place::EachDevice(None) => "on each device".to_owned(),
    }
}

fn as_json(todo: &Todo<'_>) -> Value {
    json!({ "package": todo.package.name, "version": todo.package.version, "id": todo.step.id, "text": todo.step.text,
        "place": todo.place, "standing": todo.standing, "check": todo.step.check })
}

/// A text in lines no longer than this, broken between words.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// Most open steps that are told after an install.
const MOST_TOLD: usize = 5;

/// Says after an install which steps are open now, in a few lines.
pub fn say_open(ui: &Ui, project: &Project, lock: &Lock) -> Result<(), Failure> {
    let todos = todos_of(project, lock)?;
    let open: Vec<&Todo<'_>> = todos.iter().filter(|todo| todo.is_open()).collect();
    if open.is_empty() {
        return Ok(());
    }
    ui.say(format!(
        "{}: {} by hand; `bibliotax steps` tells what to do",
        styled(style::STRONG, "steps"),
        count(open.len(), "thing")
    ));
    let row = |todo: &&Todo<'_>| {
        vec![format!("  {}", todo.step.id), todo.package.name.to_string(), place(&todo.place)]
    };
    ui.say(table(ui, open.iter().take(MOST_TOLD).map(row)));
    if let Some(more) = open.len().checked_sub(MOST_TOLD).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more"));
    }
    Ok(())
}
