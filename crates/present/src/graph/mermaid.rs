//! A graph in the Mermaid language, which pages of many code hosts draw.

use std::fmt::Write as _;

use bibliotax_core::graph::{Graph, GraphCharter, Node};

use super::purpose;

/// The graph as a Mermaid text.
pub fn mermaid(graph: &Graph<'_>) -> String {
    let mut text = String::from("flowchart LR\n");
    for (number, node) in graph.nodes.iter().enumerate() {
        let label = quoted(&node.label());
        // Writing into a text can't fail.
        let _ = match node {
            Node::Project(_) => writeln!(text, "  n{number}([{label}])"),
            Node::Package(_) => writeln!(text, "  n{number}[{label}]"),
        };
    }
    for edge in &graph.edges {
        let _ = match edge.purpose {
            Some(_) => writeln!(text, "  n{} -. {} .-> n{}", edge.from, purpose(edge), edge.to),
            None => writeln!(text, "  n{} --> n{}", edge.from, edge.to),
        };
    }
    for (number, GraphCharter { charter, binds }) in graph.charters.iter().enumerate() {
        let _ = writeln!(text, "  c{number}[/{}/]", quoted(&format!("charter {}", charter.release())));
        for (node, range) in binds {
            let _ = writeln!(text, "  c{number} -. {} .-> n{node}", quoted(&range.to_string()));
        }
    }
    text
}

/// A text in quotes, with what would end it or mean something as an entity.
fn quoted(text: &str) -> String {
    let escape = |c: char| match c {
        '"' | '#' | '<' | '>' | '&' => format!("#{};", u32::from(c)),
        c => c.to_string(),
    };
    format!("\"{}\"", text.chars().map(escape).collect::<String>())
}
