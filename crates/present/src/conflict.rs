//! Why no set of releases satisfies all needs, as sentences.

use bibliotax_core::resolve::{Conflict, Sentence};

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
