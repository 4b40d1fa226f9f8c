//! Suggestions: the known names nearest to an unknown one.

use std::ops::Range;

use crate::fault::{Fault, MAX_SHOWN};
use crate::fix::Fix;

/// Longest word, in bytes, that a near one is sought for: names are far shorter.
const MAX_WORD_LEN: usize = 200;

/// Most words that are listed as possible at a place.
const MAX_LISTED: usize = 20;

/// Most words that are fixes: of more, a person reads the list.
const MAX_FIXES: usize = 5;

/// The candidates most like `word`, best first, at most `most` of them; none when all are far off.
///
/// Likeness is edit distance with swaps, so that a typo, a swap or a missing letter still finds its word;
/// a candidate that starts with the whole word counts as near, too.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>, most: usize) -> Vec<&'a str> {
    if word.len() > MAX_WORD_LEN {
        return Vec::new();
    }
    let reach = 1 + word.chars().count() / 4;
    let mut near: Vec<(usize, &str)> = candidates
        .into_iter()
        .filter_map(|candidate| {
            let mut distance = strsim::damerau_levenshtein(word, candidate);
            if let Some((_, name)) = candidate.rsplit_once('/').filter(|_| !word.contains('/')) {
                // Only the scope is missing, or that and a letter.
                distance = distance.min(strsim::damerau_levenshtein(word, name).max(1));
            }
            if word.len() >= 3 && candidate.starts_with(word) {
                distance = distance.min(reach);
            }
            (distance <= reach).then_some((distance, candidate))
        })
        .collect();
    near.sort_unstable();
    near.dedup();
    near.truncate(most);
    near.into_iter().map(|(_, candidate)| candidate).collect()
}

/// `a`, `a or b`, `a, b or c`: the words in backticks, as a sentence lists them.
pub fn either<S: AsRef<str>>(words: &[S]) -> String {
    let quoted: Vec<String> = words.iter().map(|word| format!("`{}`", word.as_ref())).collect();
    match quoted.split_last() {
        None => String::new(),
        Some((only, [])) => only.clone(),
        Some((last, rest)) => format!("{} or {last}", rest.join(", ")),
    }
}

/// Where the word stands that a fault is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum WordAt {
    /// At the fault's own place.
    Fault,
    /// In quotes, somewhere behind the fault's place.
    BehindFault,
    /// At another place.
    Place(Range<usize>),
}

/// Takes note of a fault about a word, if it will be shown with what was probably meant by the word, or else with all that would be valid.
pub(crate) fn push_with_nearest<'a>(
    faults: &mut Vec<Fault>,
    fault: Fault,
    (word, at): (&str, WordAt),
    known: impl Iterator<Item = &'a str> + Clone,
) {
    let is_shown = faults.len() < MAX_SHOWN;
    faults.push(if is_shown { with_nearest(fault, (word, at), known) } else { fault });
}

/// A fault about a word, with what was probably meant by it, or else with all that would be valid.
pub(crate) fn with_nearest<'a>(
    fault: Fault,
    (word, at): (&str, WordAt),
    known: impl Iterator<Item = &'a str> + Clone,
) -> Fault {
    let near = nearest(word, known.clone(), 2);
    let all: Vec<&str> = known.take(MAX_LISTED + 1).collect();
    let (advice, words) = match (near.is_empty(), all.len()) {
        (false, _) => (either(&near), near),
        (true, 1..=MAX_LISTED) => (format!("valid here: {}", either(&all)), all),
        _ => return fault,
    };
    let place = fault.span.clone();
    let fix = |text: &&str| {
        let text = (*text).to_owned();
        match &at {
            WordAt::Fault => Fix::Write { span: place.clone(), text },
            WordAt::Place(span) => Fix::Write { span: span.clone(), text },
            WordAt::BehindFault => Fix::WriteBehind { place: place.end, word: word.to_owned(), text },
        }
    };
    let fixes = if words.len() <= MAX_FIXES { words.iter().map(fix).collect() } else { Vec::new() };
    fault.offering(fixes).advice(advice)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finds_typos_swaps_and_beginnings_but_not_strangers() {
        let names = ["rain-ledger", "soil-probe", "soil-curve", "dew-point"];
        assert_eq!(nearest("rain-leger", names, 3), ["rain-ledger"]);
        assert_eq!(nearest("dew-piont", names, 3), ["dew-point"]);
        assert_eq!(nearest("soil", names, 3), ["soil-curve", "soil-probe"]);
        assert!(nearest("moss-map", names, 3).is_empty());
    }

    #[test]
    fn lists_words_as_a_sentence_does() {
        assert_eq!(either(&["a"]), "`a`");
        assert_eq!(either(&["a", "b", "c"]), "`a`, `b` or `c`");
    }
}
