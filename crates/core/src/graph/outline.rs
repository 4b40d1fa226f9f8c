//! A graph as indented lines.
//!
//! What a package needs stands under it once: where it is nearest to a project, and first among such places.

use std::collections::BTreeSet;

use super::Graph;

/// A line of an outline.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// How far in it stands.
    pub depth: usize,
    /// The number of the node.
    pub node: usize,
    /// What it is needed for here, beside running.
    pub purpose: Option<String>,
    /// Whether what it needs stands elsewhere.
    pub is_folded: bool,
}

/// The lines of a graph.
pub fn outline(graph: &Graph<'_>) -> Vec<Line> {
    let depths = graph.depths();
    let needed = ordered(graph);
    let mut shown = BTreeSet::new();
    let mut lines = Vec::new();
    // Without recursion, for paths may be long: the last of the open ones comes next.
    let projects: Vec<usize> = graph.projects().collect();
    let mut open: Vec<(usize, usize, Option<String>)> =
        projects.into_iter().rev().map(|project| (0, project, None)).collect();
    while let Some((depth, node, purpose)) = open.pop() {
        let is_nearest = depths[node] == Some(depth) && shown.insert(node);
        let is_folded = !is_nearest && !needed[node].is_empty();
        lines.push(Line { depth, node, purpose, is_folded });
        if is_nearest {
            let below = needed[node].iter().rev();
            open.extend(below.map(|(next, purpose)| (depth + 1, *next, purpose.clone())));
        }
    }
    lines
}

/// What each node needs, with what for: first what is for running, each by name.
fn ordered(graph: &Graph<'_>) -> Vec<Vec<(usize, Option<String>)>> {
    let mut needed: Vec<Vec<(usize, Option<String>)>> = vec![Vec::new(); graph.nodes.len()];
    for edge in &graph.edges {
        let purpose = edge.purpose.map(ToString::to_string);
        if !needed[edge.from].iter().any(|(to, _)| *to == edge.to) {
            needed[edge.from].push((edge.to, purpose));
        }
    }
    for needs in &mut needed {
        needs.sort_by(|(one, for_one), (other, for_other)| {
            for_one.cmp(for_other).then_with(|| graph.nodes[*one].name().cmp(graph.nodes[*other].name()))
        });
    }
    needed
}
