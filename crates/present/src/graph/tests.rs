//! Graphs of small locks, drawn in every form.

use bibliotax_core::facet::Target;
use bibliotax_core::graph::{Graph, View};
use bibliotax_core::lock::samples::{any_lock, garden_lock};
use bibliotax_core::lock::{Lock, Scope};
use proptest::prelude::*;

use super::*;

#[test]
fn packages_that_need_each_other_are_drawn_with_one_line_back() {
    let mut lock = garden_lock();
    lock.packages[0].needs = vec!["moss".parse().unwrap()];
    let machine = Target::this_machine();
    let graph = Graph::of(&lock, &View { scope: Scope::all(&machine), to: None, depth: None });
    assert_eq!(svg(&graph).matches("class=\"line circle\"").count(), 1);
    assert_eq!(svg(&graph).matches("class=\"line").count(), 8);
}

#[test]
fn other_programs_are_told_the_same() {
    let lock = garden_lock();
    let machine = Target::this_machine();
    let graph = Graph::of(&lock, &View { scope: Scope::all(&machine), to: None, depth: Some(1) });
    insta::assert_snapshot!(dot(&graph), @r#"
    digraph packages {
      rankdir=LR;
      node [shape=box, style=rounded];
      n0 [label="kiosk", style="rounded,bold"];
      n1 [label="hand", style="rounded,bold"];
      n2 [label="moss 2"];
      n3 [label="probe 0.9", style="rounded,dotted"];
      n0 -> n2;
      n1 -> n2;
      n1 -> n3 [label="test", style=dotted];
    }
    "#);
    insta::assert_snapshot!(mermaid(&graph), @r#"
    flowchart LR
      n0(["kiosk"])
      n1(["hand"])
      n2["moss 2"]
      n3["probe 0.9"]
      n0 --> n2
      n1 --> n2
      n1 -. test .-> n3
    "#);
}

#[test]
fn in_a_picture_needs_lead_to_the_right_and_boxes_stand_apart() {
    let lock = garden_lock();
    let machine = Target::this_machine();
    let graph = Graph::of(&lock, &View { scope: Scope::all(&machine), to: None, depth: None });
    let layers = layers::Layers::of(&graph, 30.0, 10.0);
    for line in &layers.lines {
        assert!(line.cells.windows(2).all(|pair| pair[1].0 == pair[0].0 + 1), "{line:?}");
    }
    for (cells, heights) in layers.cells.iter().zip(&layers.heights) {
        let nodes: Vec<f64> = cells
            .iter()
            .zip(heights)
            .filter(|(cell, _)| matches!(cell, layers::Cell::Node(_)))
            .map(|(_, height)| *height)
            .collect();
        assert!(nodes.windows(2).all(|pair| pair[1] - pair[0] >= 29.9), "{nodes:?}");
    }
    assert_eq!(svg(&graph), svg(&graph));
}

#[test]
fn a_picture_explains_broken_outlines_as_far_as_it_has_any() {
    let mut lock = garden_lock();
    let machine = Target::this_machine();
    let drawn =
        |lock: &Lock| svg(&Graph::of(lock, &View { scope: Scope::all(&machine), to: None, depth: None }));
    assert!(drawn(&lock).contains(">not needed to run<") && !drawn(&lock).contains(">stand-in<"));
    lock.packages[0].stood_in = true;
    assert!(drawn(&lock).contains(">stand-in<"));
    lock.projects[1].needs.iter_mut().for_each(|need| need.purpose = None);
    assert!(!drawn(&lock).contains(">not needed to run<"));
}

proptest! {
    #[test]
    fn a_picture_of_any_graph_has_each_box_once_and_leads_to_the_right(lock in any_lock()) {
        let machine = Target::this_machine();
        let graph = Graph::of(&lock, &View { scope: Scope::all(&machine), to: None, depth: None });
        let layers = layers::Layers::of(&graph, 30.0, 10.0);
        let boxes = layers.cells.iter().flatten().filter_map(|cell| match cell {
            layers::Cell::Node(node) => Some(*node),
            _ => None,
        });
        let mut boxes: Vec<usize> = boxes.collect();
        boxes.sort_unstable();
        prop_assert_eq!(boxes, (0..graph.nodes.len()).collect::<Vec<_>>());
        for line in &layers.lines {
            prop_assert!(line.cells.windows(2).all(|pair| pair[1].0 == pair[0].0 + 1));
        }
        let linked = linked_svg(&graph, "all", |node| format!("#{node}"));
        for node in 0..graph.nodes.len() {
            prop_assert_eq!(linked.matches(&format!("<a data-n=\"{node}\" href=\"#{node}\">")).count(), 1);
        }
        for (from, needed) in graph.needed().iter().enumerate() {
            for to in needed.iter().filter(|to| **to != from) {
                prop_assert_eq!(linked.matches(&format!("data-e=\"{from} {to}\"")).count(), 1);
            }
        }
        for heights in &layers.heights {
            prop_assert!(heights.windows(2).all(|pair| pair[1] > pair[0]), "{heights:?}");
        }
    }
}
