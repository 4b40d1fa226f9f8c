//! `steps`: what people still have to do by hand, and what they did.

use std::path::Path;

use bibliotax_core::card::StepCheck;
use bibliotax_core::lock::{Lock, LockedProject, NeedGraph};
use bibliotax_core::name::{DeviceName, PackageName, StepName};
use bibliotax_core::steps::{Place, Todo, todos};
use bibliotax_disk::read::read_text;
use bibliotax_present::words::step_place;
use bibliotax_store::ledger::LedgerFolder;

use crate::failure::Failure;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// Largest file that a text is looked for in, in bytes.
const MAX_SIZE: usize = 64 << 20;

/// A step that is still to be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenStep {
    /// Its name.
    pub id: StepName,
    /// Its package.
    pub package: PackageName,
    /// Where it is to be done.
    pub place: Place,
}

/// Which step is meant, and where.
#[derive(Debug, Clone, Default)]
pub struct StepWords {
    /// The step.
    pub step: String,
    /// Its package, where several have a step of this name.
    pub package: Option<String>,
    /// The target that it was done for.
    pub target: Option<String>,
    /// The device that it was done on.
    pub device: Option<String>,
}

/// A step whose package says how to see that it was done.
pub struct SeenStep<'l> {
    /// The step at a place.
    pub todo: Todo<'l>,
    /// What is looked at.
    pub check: &'l StepCheck,
    /// Whether it is there.
    pub is_seen: bool,
}

/// What a lock's packages want done in a workspace.
pub fn all_steps<'l>(workspace: &WorkspaceFolder, lock: &'l Lock) -> Result<Vec<Todo<'l>>, Failure> {
    Ok(todos(lock, &workspace.declared.devices, &LedgerFolder::of(&workspace.root).read()?))
}

/// The same, of what these projects need, at these targets; at all where none are named.
pub fn steps_of<'l>(
    workspace: &WorkspaceFolder,
    lock: &'l Lock,
    projects: &ProjectWords,
    targets: &[String],
) -> Result<Vec<Todo<'l>>, Failure> {
    let (projects, targets) = (projects.names(workspace)?, workspace.targets_named(targets)?);
    let (mut todos, wires) = (all_steps(workspace, lock)?, NeedGraph::of(lock));
    todos.retain(|todo| projects.is_empty() || concerns(todo, &projects, workspace, lock, &wires));
    let devices = &workspace.declared.devices;
    let is_on = |todo: &Todo<'_>| {
        todo.place.target(devices).is_none_or(|target| targets.iter().any(|one| one.as_str() == target))
    };
    todos.retain(|todo| targets.is_empty() || is_on(todo));
    Ok(todos)
}

/// The steps that are still to be done.
pub fn open_steps(workspace: &WorkspaceFolder, lock: &Lock) -> Result<Vec<OpenStep>, Failure> {
    let open = all_steps(workspace, lock)?.into_iter().filter(Todo::is_open);
    let open = open.map(|todo| OpenStep {
        id: todo.step.id.clone(),
        package: todo.package.name.clone(),
        place: todo.place,
    });
    Ok(open.collect())
}

/// Whether a step is for what one of some projects reaches, on a target of its own where it has any.
fn concerns(
    todo: &Todo<'_>,
    projects: &[PackageName],
    workspace: &WorkspaceFolder,
    lock: &Lock,
    wires: &NeedGraph<'_>,
) -> bool {
    let target = todo.place.target(&workspace.declared.devices);
    let projects = lock.projects.iter().filter(|project| projects.contains(&project.name));
    let has_target = |project: &&LockedProject| {
        target.is_none_or(|target| {
            project.targets.is_empty() || project.targets.iter().any(|one| one.as_str() == target)
        })
    };
    let projects: Vec<&LockedProject> = projects.filter(has_target).collect();
    let reached = wires.reached(&projects, &[]);
    reached.keys().any(|at| lock.packages[*at].name == todo.package.name)
}

/// The steps whose packages say how to see that they were done.
pub fn look<'l>(workspace: &WorkspaceFolder, lock: &'l Lock) -> Result<Vec<SeenStep<'l>>, Failure> {
    let seen = all_steps(workspace, lock)?.into_iter().filter_map(|todo| {
        let check = todo.step.check.as_ref()?;
        Some(SeenStep { is_seen: is_seen(&workspace.root, check), todo, check })
    });
    Ok(seen.collect())
}

