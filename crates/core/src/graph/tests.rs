//! Graphs of small locks, in every form.

use std::collections::BTreeSet;

use proptest::prelude::*;

use super::*;
use crate::facet::Target;
use crate::lock::samples::{any_lock, garden_lock, slowly_reached_in};
use crate::name::TargetName;

fn output(graph: &Graph<'_>) -> Vec<String> {
    let line = |line: Line| {
        let purpose = line.purpose.map(|purpose| format!(" for {purpose}")).unwrap_or_default();
        let folded = if line.is_folded { " …" } else { "" };
        format!("{}{}{purpose}{folded}", "  ".repeat(line.depth), graph.nodes[line.node].name())
    };
    outline(graph).into_iter().map(line).collect()
}

fn view(lock: &Lock, projects: &[&str], to: Option<&str>, depth: Option<usize>) -> Vec<String> {
    let machine = Target::this_machine();
    let projects: Vec<PackageName> = projects.iter().map(|project| project.parse().unwrap()).collect();
    let to: Option<PackageName> = to.map(|to| to.parse().unwrap());
    let scope = Scope { projects: &projects, ..Scope::all(&machine) };
    output(&Graph::of(lock, &View { scope, to: to.as_ref(), depth }))
}

#[test]
fn what_a_package_needs_stands_once_and_what_is_asked_narrows_it() {
    let lock = garden_lock();
    assert_eq!(
        view(&lock, &[], None, None),
        [
            "kiosk",
            "  moss",
            "    rain",
            "      dew",
            "    stone",
            "hand",
            "  moss …",
            "  probe for test",
            "    stone"
        ]
    );
    assert_eq!(
        view(&lock, &["hand"], Some("stone"), None),
        ["hand", "  moss", "    stone", "  probe for test", "    stone"]
    );
    assert_eq!(view(&lock, &["kiosk"], None, Some(2)), ["kiosk", "  moss", "    rain", "    stone"]);
    assert_eq!(view(&lock, &[], Some("unknown"), None), [""; 0]);
}

#[test]
fn packages_that_need_each_other_end() {
    let mut lock = garden_lock();
    lock.packages[0].needs = vec!["moss".parse().unwrap()];
    assert_eq!(
        view(&lock, &["kiosk"], None, None),
        ["kiosk", "  moss", "    rain", "      dew", "        moss …", "    stone"]
    );
}

proptest! {
    #[test]
    fn a_graph_has_what_is_reached_and_its_lines_tell_each_need_once(
        lock in any_lock(), on_one in any::<bool>(), leaves_tests in any::<bool>()
    ) {
        let machine = Target::this_machine();
        let targets = if on_one { vec!["hand-unit".parse().unwrap()] } else { Vec::new() };
        let without: Vec<Purpose> = if leaves_tests { vec!["test".parse().unwrap()] } else { Vec::new() };
        let scope = Scope { projects: &[], targets: &targets, without: &without, machine: &machine };
        let graph = Graph::of(&lock, &View { scope, to: None, depth: None });
        let packages: BTreeSet<PackageName> =
            graph.nodes.iter().filter_map(|node| Some(node.package()?.name.clone())).collect();
        prop_assert_eq!(&packages, &slowly_reached_in(&lock, &scope));

        let needed = graph.needed();
        let lines = outline(&graph);
        let mut output = BTreeSet::new();
        for (at, line) in lines.iter().enumerate() {
            let below = lines[at + 1..].iter().take_while(|below| below.depth > line.depth);
            let children: Vec<usize> =
                below.filter(|below| below.depth == line.depth + 1).map(|below| below.node).collect();
            if line.is_folded {
                prop_assert!(children.is_empty());
            } else if !needed[line.node].is_empty() {
                prop_assert!(output.insert(line.node), "{} is listed twice", graph.nodes[line.node].name());
                let all: BTreeSet<usize> = needed[line.node].iter().copied().collect();
                prop_assert_eq!(children.into_iter().collect::<BTreeSet<_>>(), all);
            }
        }
        let leading: BTreeSet<usize> = (0..graph.nodes.len()).filter(|node| !needed[*node].is_empty()).collect();
        prop_assert_eq!(output, leading, "everything that needs something is listed");
        for edge in &graph.edges {
            let Node::Project(project) = &graph.nodes[edge.from] else { continue };
            let is_here = |targets: &[TargetName]| {
                targets.is_empty() || !on_one || targets.iter().any(|target| target.as_str() == "hand-unit")
            };
            let mut needs = project.needs.iter().filter(|need| need.name == *graph.nodes[edge.to].name());
            let is_told = needs.any(|need| project.targets.is_empty() || is_here(&need.targets));
            prop_assert!(is_told && is_here(&project.targets), "a need on another target: {edge:?}");
        }
    }

    #[test]
    fn only_what_leads_to_a_package_is_on_the_ways_to_it(lock in any_lock(), goal in any::<usize>()) {
        let machine = Target::this_machine();
        let whole = Graph::of(&lock, &View { scope: Scope::all(&machine), to: None, depth: None });
        let goal = &lock.packages[goal % lock.packages.len()].name;
        let leads = |from: usize| {
            let (mut seen, mut open) = (BTreeSet::new(), vec![from]);
            while let Some(node) = open.pop() {
                if seen.insert(node) {
                    open.extend(whole.edges.iter().filter(|edge| edge.from == node).map(|edge| edge.to));
                }
            }
            seen.iter().any(|node| whole.nodes[*node].name() == goal)
        };
        let expected: BTreeSet<&PackageName> =
            (0..whole.nodes.len()).filter(|node| leads(*node)).map(|node| whole.nodes[node].name()).collect();
        let paths = Graph::of(&lock, &View { scope: Scope::all(&machine), to: Some(goal), depth: None });
        prop_assert_eq!(paths.nodes.iter().map(Node::name).collect::<BTreeSet<_>>(), expected);
    }
}
