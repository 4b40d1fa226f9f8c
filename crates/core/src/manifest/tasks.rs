//! Tasks: commands of a project, and the order in which they run.

use std::collections::{BTreeMap, BTreeSet};
use std::ops;

use crate::inner_path::InnerPath;
use crate::name::TaskName;

/// One line of `[tasks]`.
#[derive(Debug, Clone)]
pub struct Task {
    /// What it is called.
    pub name: TaskName,
    /// The command line, for the system's shell; none where it only stands for the tasks that it needs.
    pub command: Option<String>,
    /// The tasks that run before it.
    pub after: Vec<TaskName>,
    /// The folder of the project that it runs in; the project's own without it.
    pub folder: Option<InnerPath>,
    /// Whether it gets the person's tokens for registries.
    pub tokens: bool,
    /// Where its name stands in the manifest.
    pub span: ops::Range<usize>,
}

/// The task of a name with all that it needs before it, each once: what a task needs runs in the order in which it says so.
///
/// Names that there are not are passed over, and of a circle each task comes once: reading a manifest refuses both.
pub fn in_order<'t>(tasks: &'t [Task], name: &TaskName) -> Vec<&'t Task> {
    let by_name = by_name(tasks);
    let mut order: Vec<&Task> = Vec::new();
    let mut begun: BTreeSet<&TaskName> = BTreeSet::new();
    let mut open = vec![(name, false)];
    while let Some((name, is_after)) = open.pop() {
        let Some(task) = by_name.get(name) else { continue };
        if is_after {
            order.push(task);
        } else if begun.insert(&task.name) {
            open.push((&task.name, true));
            open.extend(task.after.iter().rev().map(|need| (need, false)));
        }
    }
    order
}

/// Tasks each of which needs the next one, and the last one the first; `None` if no task needs itself.
pub fn circle(tasks: &[Task]) -> Option<Vec<&Task>> {
    let by_name = by_name(tasks);
    // Those whose needs were all followed without meeting a circle.
    let mut done: BTreeSet<&TaskName> = BTreeSet::new();
    for start in tasks {
        // The way to where we are, each with the needs yet to be followed.
        let mut way: Vec<(&Task, std::slice::Iter<'_, TaskName>)> = Vec::new();
        let mut on_way: BTreeMap<&TaskName, usize> = BTreeMap::new();
        let mut next = Some(start).filter(|task| !done.contains(&task.name));
        loop {
            if let Some(task) = next.take() {
                on_way.insert(&task.name, way.len());
                way.push((task, task.after.iter()));
            }
            let Some((task, needs)) = way.last_mut() else { break };
            match needs.next() {
                Some(need) if on_way.contains_key(need) => {
                    return Some(way[on_way[need]..].iter().map(|(task, _)| *task).collect());
                }
                Some(need) => next = by_name.get(need).copied().filter(|task| !done.contains(&task.name)),
                None => {
                    on_way.remove(&task.name);
                    done.insert(&task.name);
                    way.pop();
                }
            }
        }
    }
    None
}

fn by_name(tasks: &[Task]) -> BTreeMap<&TaskName, &Task> {
    tasks.iter().map(|task| (&task.name, task)).collect()
}

#[cfg(test)]
mod tests {
    use crate::manifest::Manifest;

    use super::*;

    fn read(tasks: &str) -> Result<Vec<Task>, Vec<String>> {
        let text = format!("[project]\nname = \"gate-kiosk\"\n[tasks]\n{tasks}");
        let manifest = Manifest::read(&text);
        let shown = |faults: Vec<crate::fault::Fault>| {
            faults
                .iter()
                .map(|f| format!("{}: {} ({})", f.code, f.message, f.advice.as_deref().unwrap_or("")))
                .collect()
        };
        manifest.map(|manifest| manifest.tasks).map_err(shown)
    }

    #[test]
    fn what_a_task_needs_comes_before_it_once_and_in_the_order_it_says() {
        let tasks = read(
            "build = { do = \"make\", after = [\"tables\", \"icons\"], in = \"firmware\" }\n\
             tables = \"sh tables.sh\"\nicons = { do = \"sh icons.sh\", after = [\"tables\"] }\nall = { after = [\"build\"] }\n",
        )
        .unwrap();
        let order: Vec<&str> =
            in_order(&tasks, &"all".parse().unwrap()).iter().map(|task| task.name.as_str()).collect();
        assert_eq!(order, ["tables", "icons", "build", "all"]);
        assert_eq!(tasks[0].folder.as_ref().map(InnerPath::as_str), Some("firmware"));
    }

    #[test]
    fn tasks_that_can_not_run_are_refused_when_they_are_read() {
        for (tasks, shown) in [
            (
                "build = { after = [\"tabels\"] }\ntables = \"x\"",
                "manifest.task: there is no task `tabels` (`tables`)",
            ),
            (
                "a = { after = [\"b\"] }\nb = { after = [\"a\"] }",
                "manifest.task: task `a` depends on itself: a, b, a (remove one of them from `after`)",
            ),
            (
                "a = { in = \"x\" }",
                "manifest.task: task `a` has neither a command (`do`) nor tasks to run first (`after`)",
            ),
            ("a = { do = \"x\", in = \"../up\" }", "manifest.task: `../up` isn't a folder of the project"),
            ("a = 1", "manifest.wrong-kind: `a` has to be a table"),
            (
                "a = \" \"",
                "manifest.task: task `a` has neither a command (`do`) nor tasks to run first (`after`)",
            ),
        ] {
            let faults = read(tasks).unwrap_err();
            assert!(faults[0].starts_with(shown), "{tasks}: {faults:?}");
        }
    }
}
