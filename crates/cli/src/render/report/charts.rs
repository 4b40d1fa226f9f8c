//! Charts: how many packages have which licence, and how old releases are.

use std::collections::BTreeMap;

use bibliotax_app::report::PackageFacts;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// Most licences with a bar of their own.
const MAX_LICENSES: usize = 12;

const DAY: i64 = 24;

/// Ages, each with the hours below which it ends.
const AGES: [(&str, i64); 7] = [
    ("under 1 month", 30 * DAY),
    ("1 to 3 months", 91 * DAY),
    ("3 to 6 months", 182 * DAY),
    ("6 to 12 months", 365 * DAY),
    ("1 to 2 years", 730 * DAY),
    ("2 to 5 years", 1_826 * DAY),
    ("over 5 years", i64::MAX / 3600),
];

/// A bar of a chart.
#[derive(Serialize)]
pub struct Bar {
    label: String,
    /// How many packages it stands for.
    number: usize,
    /// How many of them are behind their newest release.
    outdated: usize,
    /// Its share of all, in percent.
    share: String,
    /// How long it is, of 100, and how much of that stands for outdated packages.
    length: f64,
    outdated_length: f64,
}

/// How many packages have which licence, the most frequent first.
pub fn licenses(facts: &[PackageFacts<'_>]) -> Vec<Bar> {
    let licenses = facts.iter().map(|one| one.package.license.as_ref());
    bars(by_license(licenses.map(|one| one.map_or_else(|| "not declared".to_owned(), ToString::to_string))))
}

/// How old the locked releases are, and how many of them are behind.
pub fn ages(facts: &[PackageFacts<'_>], now: Timestamp) -> Vec<Bar> {
    let ages = facts.iter().map(|one| (one.published.map(|at| now.duration_since(at)), one.is_outdated()));
    bars(by_age(ages))
}

/// A bar before it is known how long it is: its label, how many packages it stands for, and how many of them are behind.
type Numbers = (String, usize, usize);

/// How often each licence occurs; the least frequent of very many together.
fn by_license(licenses: impl Iterator<Item = String>) -> Vec<Numbers> {
    let mut numbers: BTreeMap<String, usize> = BTreeMap::new();
    licenses.for_each(|license| *numbers.entry(license).or_default() += 1);
    let mut numbers: Vec<Numbers> =
        numbers.into_iter().map(|(license, number)| (license, number, 0)).collect();
    numbers.sort_by_key(|(_, number, _)| std::cmp::Reverse(*number));
    if numbers.len() > MAX_LICENSES {
        let others = numbers.split_off(MAX_LICENSES - 1);
        let number = others.iter().map(|(_, number, _)| number).sum();
        numbers.push((format!("{} others", others.len()), number, 0));
    }
    numbers
}

/// How many releases are of which age; `None` is one that nobody dated.
fn by_age(ages: impl Iterator<Item = (Option<SignedDuration>, bool)>) -> Vec<Numbers> {
    let mut numbers = AGES.map(|(label, _)| (label.to_owned(), 0, 0)).to_vec();
    let mut undated = ("not dated".to_owned(), 0, 0);
    for (age, is_outdated) in ages {
        let at = age.and_then(|age| AGES.iter().position(|(_, end)| age < SignedDuration::from_hours(*end)));
        let bar = at.map_or(&mut undated, |at| &mut numbers[at]);
        bar.1 += 1;
        bar.2 += usize::from(is_outdated);
    }
    if undated.1 > 0 {
        numbers.push(undated);
    }
    numbers
}

fn bars(numbers: Vec<Numbers>) -> Vec<Bar> {
    let all: usize = numbers.iter().map(|(_, number, _)| number).sum();
    let longest = numbers.iter().map(|(_, number, _)| *number).max().unwrap_or(0);
    let part = |number: usize, of: usize| if of == 0 { 0.0 } else { number as f64 * 100.0 / of as f64 };
    let bar = |(label, number, outdated): Numbers| Bar {
        label,
        number,
        outdated,
        share: format!("{:.0} %", part(number, all)),
        length: part(number, longest),
        outdated_length: part(outdated, longest),
    };
    numbers.into_iter().map(bar).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn frequent_licences_come_first_and_rare_ones_together() {
        let rare = (0..20).map(|number| format!("LicenseRef-{number:02}"));
        let numbers = by_license(rare.chain(["MIT", "Zlib", "MIT"].map(str::to_owned)));
        assert_eq!(numbers.len(), MAX_LICENSES);
        assert_eq!(numbers[0], ("MIT".to_owned(), 2, 0));
        assert_eq!(numbers[MAX_LICENSES - 1], ("11 others".to_owned(), 11, 0));
        let bars = bars(numbers);
        assert_eq!((bars[0].share.as_str(), bars[0].length), ("9 %", 2.0 * 100.0 / 11.0));
        assert!(bars_of_nothing().is_empty());
    }

    fn bars_of_nothing() -> Vec<Bar> {
        bars(by_license(std::iter::empty()))
    }

    #[test]
    fn ages_end_where_their_labels_say() {
        let days = |days: i64| Some(SignedDuration::from_hours(days * DAY));
        let ages =
            [(days(0), false), (days(29), true), (days(30), false), (days(364), true), (days(365), true)];
        // A release may be dated later than today, and very long ago.
        let more = [(days(-3), false), (days(40_000), true), (None, true), (days(1_825), false)];
        let numbers = by_age(ages.into_iter().chain(more));
        let numbers: Vec<(usize, usize)> =
            numbers.into_iter().map(|(_, number, outdated)| (number, outdated)).collect();
        assert_eq!(numbers, [(3, 1), (1, 0), (0, 0), (1, 1), (1, 1), (1, 0), (1, 1), (1, 1)]);
    }
}
