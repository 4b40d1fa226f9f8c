//! What `check --explain` shows.

use bibliotax_app::check::{ExplainedFinding, Explanation, LockCommit};
use bibliotax_core::advisory::Advisory;
use bibliotax_core::graph::NeedPath;
use bibliotax_core::name::PackageName;

use crate::json::check::Explained;
use crate::ui::{Ui, clean, style, styled};

/// Shows what a kind of finding or an advisory is, and each finding of it.
pub fn show(ui: &Ui, explanation: &Explanation) {
    if let Some(advisory) = &explanation.advisory {
        show_advisory(ui, advisory);
    } else if let Some(code) = explanation.code {
        ui.answer(format!("{}: {}", styled(style::STRONG, code.code), code.meaning));
        ui.answer(format!("  {} {}", styled(style::STRONG, "try:"), code.help));
    }
    if explanation.findings.is_empty() {
        ui.answer("nothing that is locked is concerned");
    }
    explanation.findings.iter().for_each(|finding| show_finding(ui, finding));
    ui.report(|| Explained::from(explanation));
}

fn show_advisory(ui: &Ui, advisory: &Advisory) {
    let rating = match &advisory.rating {
        None => "not rated".to_owned(),
        Some(rating) => {
            let score = rating.score.map(|score| format!(", CVSS {score:.1}")).unwrap_or_default();
            format!("{}{score}", rating.severity)
        }
    };
    let id = styled(style::STRONG, clean(&advisory.id));
    ui.answer(format!("{id} ({rating}): {}", clean(&advisory.summary)));
    if !advisory.aliases.is_empty() {
        let names: Vec<&str> = advisory.aliases.iter().map(String::as_str).collect();
        ui.answer(format!("  also called {}", clean(&names.join(", "))));
    }
    if let Some(url) = &advisory.url {
        ui.answer(format!("  {}", clean(url)));
    }
}

fn show_finding(ui: &Ui, explained: &ExplainedFinding) {
    let ExplainedFinding { finding, path, since, fixed_in, ways } = explained;
    ui.answer(format!("\n{}", clean(&finding.message)));
    let waived = finding.waived.as_ref();
    let facts = [
        ("waived", waived.map(|waived| format!("until {}: {}", waived.until, clean(&waived.reason)))),
        ("needed by", path.as_ref().map(path_text)),
        ("locked since", since.as_ref().map(commit_text)),
        ("fixed in", fixed_in.as_ref().map(ToString::to_string)),
    ];
    let facts = facts.into_iter().filter_map(|(head, text)| Some(vec![format!("  {head}"), text?]));
    ui.answer(ui.table(facts));
    if ways.is_empty() {
        ui.answer(format!("  {} {}", styled(style::STRONG, "try:"), finding.advice));
    } else {
        ui.answer_ways(ways);
    }
}

fn path_text(path: &NeedPath) -> String {
    let packages: Vec<&str> = path.packages.iter().map(PackageName::as_str).collect();
    format!("{}: {}", path.by, packages.join(" > "))
}

fn commit_text(since: &LockCommit) -> String {
    format!("{} {} ({})", since.date, since.commit, clean(&since.subject))
}
