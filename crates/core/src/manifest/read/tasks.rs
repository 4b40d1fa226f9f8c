//! Reads `[tasks]`.

use std::collections::BTreeSet;

use toml_edit::{Item, Key, TableLike};

use super::Reader;
use super::fixes::remove_element;
use super::values::{key_span, span};
use crate::fault::Fault;
use crate::fix::Fix;
use crate::inner_path::InnerPath;
use crate::manifest::tasks::{Task, circle};
use crate::name::TaskName;
use crate::nearest::{WordAt, push_with_nearest};

pub(super) const TASK_KEYS: [&str; 4] = ["do", "after", "in", "tokens"];

/// Most tasks of a circle that are listed.
const MAX_LISTED: usize = 12;

impl Reader<'_> {
    pub(super) fn tasks(&mut self, top: &dyn TableLike) -> Vec<Task> {
        let tasks = self.each(top, "tasks", Self::task);
        let names: BTreeSet<&str> = tasks.iter().map(|task| task.name.as_str()).collect();
        for task in &tasks {
            for need in task.after.iter().filter(|need| !names.contains(need.as_str())) {
                let fault =
                    Fault::new("manifest.task", format!("there is no task `{need}`"), task.span.clone());
                push_with_nearest(
                    &mut self.faults,
                    fault,
                    (need.as_str(), WordAt::BehindFault),
                    names.iter().copied(),
                );
            }
        }
        // Of a circle one is enough to tell.
        if let Some(circle) = circle(&tasks) {
            let task = circle[0];
            let fault = Fault::new("manifest.task", needs_itself(&circle), task.span.clone());
            let fault = fault.advice("remove one of them from `after`");
            let fixes = circle.iter().filter_map(|task| remove_from_circle(top, task, &circle));
            self.faults.push(fault.offering(fixes));
        }
        tasks
    }

    fn task(&mut self, key: &Key, item: &Item) -> Option<Task> {
        let name: TaskName = self.name(key)?;
        let span = key_span(key);
        let (run, needs, folder, tokens) = match item.as_str() {
            Some(run) => (Some(run.to_owned()), Vec::new(), None, false),
            None => {
                let table = self.table(item, key.get())?;
                self.only_known(table, "a task", &TASK_KEYS);
                let run = table.get("do").and_then(|item| self.text(item, "do"));
                let tokens = table.get("tokens").is_some_and(|item| self.flag(item, "tokens"));
                (run, self.parsed_list(table, "after"), self.task_folder(table), tokens)
            }
        };
        let run = run.filter(|run| !run.trim().is_empty());
        if run.is_none() && needs.is_empty() {
            let message =
                format!("task `{name}` has neither a command (`do`) nor tasks to run first (`after`)");
            let fault = Fault::new("manifest.task", message, span.clone());
            self.faults.push(fault.advice(format!("write it as `{name} = \"make -C firmware\"`")));
        }
        Some(Task { name, command: run, after: needs, folder, tokens, span })
    }

    fn task_folder(&mut self, table: &dyn TableLike) -> Option<InnerPath> {
        let item = table.get("in")?;
        let text = self.text(item, "in")?;
        let folder = InnerPath::new(text.trim_end_matches('/'));
        if folder.is_err() {
            let fault =
                Fault::new("manifest.task", format!("`{text}` isn't a folder of the project"), span(item));
            self.faults.push(fault.advice("write a path relative to the manifest, without `..`"));
        }
        folder.ok()
    }
}

/// Removes what a task of a circle has to come after, as far as that is in the circle, too.
fn remove_from_circle(top: &dyn TableLike, task: &Task, circle: &[&Task]) -> Option<Fix> {
    let written = top.get("tasks")?.as_table_like()?.get(task.name.as_str())?.as_table_like()?;
    let other = task.after.iter().find(|name| circle.iter().any(|other| other.name == **name))?;
    remove_element(written, "after", other.as_str())
}

/// The way from a task through what it needs back to itself, as a sentence; of a long one the beginning.
fn needs_itself(circle: &[&Task]) -> String {
    let names: Vec<&str> = circle.iter().map(|task| task.name.as_str()).collect();
    let way = match names.len() {
        ..=MAX_LISTED => names.join(", "),
        count => format!("{}, and {} more", names[..MAX_LISTED].join(", "), count - MAX_LISTED),
    };
    format!("task `{}` depends on itself: {way}, {}", names[0], names[0])
}
