//! OpenVEX 0.2.0: whether a product is affected by the advisories that match its packages.

use bibliotax_core::rules::{Justification, VexStatus};
use serde::Serialize;

use crate::bill::{Bill, BillProject, to_the_second};
use crate::package_urls::{package_url, project_url};
use crate::vulnerabilities::Statement;

/// The document (OpenVEX Specification 0.2.0, "Document").
#[derive(Debug, Serialize)]
pub struct Document {
    #[serde(rename = "@context")]
    context: &'static str,
    #[serde(rename = "@id")]
    id: String,
    author: String,
    role: &'static str,
    timestamp: String,
    version: u32,
    tooling: String,
    statements: Vec<VexStatement>,
}

#[derive(Debug, Serialize)]
struct VexStatement {
    vulnerability: Vulnerability,
    products: Vec<Product>,
    status: VexStatus,
    #[serde(skip_serializing_if = "Option::is_none")]
    status_notes: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    justification: Option<Justification>,
    #[serde(skip_serializing_if = "Option::is_none")]
    impact_statement: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    action_statement: Option<String>,
}

#[derive(Debug, Serialize)]
struct Vulnerability {
    name: String,
    description: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    aliases: Vec<String>,
}

#[derive(Debug, Serialize)]
struct Product {
    #[serde(rename = "@id")]
    id: String,
    subcomponents: Vec<Subcomponent>,
}

#[derive(Debug, Serialize)]
struct Subcomponent {
    #[serde(rename = "@id")]
    id: String,
}

/// The document of what is said of a bill; `author` is who says it, the product itself where nobody is named.
pub fn document(bill: &Bill, statements: &[Statement], author: Option<&str>) -> Document {
    Document {
        context: "https://openvex.dev/ns/v0.2.0",
        id: format!("https://openvex.dev/docs/public/vex-{}", bill.uuid("openvex")),
        author: author.unwrap_or(&bill.name).to_owned(),
        role: "Document Creator",
        timestamp: to_the_second(bill.needed_time()),
        version: 1,
        tooling: format!("bibliotax {}", bill.tool_version),
        statements: statements.iter().map(|statement| vex(bill, statement)).collect(),
    }
}

fn vex(bill: &Bill, statement: &Statement) -> VexStatement {
    let reason = statement.reason.clone();
    let of = |status| reason.clone().filter(|_| statement.status == status);
    let subcomponent = package_url(&bill.components[statement.component]);
    let product = |project: &BillProject| Product {
        id: project_url(project),
        subcomponents: vec![Subcomponent { id: subcomponent.clone() }],
    };
    let products = bill.projects_with(statement.component).into_iter().map(product).collect();
    VexStatement {
        vulnerability: Vulnerability {
            name: statement.id.clone(),
            description: statement.summary.clone(),
            aliases: statement.aliases.clone(),
        },
        products,
        status: statement.status,
        status_notes: of(VexStatus::UnderInvestigation),
        justification: statement.justification,
        impact_statement: of(VexStatus::NotAffected),
        // A product that is affected says what is done about it ("Status Labels").
        action_statement: of(VexStatus::Affected),
    }
}
