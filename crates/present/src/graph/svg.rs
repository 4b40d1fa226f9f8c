//! A graph as a picture (SVG 1.1): projects on the left, what they need to the right of them. Alone in a file, or as part of a page.

use std::fmt::Write as _;

use bibliotax_core::escape::in_xml;
use bibliotax_core::graph::Graph;

use super::picture::{BOX, Curve, MARGIN, NodeBox, PADDING, Picture, ROOM, width};

/// How wide a box of the legend is.
const SAMPLE: i64 = 40;

/// How everything in a picture looks, in CSS. What is part of a page takes it from there.
pub const STYLE: &str = "text{font:12px ui-monospace,'DejaVu Sans Mono',monospace;fill:#242227}\
.back{fill:#faf9f7}.line{fill:none;stroke:#8b8791;stroke-width:1.2}.tip{fill:#8b8791}\
rect.node{fill:#f1eff3;stroke:#6f6a78}rect.project{fill:#6b3a62;stroke:#6b3a62}text.project{fill:#fff;font-weight:bold}\
.stand-in{stroke-dasharray:4 3;stroke-width:2}.beside{stroke-dasharray:1 3}rect.bound{stroke-width:2.6}.circle{stroke-dasharray:5 3}\
@media(prefers-color-scheme:dark){text{fill:#e8e5ea}.back{fill:#17161a}.line{stroke:#7b7685}.tip{fill:#7b7685}\
rect.node{fill:#2a2730;stroke:#8e8998}rect.project{fill:#d3a6cb;stroke:#d3a6cb}text.project{fill:#241522}}";

/// A picture of a graph, for a file.
pub fn svg(graph: &Graph<'_>) -> String {
    let picture = Picture::of(graph);
    let (width, height) = size(&picture);
    let mut text = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {width} {height}\" role=\"img\">\n\
         <title>Dependency graph: {} packages</title>\n<style>{STYLE}</style>\n\
         <rect class=\"back\" width=\"100%\" height=\"100%\"/>\n",
        graph.nodes.iter().filter(|node| node.package().is_some()).count()
    );
    let named = |node: usize| in_xml(&graph.nodes[node].label());
    for Curve { needing, needed, is_backward, path, tip: (x, y) } in picture.curves() {
        let (circle, back) = if is_backward { (" circle", "") } else { ("", "-") };
        // Writing into a text can't fail.
        let _ = writeln!(
            text,
            "<path class=\"line{circle}\" d=\"{path}\"><title>{} needs {}</title></path>\
             <path class=\"tip\" d=\"M{x} {y}l{back}6 -3.5v7z\"/>",
            named(needing),
            named(needed),
        );
    }
    for drawn in picture.boxes() {
        draw_box(&mut text, &picture, drawn);
        text.push('\n');
    }
    draw_legend(&mut text, &picture);
    text.push_str("</svg>\n");
    text
}

/// A picture of a graph as part of an HTML page: each box is a link to the place that `link` has for its node, and each need has the
/// numbers of its nodes (`data-e`), which the links have too (`data-n`). The page has [`STYLE`].
pub fn linked_svg(graph: &Graph<'_>, label: &str, link: impl Fn(usize) -> String) -> String {
    let picture = Picture::of(graph);
    let (width, height) = size(&picture);
    let mut text = format!(
        "<svg width=\"{width}\" height=\"{height}\" viewBox=\"0 0 {width} {height}\" role=\"group\" aria-label=\"{}\">\n",
        in_xml(label)
    );
    text.push_str("<g class=\"line\">\n");
    for Curve { needing, needed, is_backward, path, tip: (x, y) } in picture.curves() {
        let circle = if is_backward { "class=\"circle\" " } else { "" };
        let tip = if is_backward { "l6-4m-6 4l6 4" } else { "l-6-4m6 4l-6 4" };
        let _ = writeln!(text, "<path {circle}data-e=\"{needing} {needed}\" d=\"{path}M{x} {y}{tip}\"/>");
    }
    text.push_str("</g>\n");
    for drawn in picture.boxes() {
        let _ = write!(text, "<a data-n=\"{}\" href=\"{}\">", drawn.node, in_xml(&link(drawn.node)));
        draw_box(&mut text, &picture, drawn);
        text.push_str("</a>\n");
    }
    draw_legend(&mut text, &picture);
    text.push_str("</svg>\n");
    text
}

/// How wide and high a picture is, with its legend.
fn size(picture: &Picture<'_>) -> (i64, i64) {
    let ((right, lower), legend) = (picture.edges(), picture.legend());
    let words = legend.iter().map(|(_, words)| MARGIN + SAMPLE + width(words));
    (words.fold(right, i64::max) + MARGIN, lower + MARGIN + ROOM * i64::try_from(legend.len()).unwrap_or(0))
}

fn draw_box(text: &mut String, picture: &Picture<'_>, NodeBox { node, x, y, width }: NodeBox) {
    let (kind, more) = picture.classes(node);
    let bound = picture.bound_by(node);
    let (bound, end) = match bound.as_slice() {
        [] => ("", "/>".to_owned()),
        all => (" bound", format!("><title>{}</title></rect>", in_xml(&all.join("; ")))),
    };
    let _ = write!(
        text,
        "<rect class=\"{kind}{more}{bound}\" x=\"{x}\" y=\"{}\" width=\"{width}\" height=\"{BOX}\" rx=\"5\"{end}\
         <text class=\"{kind}\" x=\"{}\" y=\"{}\">{}</text>",
        y - BOX / 2,
        x + PADDING,
        y + 4,
        in_xml(&picture.graph.nodes[node].label())
    );
}

/// What boxes with special outlines mean.
fn draw_legend(text: &mut String, picture: &Picture<'_>) {
    let (_, lower) = picture.edges();
    let mut y = lower + MARGIN;
    for (class, words) in picture.legend() {
        let _ = writeln!(
            text,
            "<rect class=\"{class}\" x=\"{MARGIN}\" y=\"{y}\" width=\"{SAMPLE}\" height=\"{BOX}\" rx=\"5\"/>\
             <text x=\"{}\" y=\"{}\">{words}</text>",
            MARGIN + SAMPLE + PADDING,
            y + BOX / 2 + 4
        );
        y += ROOM;
    }
}
