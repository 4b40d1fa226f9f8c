//! Graphs of packages in DOT, in Mermaid and as SVG.

mod dot;
mod layers;
mod mermaid;
mod picture;
mod svg;
#[cfg(test)]
mod tests;

use bibliotax_core::graph::Edge;
use bibliotax_core::lock::RUN;
use bibliotax_core::name::Purpose;

pub use self::dot::dot;
pub use self::mermaid::mermaid;
pub use self::svg::{STYLE, linked_svg, svg};

/// What a need is for, in a word.
fn purpose(edge: &Edge<'_>) -> String {
    edge.purpose.map_or(RUN, Purpose::as_str).to_owned()
}
