//! Why no set of releases satisfies all needs, as sentences and as JSON.

use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Conflict, Sentence};
use serde_json::{Value, json};

/// Most sentences that are shown of a conflict unless all are asked for.
const MAX_SENTENCES: usize = 12;

/// The sentences of a conflict. Of a long one only the first and those nearest to the clash, unless all are wanted.
pub fn as_lines(conflict: &Conflict, full: bool) -> Vec<String> {
    cut(conflict.facts.iter().chain([&conflict.clash]), full)
}

/// The same without the question that it answers.
pub fn answer_lines(conflict: &Conflict, full: bool) -> Vec<String> {
    cut(conflict.without_question(), full)
}

fn cut<'c>(sentences: impl Iterator<Item = &'c Sentence>, full: bool) -> Vec<String> {
    let mut lines: Vec<String> = sentences.map(|sentence| sentence.text.clone()).collect();
    if !full && lines.len() > MAX_SENTENCES {
        let left_out = lines.drain(1..=lines.len() - MAX_SENTENCES).count();
        lines.insert(1, format!("({left_out} more sentences; --long shows them all)"));
    }
    lines
}

/// A conflict as a graph: packages, what leads from one to another, and where it ends.
pub fn as_json(conflict: &Conflict) -> Value {
    let mut nodes: Vec<&str> =
        conflict.facts.iter().flat_map(|fact| &fact.about).map(PackageName::as_str).collect();
    nodes.sort_unstable();
    nodes.dedup();
    let facts = conflict.facts.iter().map(|fact| {
        json!({ "from": fact.about.first(), "to": fact.about.last(), "text": fact.text, "question": fact.is_question })
    });
    let clash = json!({ "at": conflict.clash.about.first(), "text": conflict.clash.text });
    json!({ "nodes": nodes, "facts": facts.collect::<Vec<_>>(), "clash": clash, "minimal": conflict.is_minimal })
}
