//! What is said of the advisories that affect a bill: by waivers of the rules, or nothing yet.

use std::collections::BTreeSet;

use bibliotax_core::advisory::Affecting;
use bibliotax_core::name::PackageName;
use bibliotax_core::rules::{Justification, Rule, VexStatus, Waiver};
use bibliotax_core::severity::Severity;

use crate::bill::Bill;

/// What is said of one advisory that affects one component.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Statement {
    /// The number of the component.
    pub component: usize,
    /// The advisory's name.
    pub id: String,
    /// Its other names.
    pub aliases: Vec<String>,
    /// What it is, in a line.
    pub summary: String,
    /// How bad it is.
    pub severity: Severity,
    /// Whether the product is affected: under investigation where nobody said it.
    pub status: VexStatus,
    /// Why it isn't.
    pub justification: Option<Justification>,
    /// What people say of it.
    pub reason: Option<String>,
}

/// What is said of the advisories that affect the components of a bill, in its order. Waivers count until their last day.
pub fn statements(
    bill: &Bill,
    affecting: impl Fn(&PackageName) -> Vec<Affecting>,
    waivers: &[Waiver],
    now: jiff::Timestamp,
) -> Vec<Statement> {
    let mut found = Vec::new();
    for (number, component) in bill.components.iter().enumerate() {
        let package = &component.package;
        let mut of_package = affecting(&package.name);
        of_package.retain(|one| one.versions.contains(&package.version));
        of_package.sort_by(|a, b| a.advisory.id.cmp(&b.advisory.id));
        for one in &of_package {
            let is_about = |waiver: &&Waiver| {
                waiver.speaks_of(Rule::Advisories, &package.name, &package.version)
                    && waiver.advisory.as_ref().is_some_and(|name| one.names.contains(name))
                    && !waiver.is_over(now)
            };
            let waiver = waivers.iter().find(is_about);
            found.push(statement(number, one, waiver));
        }
    }
    found
}

fn statement(component: usize, affecting: &Affecting, waiver: Option<&Waiver>) -> Statement {
    let id = affecting.advisory.id.clone();
    let aliases: BTreeSet<&String> = affecting.names.iter().filter(|name| **name != id).collect();
    Statement {
        component,
        aliases: aliases.into_iter().cloned().collect(),
        summary: affecting.advisory.summary.clone(),
        severity: affecting.severity,
        status: waiver.and_then(|waiver| waiver.status).unwrap_or(VexStatus::UnderInvestigation),
        justification: waiver.and_then(|waiver| waiver.justification),
        reason: waiver.map(|waiver| waiver.reason.clone()),
        id,
    }
}
