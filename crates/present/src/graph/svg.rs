//! A graph as a picture (SVG 1.1): projects on the left, what they need to the right of them.

use std::fmt::Write as _;

use super::layers::{Cell, Layers, Line};
use bibliotax_core::graph::{Graph, GraphCharter, Node};

/// Sizes in pixels of the picture as it is: of letters (of one width), of boxes, and of the room around them.
const LETTER: f64 = 7.3;
const BOX: f64 = 22.0;
const ROOM: f64 = 30.0;
const BEND_ROOM: f64 = 10.0;
const BETWEEN: f64 = 64.0;
const PADDING: f64 = 9.0;
const MARGIN: f64 = 16.0;
/// How wide a box of the legend is.
const SAMPLE: f64 = 40.0;

const STYLE: &str = "text{font:12px ui-monospace,'DejaVu Sans Mono',monospace;fill:#242227}\
.back{fill:#faf9f7}.line{fill:none;stroke:#8b8791;stroke-width:1.2}.tip{fill:#8b8791}\
rect.node{fill:#f1eff3;stroke:#6f6a78}rect.project{fill:#6b3a62;stroke:#6b3a62}text.project{fill:#fff;font-weight:bold}\
.stand-in{stroke-dasharray:4 3;stroke-width:2}.beside{stroke-dasharray:1 3}rect.bound{stroke-width:2.6}.circle{stroke-dasharray:5 3}\
@media(prefers-color-scheme:dark){text{fill:#e8e5ea}.back{fill:#17161a}.line{stroke:#7b7685}.tip{fill:#7b7685}\
rect.node{fill:#2a2730;stroke:#8e8998}rect.project{fill:#d3a6cb;stroke:#d3a6cb}text.project{fill:#241522}}";

/// A picture of a graph.
pub fn svg(graph: &Graph<'_>) -> String {
    Picture::of(graph).drawn()
}

struct Picture<'g> {
    graph: &'g Graph<'g>,
    layers: Layers,
    /// Where each layer begins and how wide it is.
    columns: Vec<(f64, f64)>,
}

impl<'g> Picture<'g> {
    fn of(graph: &'g Graph<'g>) -> Self {
        let layers = Layers::of(graph, ROOM, BEND_ROOM);
        let mut columns = Vec::new();
        let mut at = MARGIN;
        for cells in &layers.cells {
            let widths = cells.iter().map(|cell| match cell {
                Cell::Node(node) => width(&graph.nodes[*node].label()),
                Cell::Bend(_) => 0.0,
            });
            let width = widths.fold(0.0, f64::max);
            columns.push((at, width));
            at += width + BETWEEN;
        }
        Self { graph, layers, columns }
    }

