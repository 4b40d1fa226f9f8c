//! The order of members that need each other's folders, or their circle.

use super::{Member, Workspace};
use crate::manifest::Need;

impl Workspace {
    /// The projects whose folders a project needs to run, with the needs.
    fn run_on<'w>(&'w self, member: &'w Member) -> impl Iterator<Item = (&'w Need, &'w Member)> {
        let running = member.manifest.needs.iter().filter(|need| need.purpose.is_none());
        running.filter_map(move |need| Some((need, self.project_of(member, need)?)))
    }

    /// A way from a member through the folders that it needs back to itself: its first need, and all on the way by name.
    pub(super) fn circle<'w>(&'w self, from: &'w Member) -> Option<(&'w Need, Vec<&'w str>)> {
        let mut seen: Vec<&str> = Vec::new();
        let mut open: Vec<(&Need, Vec<&Member>)> =
            self.run_on(from).map(|(need, next)| (need, vec![next])).collect();
        while let Some((first, way)) = open.pop() {
            let Some(last) = way.last().copied() else { continue };
            if last.folder == from.folder {
                let names = way.iter().map(|member| member.project.name.as_str());
                return Some((first, [from.project.name.as_str()].into_iter().chain(names).collect()));
            }
            if !seen.contains(&last.folder.as_str()) {
                seen.push(&last.folder);
                let longer = self.run_on(last).map(|(_, next)| way.iter().copied().chain([next]).collect());
                open.extend(longer.map(|way| (first, way)));
            }
        }
        None
    }

    /// The projects whose folders a member needs for anything, each after those that it needs itself, and last the member.
    pub fn with_needed<'w>(&'w self, member: &'w Member) -> Vec<&'w Member> {
        let mut order: Vec<&Member> = Vec::new();
        let mut begun: Vec<&str> = Vec::new();
        let mut open = vec![(member, false)];
        while let Some((member, is_after)) = open.pop() {
            if is_after {
                order.push(member);
            } else if !begun.contains(&member.folder.as_str()) {
                begun.push(&member.folder);
                open.push((member, true));
                let needed = member.manifest.needs.iter().rev();
                let needed = needed.filter_map(|need| self.project_of(member, need));
                open.extend(needed.map(|member| (member, false)));
            }
        }
        order
    }
}
