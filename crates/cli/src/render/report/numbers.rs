//! The summary: what matters most as numbers, each with a link to where the page shows more.

use std::collections::BTreeSet;

use bibliotax_app::check::Level;
use bibliotax_app::report::{Freshness, PackageFacts, Report};
use bibliotax_core::facet::Fit;
use bibliotax_core::steps::Todo;
use bibliotax_present::words::{count, noun, size};
use serde::Serialize;

use super::packages::NeedsOfGraph;

/// A number with what it counts.
#[derive(Serialize)]
pub struct Number {
    href: &'static str,
    value: String,
    label: String,
    /// What else there is to say.
    note: String,
    /// How it looks: `no` where something has to be done, `unsure` where it is worth a look, `yes` where all is well.
    look: &'static str,
}

/// The summary of a report.
pub fn numbers(report: &Report<'_>, facts: &[PackageFacts<'_>]) -> Vec<Number> {
    vec![
        packages(report, facts),
        problems(report),
        outdated(report, facts),
        misfits(report, facts),
        licenses(facts),
        steps(report),
    ]
}

fn packages(report: &Report<'_>, facts: &[PackageFacts<'_>]) -> Number {
    let needs = NeedsOfGraph::of(&report.graph);
    let direct = facts.iter().filter(|one| needs.is_direct(one.node)).count();
    let bytes = facts.iter().map(|one| one.package.size()).sum();
    let note = format!("{direct} direct, {} transitive; {}", facts.len() - direct, size(bytes));
    Number {
        href: "#packages",
        value: facts.len().to_string(),
        label: noun(facts.len(), "package"),
        note,
        look: "",
    }
}

fn problems(report: &Report<'_>) -> Number {
    let checked = &report.checked;
    let counts = [(Level::Error, "error"), (Level::Warning, "warning"), (Level::Note, "note")];
    let counts = counts.map(|(level, word)| (checked.count(level), word));
    let number: usize = counts.iter().map(|(number, _)| number).sum();
    let notes = counts.iter().filter(|(number, _)| *number > 0).map(|(number, word)| count(*number, word));
    let look = match counts {
        [(1.., _), ..] => "no",
        [_, (1.., _), _] => "unsure",
        _ => "yes",
    };
    let note = notes.collect::<Vec<_>>().join(", ");
    Number { href: "#problems", value: number.to_string(), label: noun(number, "problem"), note, look }
}

fn outdated(report: &Report<'_>, facts: &[PackageFacts<'_>]) -> Number {
    let (href, label) = ("#packages", "outdated".to_owned());
    if report.newer.is_none() {
        let (value, note) = ("?".to_owned(), "newer releases aren't known".to_owned());
        return Number { href, value, label, note, look: "unsure" };
    }
    let outdated = facts.iter().filter(|one| one.is_outdated()).count();
    let has_update =
        |one: &&PackageFacts<'_>| matches!(one.freshness, Freshness::News(news) if news.update.is_some());
    let within = facts.iter().filter(has_update).count();
    let note = match (outdated, within) {
        (0, _) => "all at the newest release".to_owned(),
        (_, 0) => "all held back".to_owned(),
        (_, within) => format!("`bibliotax update` updates {within}"),
    };
    Number {
        href,
        value: outdated.to_string(),
        label,
        note,
        look: if outdated == 0 { "yes" } else { "unsure" },
    }
}

fn misfits(report: &Report<'_>, facts: &[PackageFacts<'_>]) -> Number {
    let with =
        |is_such: fn(&Fit) -> bool| facts.iter().filter(|one| one.fits.iter().flatten().any(is_such)).count();
    let misfits = with(|fit| matches!(fit, Fit::No(_)));
    let undeclared = with(|fit| matches!(fit, Fit::NotDeclared(_)));
    let (href, value, label) = ("#fits", misfits.to_string(), "don't fit".to_owned());
    let places = report.fits.places.len();
    let (note, look) = match (places, misfits, undeclared) {
        (0, ..) => ("no targets declared".to_owned(), ""),
        (_, 0, 0) => (format!("all fit {}", count(places, "target")), "yes"),
        (_, 0, undeclared) => (format!("{undeclared} don't declare it"), "unsure"),
        (_, _, 0) => (format!("on {}", count(places, "target")), "no"),
        (_, _, undeclared) => (format!("{undeclared} don't declare it"), "no"),
    };
    Number { href, value, label, note, look }
}

fn licenses(facts: &[PackageFacts<'_>]) -> Number {
    let declared = facts.iter().filter_map(|one| one.package.license.as_ref());
    let different: BTreeSet<String> = declared.clone().map(ToString::to_string).collect();
    let undeclared = facts.len() - declared.count();
    let note = match undeclared {
        0 => "declared by all packages".to_owned(),
        some => format!("not declared by {}", count(some, "package")),
    };
    let look = if undeclared == 0 { "" } else { "unsure" };
    Number {
        href: "#licences",
        value: different.len().to_string(),
        label: noun(different.len(), "licence"),
        note,
        look,
    }
}

fn steps(report: &Report<'_>) -> Number {
    let open = report.steps.iter().filter(|todo| Todo::is_open(todo)).count();
    let note = format!("{} done", report.steps.len() - open);
    let look = if open == 0 { "yes" } else { "unsure" };
    Number { href: "#steps", value: open.to_string(), label: noun(open, "open step"), note, look }
}