    fn drawn(&self) -> String {
        let right = self.columns.last().map_or(0.0, |(at, width)| at + width);
        let lowest = self.layers.heights.iter().flatten().copied().fold(0.0, f64::max);
        let beside = self.graph.is_beside();
        let legend = self.legend(&beside);
        let words = legend.iter().map(|(_, words)| SAMPLE + width(words));
        let width = words.fold(right, |widest, words| widest.max(MARGIN + words)) + MARGIN;
        let below = lowest + BOX + 2.0 * MARGIN;
        let height = below + legend.len() as f64 * ROOM;
        let packages = self.graph.nodes.iter().filter(|node| node.package().is_some()).count();
        let mut text = String::new();
        // Writing into a text can't fail.
        let _ = writeln!(
            text,
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width:.0}\" height=\"{height:.0}\" viewBox=\"0 0 {width:.0} {height:.0}\" role=\"img\">\n\
             <title>Dependency graph: {packages} packages</title>\n<style>{STYLE}</style>\n\
             <rect class=\"back\" width=\"100%\" height=\"100%\"/>"
        );
        self.layers.lines.iter().for_each(|line| self.draw_line(&mut text, line));
        for (layer, cells) in self.layers.cells.iter().enumerate() {
            for (place, cell) in cells.iter().enumerate() {
                if let Cell::Node(node) = cell {
                    self.draw_node(&mut text, *node, (layer, place), beside[*node]);
                }
            }
        }
        for (number, (class, words)) in legend.iter().enumerate() {
            let y = below + number as f64 * ROOM;
            let _ = writeln!(
                text,
                "<rect class=\"{class}\" x=\"{MARGIN}\" y=\"{y:.1}\" width=\"{SAMPLE}\" height=\"{BOX}\" rx=\"5\"/>\
                 <text x=\"{:.1}\" y=\"{:.1}\">{words}</text>",
                MARGIN + SAMPLE + PADDING,
                y + BOX / 2.0 + 4.0
            );
        }
        text.push_str("</svg>\n");
        text
    }

    /// What boxes with special outlines mean, as far as there are any: the class of each, and the words.
    fn legend(&self, beside: &[bool]) -> Vec<(&'static str, &'static str)> {
        let packages = || {
            let nodes = self.graph.nodes.iter().zip(beside);
            nodes.filter_map(|(node, is_beside)| Some((node.package()?.stood_in, *is_beside)))
        };
        let stand_in = packages().any(|(stood_in, _)| stood_in);
        let is_beside = packages().any(|(stood_in, is_beside)| is_beside && !stood_in);
        let beside = is_beside.then_some(("node beside", "not needed to run"));
        let stand_in = stand_in.then_some(("node stand-in", "stand-in"));
        let is_bound = self.graph.charters.iter().any(|charter| !charter.binds.is_empty());
        let bound = is_bound.then_some(("node bound", "bound by a charter"));
        beside.into_iter().chain(stand_in).chain(bound).collect()
    }

    /// What charters allow of a node, a sentence each.
    fn bound_by(&self, number: usize) -> Vec<String> {
        let sentence = |charter: &GraphCharter<'_>| {
            let (_, range) = charter.binds.iter().find(|(node, _)| *node == number)?;
            Some(format!("the charter {} allows {range}", charter.charter.release()))
        };
        self.graph.charters.iter().filter_map(sentence).collect()
    }

    /// The middle of a cell, from top to bottom.
    fn height(&self, (layer, place): (usize, usize)) -> f64 {
        MARGIN + BOX / 2.0 + self.layers.heights[layer][place]
    }

    fn draw_node(&self, text: &mut String, number: usize, cell: (usize, usize), is_beside: bool) {
        let node = &self.graph.nodes[number];
        let label = node.label();
        let (x, y, width) = (self.columns[cell.0].0, self.height(cell), width(&label));
        let (kind, more) = match node {
            Node::Project(_) => ("project", ""),
            Node::Package(package) if package.stood_in => ("node", " stand-in"),
            Node::Package(_) if is_beside => ("node", " beside"),
            Node::Package(_) => ("node", ""),
        };
        let bound = self.bound_by(number);
        let (more, end) = match bound.as_slice() {
            [] => (more.to_owned(), "/>".to_owned()),
            all => (format!("{more} bound"), format!("><title>{}</title></rect>", escaped(&all.join("; ")))),
        };
        let _ = writeln!(
            text,
            "<rect class=\"{kind}{more}\" x=\"{x:.1}\" y=\"{:.1}\" width=\"{width:.1}\" height=\"{BOX}\" rx=\"5\"{end}\
             <text class=\"{kind}\" x=\"{:.1}\" y=\"{:.1}\">{}</text>",
            y - BOX / 2.0,
            x + PADDING,
            y + 4.0,
            escaped(&label)
        );
    }

    /// A need: a curve from box to box, level where it passes a layer.
    fn draw_line(&self, text: &mut String, line: &Line) {
        let (from, to) = line.ends;
        let Some((first, rest)) = line.cells.split_first() else { return };
        let begin = self.columns[first.0].0 + width(&self.graph.nodes[from].label());
        let (mut x, mut y) = (begin, self.height(*first));
        let mut path = format!("M{x:.1} {y:.1}");
        // Beside narrower boxes of its layer, it begins with a level stretch.
        let edge = self.columns[first.0].0 + self.columns[first.0].1;
        if edge > x {
            let _ = write!(path, "H{edge:.1}");
            x = edge;
        }
        for (step, cell) in rest.iter().enumerate() {
            let (left, width) = self.columns[cell.0];
            let height = self.height(*cell);
            let middle = f64::midpoint(x, left);
            let _ = write!(path, "C{middle:.1} {y:.1} {middle:.1} {height:.1} {left:.1} {height:.1}");
            (x, y) = (left, height);
            if step + 1 < rest.len() {
                let _ = write!(path, "H{:.1}", left + width);
                x = left + width;
            }
        }
        let names = [from, to].map(|node| escaped(&self.graph.nodes[node].label()));
        let [needing, needed] =
            if line.is_backward { [&names[1], &names[0]] } else { [&names[0], &names[1]] };
        let circle = if line.is_backward { " circle" } else { "" };
        let tip = if line.is_backward {
            format!("M{begin:.1} {:.1}l6 -3.5v7z", self.height(*first))
        } else {
            format!("M{x:.1} {y:.1}l-6 -3.5v7z")
        };
        let _ = writeln!(
            text,
            "<path class=\"line{circle}\" d=\"{path}\"><title>{needing} needs {needed}</title></path><path class=\"tip\" d=\"{tip}\"/>"
        );
    }
}

fn width(label: &str) -> f64 {
    label.chars().count() as f64 * LETTER + 2.0 * PADDING
}

/// A text as XML takes it for what it is.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
