//! `steps done` and `steps reopen`: a step at a place ticked off, or opened again.

use bibliotax_core::name::{DeviceName, PackageName};
use bibliotax_core::steps::{Place, Todo};
use bibliotax_store::ledger::LedgerFolder;
use serde_json::json;

use super::{place, todos_of};
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::Project;
use crate::ui::Ui;

/// Which step is meant, and where.
#[derive(Debug, clap::Args)]
pub struct Tick {
    /// The step, as `bibliotax steps` calls it
    step: String,
    /// Its package, where several have a step of this name
    #[arg(long, value_name = "PACKAGE")]
    package: Option<String>,
    /// The target it was done for
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// The device it was done on
    #[arg(long, value_name = "DEVICE", conflicts_with = "target")]
    device: Option<String>,
    /// Show what would be noted and write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Tick {
    pub fn run(&self, ui: &Ui, project: &Project, is_done: bool) -> Result<Exit, Failure> {
        let lock = project.needed_lock()?;
        let todos = todos_of(project, lock)?;
        let todo = self.at_place(project, &self.of_step(&todos)?)?;
        let Some(name) = todo.tick_name() else { return Err(which_place(&[&todo])) };
        let ledger = LedgerFolder::of(&project.root);
        match (self.dry_run, is_done) {
            (true, _) => {}
            (false, true) => ledger.tick(&name, &todo.tick())?,
            (false, false) => ledger.untick(&name)?,
        }
        let verb = match (self.dry_run, is_done) {
            (false, true) => "done",
            (false, false) => "open again",
            (true, true) => "would be done",
            (true, false) => "would be open again",
        };
        ui.say(format!("{verb}: {} of {}, {}", todo.step.id, todo.package.name, place(&todo.place)));
        let open = todos_of(project, lock)?.iter().filter(|todo| todo.is_open()).count();
        ui.report("steps", || {
            json!({ "id": todo.step.id, "package": todo.package.name, "place": todo.place,
            "done": is_done, "dry-run": self.dry_run, "open": open })
        });
        Ok(Exit::Done)
    }

    /// The step that is meant, at all its places.
    fn of_step<'t, 'l>(&self, todos: &'t [Todo<'l>]) -> Result<Vec<&'t Todo<'l>>, Failure> {
        let package = self.package.as_deref().map(Failure::read_word::<PackageName>).transpose()?;
        let of_package =
            |todo: &&Todo<'_>| package.as_ref().is_none_or(|package| todo.package.name == *package);
        let named: Vec<&Todo<'_>> =
            todos.iter().filter(|todo| todo.step.id.as_str() == self.step).filter(of_package).collect();
        let Some(first) = named.first() else {
            let known: Vec<&str> =
                todos.iter().filter(of_package).map(|todo| todo.step.id.as_str()).collect();
            let failure = Failure::new("step.unknown", format!("no package here has a step `{}`", self.step));
            return Err(failure.suggest(&self.step, &known, "none has any step at all"));
        };
        if let Some(other) = named.iter().find(|todo| todo.package.name != first.package.name) {
            let message =
                format!("{} and {} both have a step `{}`", first.package.name, other.package.name, self.step);
            return Err(Failure::new("step.which", message).mend("say which with `--package`"));
        }
        Ok(named)
    }

    /// The place that is meant.
    fn at_place<'l>(&self, project: &Project, todos: &[&Todo<'l>]) -> Result<Todo<'l>, Failure> {
        let is_there = |todo: &&&Todo<'_>| match &todo.place {
            Place::Target(target) => self.target.as_deref() == Some(target.as_str()),
            Place::Device(device) => self.device.as_deref() == Some(device.as_str()),
            _ => false,
        };
        let is_named = self.target.is_some() || self.device.is_some();
        match (todos, todos.iter().find(is_there)) {
            (_, Some(todo)) => Ok((*todo).clone()),
            ([one], None) if !is_named => Ok((*one).clone()),
            (_, None) => self.on_new_device(project, todos),
        }
    }

    /// A device that nobody named before, where that is possible: where none is declared.
    fn on_new_device<'l>(&self, project: &Project, todos: &[&Todo<'l>]) -> Result<Todo<'l>, Failure> {
        let is_per_device =
            todos.iter().any(|todo| matches!(todo.place, Place::Device(_) | Place::EachDevice(_)));
        let (Some(device), true, Some(todo)) = (&self.device, is_per_device, todos.first()) else {
            return Err(which_place(todos));
        };
        let declared: Vec<&str> =
            project.workspace.devices.iter().map(|device| device.name.as_str()).collect();
        if !declared.is_empty() {
            let what = if declared.contains(&device.as_str()) {
                format!("`{device}` is no device that this step is for")
            } else {
                format!("`{device}` is none of the declared devices")
            };
            return Err(Failure::new("step.which", what).suggest(device, &declared, ""));
        }
        Ok(todo.at_device(Failure::read_word::<DeviceName>(device)?))
    }
}

fn which_place(todos: &[&Todo<'_>]) -> Failure {
    let places: Vec<String> = todos.iter().map(|todo| place(&todo.place)).collect();
    let is_per_device =
        todos.iter().any(|todo| matches!(todo.place, Place::Device(_) | Place::EachDevice(_)));
    let mend = match (is_per_device, places.as_slice()) {
        (true, _) => "say on which with `--device NAME`",
        (false, [_]) => "leave out `--target` and `--device`",
        (false, _) => "say for which with `--target TARGET`",
    };
    Failure::new("step.which", format!("the step is to be done {}", places.join(", "))).mend(mend)
}