/// Notes what is seen to be done, and opens what isn't.
pub fn note_seen(workspace: &WorkspaceFolder, seen: &[SeenStep<'_>]) -> Result<(), Failure> {
    let ledger = LedgerFolder::of(&workspace.root);
    for SeenStep { todo, is_seen, .. } in seen {
        let Some(name) = todo.tick_name() else { continue };
        match (is_seen, todo.is_open()) {
            (true, true) => ledger.tick(&name, &todo.tick())?,
            (false, false) => ledger.untick(&name)?,
            _ => {}
        }
    }
    Ok(())
}

/// Whether what a check asks for is there. A file that can't be read isn't.
fn is_seen(project: &Path, check: &StepCheck) -> bool {
    let path = project.join(check.file.as_str());
    match &check.contains {
        None => path.is_file(),
        Some(text) => {
            read_text(&path, MAX_SIZE).ok().flatten().is_some_and(|contents| contents.contains(text))
        }
    }
}

/// The step at the place that words mean.
pub fn step_meant<'l>(
    words: &StepWords,
    workspace: &WorkspaceFolder,
    lock: &'l Lock,
) -> Result<Todo<'l>, Failure> {
    let todos = all_steps(workspace, lock)?;
    let todo = words.at_place(workspace, &words.of_step(&todos)?)?;
    if todo.tick_name().is_none() {
        return Err(which_place(&[&todo]));
    }
    Ok(todo)
}

/// Notes that a step was done, or opens it again.
pub fn note(workspace: &WorkspaceFolder, todo: &Todo<'_>, is_done: bool) -> Result<(), Failure> {
    let ledger = LedgerFolder::of(&workspace.root);
    // One without a place of its own was refused before.
    let name = todo.tick_name().unwrap_or_default();
    let noted = if is_done { ledger.tick(&name, &todo.tick()) } else { ledger.untick(&name) };
    Ok(noted?)
}

impl StepWords {
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
            let failure =
                Failure::new("step.unknown", format!("no locked package has a step `{}`", self.step));
            return Err(failure.suggest(&self.step, &known, "no package has steps"));
        };
        if let Some(other) = named.iter().find(|todo| todo.package.name != first.package.name) {
            let message =
                format!("{} and {} both have a step `{}`", first.package.name, other.package.name, self.step);
            return Err(Failure::new("step.which", message).advice("choose one with `--package`"));
        }
        Ok(named)
    }

    /// The place that is meant.
    fn at_place<'l>(&self, workspace: &WorkspaceFolder, todos: &[&Todo<'l>]) -> Result<Todo<'l>, Failure> {
        let is_there = |todo: &&&Todo<'_>| match &todo.place {
            Place::Target(target) => self.target.as_deref() == Some(target.as_str()),
            Place::Device(device) => self.device.as_deref() == Some(device.as_str()),
            _ => false,
        };
        let is_named = self.target.is_some() || self.device.is_some();
        match (todos, todos.iter().find(is_there)) {
            (_, Some(todo)) => Ok((*todo).clone()),
            ([one], None) if !is_named => Ok((*one).clone()),
            (_, None) => self.on_new_device(workspace, todos),
        }
    }

    /// A device that nobody named before, where that is possible: where none is declared.
    fn on_new_device<'l>(
        &self,
        workspace: &WorkspaceFolder,
        todos: &[&Todo<'l>],
    ) -> Result<Todo<'l>, Failure> {
        let (Some(device), true, Some(todo)) = (&self.device, is_per_device(todos), todos.first()) else {
            return Err(which_place(todos));
        };
        let declared: Vec<&str> =
            workspace.declared.devices.iter().map(|device| device.name.as_str()).collect();
        if !declared.is_empty() {
            let what = if declared.contains(&device.as_str()) {
                format!("this step isn't for the device `{device}`")
            } else {
                format!("there is no device `{device}`")
            };
            return Err(Failure::new("step.which", what).suggest(device, &declared, ""));
        }
        Ok(todo.at_device(Failure::read_word::<DeviceName>(device)?))
    }
}

fn is_per_device(todos: &[&Todo<'_>]) -> bool {
    todos.iter().any(|todo| matches!(todo.place, Place::Device(_) | Place::EachDevice(_)))
}

fn which_place(todos: &[&Todo<'_>]) -> Failure {
    let places: Vec<String> = todos.iter().map(|todo| step_place(&todo.place)).collect();
    let advice = match (is_per_device(todos), places.as_slice()) {
        (true, _) => "choose one with `--device NAME`",
        (false, [_]) => "leave out `--target` and `--device`",
        (false, _) => "choose one with `--target TARGET`",
    };
    Failure::new("step.which", format!("this step is done separately {}", places.join(", "))).advice(advice)
}
