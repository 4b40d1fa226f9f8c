//! A graph in the DOT language, which many programs lay out.

use std::fmt::Write as _;

use bibliotax_core::graph::{Graph, GraphCharter, Node};

use super::purpose;

/// The graph as a DOT text.
pub fn dot(graph: &Graph<'_>) -> String {
    let mut text = String::from("digraph packages {\n  rankdir=LR;\n  node [shape=box, style=rounded];\n");
    let beside = graph.is_beside();
    for (number, node) in graph.nodes.iter().enumerate() {
        let look = match node {
            Node::Project(_) => ", style=\"rounded,bold\"",
            Node::Package(package) if package.stood_in => ", style=\"rounded,dashed\"",
            Node::Package(_) if beside[number] => ", style=\"rounded,dotted\"",
            Node::Package(_) => "",
        };
        // Writing into a text can't fail.
        let _ = writeln!(text, "  n{number} [label={}{look}];", quoted(&node.label()));
    }
    for edge in &graph.edges {
        let look = match edge.purpose {
            Some(_) => format!(" [label={}, style=dotted]", quoted(&purpose(edge))),
            None => String::new(),
        };
        let _ = writeln!(text, "  n{} -> n{}{look};", edge.from, edge.to);
    }
    for (number, GraphCharter { charter, binds }) in graph.charters.iter().enumerate() {
        let label = quoted(&format!("charter {}", charter.release()));
        let _ = writeln!(text, "  c{number} [label={label}, shape=note];");
        for (node, range) in binds {
            let label = quoted(&range.to_string());
            let _ = writeln!(text, "  c{number} -> n{node} [label={label}, style=dashed, constraint=false];");
        }
    }
    text.push_str("}\n");
    text
}

/// A text as DOT takes it for what it is.
fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
