//! Where everything of a picture of a graph stands, in whole pixels: boxes in columns, and the curves between them.

use std::fmt::Write as _;

use bibliotax_core::graph::{Graph, GraphCharter, Node};

use super::layers::{Cell, Layers, Line};

/// Sizes in pixels: of letters (of one width), of boxes, and of the room around them.
const LETTER: f64 = 7.3;
pub const BOX: i64 = 22;
pub const ROOM: i64 = 30;
const BEND_ROOM: i64 = 10;
const BETWEEN: i64 = 64;
pub const PADDING: i64 = 9;
pub const MARGIN: i64 = 16;

/// A graph with the places of its boxes.
pub struct Picture<'g> {
    /// The graph.
    pub graph: &'g Graph<'g>,
    layers: Layers,
    /// Where each layer begins and how wide it is.
    columns: Vec<(i64, i64)>,
    /// Which nodes are needed only beside running.
    pub beside: Vec<bool>,
}

/// The box of a node.
#[derive(Debug, Clone, Copy)]
pub struct NodeBox {
    /// The node's number.
    pub node: usize,
    /// Its left edge.
    pub x: i64,
    /// Its middle, from top to bottom.
    pub y: i64,
    /// How wide it is.
    pub width: i64,
}

/// A need as a curve.
#[derive(Debug, Clone)]
pub struct Curve {
    /// The node that needs.
    pub needing: usize,
    /// The node that is needed.
    pub needed: usize,
    /// Whether it leads from right to left, because nodes need each other in a circle.
    pub is_backward: bool,
    /// The way as SVG writes paths (SVG 1.1, section 8.3).
    pub path: String,
    /// The point where the needed box begins.
    pub tip: (i64, i64),
}

impl<'g> Picture<'g> {
    /// The picture of a graph.
    pub fn of(graph: &'g Graph<'g>) -> Self {
        let layers = Layers::of(graph, ROOM as f64, BEND_ROOM as f64);
        let mut columns = Vec::new();
        let mut at = MARGIN;
        for cells in &layers.cells {
            let widths = cells.iter().map(|cell| match cell {
                Cell::Node(node) => width(&graph.nodes[*node].label()),
                Cell::Bend(_) => 0,
            });
            let width = widths.max().unwrap_or(0);
            columns.push((at, width));
            at += width + BETWEEN;
        }
        Self { graph, layers, columns, beside: graph.is_beside() }
    }

    /// The right edge of the last box, and the lower edge of the lowest.
    pub fn edges(&self) -> (i64, i64) {
        let right = self.columns.last().map_or(0, |(at, width)| at + width);
        let lowest = self.layers.heights.iter().flatten().copied().fold(0.0, f64::max);
        (right, MARGIN + BOX + pixels(lowest))
    }

    /// The boxes, column by column from top to bottom.
    pub fn boxes(&self) -> impl Iterator<Item = NodeBox> + '_ {
        let of_layer = |(layer, cells): (usize, &'_ Vec<Cell>)| -> Vec<NodeBox> {
            let boxes = cells.iter().enumerate().filter_map(|(place, cell)| {
                let Cell::Node(node) = cell else { return None };
                let width = width(&self.graph.nodes[*node].label());
                Some(NodeBox { node: *node, x: self.columns[layer].0, y: self.height((layer, place)), width })
            });
            boxes.collect()
        };
        self.layers.cells.iter().enumerate().flat_map(of_layer)
    }

    /// The needs.
    pub fn curves(&self) -> impl Iterator<Item = Curve> + '_ {
        self.layers.lines.iter().filter_map(|line| self.curve(line))
    }

    /// The classes of a node's box and text, beside the one of its kind.
    pub fn classes(&self, node: usize) -> (&'static str, &'static str) {
        match &self.graph.nodes[node] {
            Node::Project(_) => ("project", ""),
            Node::Package(package) if package.stood_in => ("node", " stand-in"),
            Node::Package(_) if self.beside[node] => ("node", " beside"),
            Node::Package(_) => ("node", ""),
        }
    }

    /// What charters allow of a node, a sentence each.
    pub fn bound_by(&self, number: usize) -> Vec<String> {
        let sentence = |charter: &GraphCharter<'_>| {
            let (_, range) = charter.binds.iter().find(|(node, _)| *node == number)?;
            Some(format!("the charter {} allows {range}", charter.charter.release()))
        };
        self.graph.charters.iter().filter_map(sentence).collect()
    }

    /// What boxes with special outlines mean, as far as there are any: the classes of each, and the words.
    pub fn legend(&self) -> Vec<(&'static str, &'static str)> {
        let classes: Vec<(&str, &str)> = (0..self.graph.nodes.len()).map(|node| self.classes(node)).collect();
        let has = |more: &str| classes.iter().any(|(_, one)| *one == more);
        let is_bound = self.graph.charters.iter().any(|charter| !charter.binds.is_empty());
        let all = [
            (has(" beside"), "node beside", "not needed to run"),
            (has(" stand-in"), "node stand-in", "stand-in"),
            (is_bound, "node bound", "bound by a charter"),
        ];
        all.into_iter()
            .filter(|(is_there, ..)| *is_there)
            .map(|(_, classes, words)| (classes, words))
            .collect()
    }

    /// The middle of a cell, from top to bottom.
    fn height(&self, (layer, place): (usize, usize)) -> i64 {
        MARGIN + BOX / 2 + pixels(self.layers.heights[layer][place])
    }

    /// A need: a curve from box to box, level where it passes a layer.
    fn curve(&self, line: &Line) -> Option<Curve> {
        let (from, to) = line.ends;
        let (first, rest) = line.cells.split_first()?;
        let begin = (self.columns[first.0].0 + width(&self.graph.nodes[from].label()), self.height(*first));
        let (mut x, mut y) = begin;
        let mut path = format!("M{x} {y}");
        // Beside narrower boxes of its layer, it begins with a level stretch. Writing into a text can't fail.
        let edge = self.columns[first.0].0 + self.columns[first.0].1;
        if edge > x {
            let _ = write!(path, "h{}", edge - x);
            x = edge;
        }
        for (step, cell) in rest.iter().enumerate() {
            let (left, width) = self.columns[cell.0];
            let (right, down) = (left - x, self.height(*cell) - y);
            let _ = if down == 0 {
                write!(path, "h{right}")
            } else {
                // A sign parts numbers as well as a blank does.
                let blank = if down > 0 { " " } else { "" };
                write!(path, "c{0} 0 {0}{blank}{down} {right}{blank}{down}", right / 2)
            };
            (x, y) = (left, y + down);
            if step + 1 < rest.len() {
                let _ = write!(path, "h{width}");
                x = left + width;
            }
        }
        let is_backward = line.is_backward;
        let (needing, needed) = if is_backward { (to, from) } else { (from, to) };
        let tip = if is_backward { begin } else { (x, y) };
        Some(Curve { needing, needed, is_backward, path, tip })
    }
}

/// How wide a text is in a box.
pub fn width(label: &str) -> i64 {
    pixels((label.chars().count() as f64 * LETTER).ceil()) + 2 * PADDING
}

#[expect(clippy::cast_possible_truncation, reason = "pictures are not wider than numbers go")]
fn pixels(length: f64) -> i64 {
    length.round() as i64
}
