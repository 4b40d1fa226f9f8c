//! The order of projects that need each other's folders, or their circle.

use super::{Project, Workspace};
use crate::manifest::Need;

impl Workspace {
    /// The projects whose folders a project needs to run, with the needs.
    fn run_on<'w>(&'w self, project: &'w Project) -> impl Iterator<Item = (&'w Need, &'w Project)> {
        let running = project.manifest.needs.iter().filter(|need| need.purpose.is_none());
        running.filter_map(move |need| Some((need, self.project_of(project, need)?)))
    }

    /// A way from a project through the folders that it needs back to itself: its first need, and all on the way by name.
    pub(super) fn circle<'w>(&'w self, from: &'w Project) -> Option<(&'w Need, Vec<&'w str>)> {
        let mut seen: Vec<&str> = Vec::new();
        let mut open: Vec<(&Need, Vec<&Project>)> =
            self.run_on(from).map(|(need, next)| (need, vec![next])).collect();
        while let Some((first, way)) = open.pop() {
            let Some(last) = way.last().copied() else { continue };
            if last.folder == from.folder {
                let names = way.iter().map(|project| project.name().as_str());
                return Some((first, [from.name().as_str()].into_iter().chain(names).collect()));
            }
            if !seen.contains(&last.folder.as_str()) {
                seen.push(&last.folder);
                let longer = self.run_on(last).map(|(_, next)| way.iter().copied().chain([next]).collect());
                open.extend(longer.map(|way| (first, way)));
            }
        }
        None
    }

    /// The projects whose folders a project needs for anything, each after those that it needs itself; the project comes last.
    pub fn with_needed<'w>(&'w self, project: &'w Project) -> Vec<&'w Project> {
        let mut order: Vec<&Project> = Vec::new();
        let mut begun: Vec<&str> = Vec::new();
        let mut open = vec![(project, false)];
        while let Some((project, is_after)) = open.pop() {
            if is_after {
                order.push(project);
            } else if !begun.contains(&project.folder.as_str()) {
                begun.push(&project.folder);
                open.push((project, true));
                let needed = project.manifest.needs.iter().rev();
                let needed = needed.filter_map(|need| self.project_of(project, need));
                open.extend(needed.map(|project| (project, false)));
            }
        }
        order
    }
}
