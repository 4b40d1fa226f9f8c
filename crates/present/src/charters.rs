//! Charters and their changes, in words.

use bibliotax_core::charter::Charter;
use bibliotax_core::compare::{ChangedRange, CharterChange};

use crate::words::count;

/// A line for each charter: what became of it, and which ranges it changes.
pub fn changed(changes: &[CharterChange<'_>]) -> Vec<String> {
    let range = |range: &ChangedRange<'_>| match (range.old, range.new) {
        (Some(old), Some(new)) => format!("{} {old} -> {new}", range.of),
        (None, Some(new)) => format!("{} {new} added", range.of),
        (_, None) => format!("{} removed", range.of),
    };
    let line = |change: &CharterChange<'_>| {
        let name = &change.charter().name;
        match (change.old, change.new) {
            (Some(old), Some(new)) if old.version != new.version => {
                let ranges: Vec<String> = change.ranges().iter().map(range).collect();
                let rules = change.has_other_rules().then(|| "other rules".to_owned());
                let what: Vec<String> = ranges.into_iter().chain(rules).collect();
                let what = if what.is_empty() { String::new() } else { format!(": {}", what.join(", ")) };
                format!("{name} {} -> {}{what}", old.version, new.version)
            }
            (Some(_), Some(new)) => format!("{name} {}: another card", new.version),
            (None, Some(new)) => format!("{name} {} added: {}", new.version, summary(&new.charter)),
            (_, None) => format!("{name} gone"),
        }
    };
    changes.iter().map(line).collect()
}

/// What a charter states, in numbers: `12 ranges, 1 family, rules`.
pub fn summary(charter: &Charter) -> String {
    let numbers = [
        (charter.ranges.len(), "range"),
        (charter.families.len(), "family"),
        (charter.capabilities.len(), "provider"),
    ];
    let counted = numbers.into_iter().filter(|(number, _)| *number > 0);
    let counted = counted.map(|(number, what)| match (number, what) {
        (1, what) => format!("1 {what}"),
        (number, "family") => format!("{number} families"),
        (number, what) => count(number, what),
    });
    let rules = (!charter.rules.is_silent()).then(|| "rules".to_owned());
    counted.chain(rules).collect::<Vec<_>>().join(", ")
}

/// All that a charter states: `dew-point 1.4 .. 2, the family pergola 2.4, moss-map for map-tiles, rules`.
pub fn stated(charter: &Charter) -> String {
    let ranges = charter.ranges.iter().map(|(name, range)| format!("{name} {range}"));
    let families = charter.families.iter().map(|(name, range)| format!("the family {name} {range}"));
    let providers =
        charter.capabilities.iter().map(|(capability, provider)| format!("{provider} for {capability}"));
    let rules = (!charter.rules.is_silent()).then(|| "rules".to_owned());
    ranges.chain(families).chain(providers).chain(rules).collect::<Vec<_>>().join(", ")
}
