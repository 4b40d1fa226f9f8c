//! `steps check`: whether steps were done, seen by what their packages say can be seen.

use std::path::Path;

use bibliotax_core::card::StepCheck;
use bibliotax_core::steps::Todo;
use bibliotax_disk::read::read_text;
use bibliotax_store::ledger::LedgerFolder;
use serde_json::json;

use super::{place, todos_of};
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::Project;
use crate::show::table;
use crate::ui::{Ui, clean, style, styled};

/// Largest file that a text is looked for in, in bytes.
const LARGEST: usize = 64 << 20;

/// How the steps are looked at.
#[derive(Debug, clap::Args)]
pub struct Check {
    /// Show what is seen and note nothing
    #[arg(long)]
    dry_run: bool,
}

impl Check {
    pub fn run(&self, ui: &Ui, project: &Project) -> Result<Exit, Failure> {
        let lock = project.needed_lock()?;
        let todos = todos_of(project, lock)?;
        let looked: Vec<(&Todo<'_>, &StepCheck, bool)> = todos
            .iter()
            .filter_map(|todo| Some((todo, todo.step.check.as_ref()?)))
            .map(|(todo, check)| (todo, check, is_seen(&project.root, check)))
            .collect();
        if !self.dry_run {
            note(project, &looked)?;
        }
        let row = |(todo, check, is_seen): &(&Todo<'_>, &StepCheck, bool)| {
            let (style, word) = if *is_seen { (style::GOOD, "done") } else { (style::WARNING, "open") };
            let (step, package) = (&todo.step.id, &todo.package.name);
            vec![
                format!(" {}", styled(style, word)),
                format!("{step} of {package}, {}", place(&todo.place)),
                wanted(check),
            ]
        };
        if looked.is_empty() {
            ui.answer("no step says how it can be seen that it was done");
        } else {
            ui.answer(table(ui, looked.iter().map(row)));
        }
        let steps = looked.iter().map(|(todo, check, is_seen)| {
            json!({ "id": todo.step.id, "package": todo.package.name, "place": todo.place, "check": check, "done": is_seen })
        });
        ui.report("steps check", || json!({ "steps": steps.collect::<Vec<_>>(), "dry-run": self.dry_run }));
        Ok(if looked.iter().all(|(.., is_seen)| *is_seen) { Exit::Done } else { Exit::Differs })
    }
}

/// Ticks off what is seen to be done, and opens what isn't.
fn note(project: &Project, looked: &[(&Todo<'_>, &StepCheck, bool)]) -> Result<(), Failure> {
    let ledger = LedgerFolder::of(&project.root);
    for (todo, _, is_seen) in looked {
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
            read_text(&path, LARGEST).ok().flatten().is_some_and(|contents| contents.contains(text))
        }
    }
}

/// What a check asks for, in words.
fn wanted(check: &StepCheck) -> String {
    match &check.contains {
        None => format!("{} is there", clean(check.file.as_str())),
        Some(text) => format!("{} has `{}`", clean(check.file.as_str()), clean(text)),
    }
}
