//! CycloneDX 1.6 (ECMA-424) in JSON: components, dependencies, and what is said of vulnerabilities.

use bibliotax_core::license::License;
use bibliotax_core::lock::LockedFile;
use bibliotax_core::rules::{Justification, VexStatus};
use serde::Serialize;

use crate::bill::{Bill, BillComponent, BillRef, LicenseText, to_the_second};
use crate::package_urls::package_url;
use crate::vulnerabilities::Statement;

/// The document (ECMA-424, section 8).
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Document {
    #[serde(rename = "$schema")]
    schema: &'static str,
    bom_format: &'static str,
    spec_version: &'static str,
    serial_number: String,
    version: u32,
    metadata: Metadata,
    components: Vec<Component>,
    dependencies: Vec<Dependency>,
    #[serde(skip_serializing_if = "Option::is_none")]
    vulnerabilities: Option<Vec<Vulnerability>>,
}

#[derive(Debug, Serialize)]
struct Metadata {
    #[serde(skip_serializing_if = "Option::is_none")]
    timestamp: Option<String>,
    tools: Tools,
    component: Component,
}

#[derive(Debug, Serialize)]
struct Tools {
    components: Vec<Component>,
}

#[derive(Debug, Default, Serialize)]
#[serde(rename_all = "camelCase")]
struct Component {
    #[serde(rename = "type")]
    kind: &'static str,
    #[serde(rename = "bom-ref", skip_serializing_if = "Option::is_none")]
    bom_ref: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    group: Option<String>,
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    version: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    description: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    scope: Option<&'static str>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    hashes: Vec<Hash>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    licenses: Vec<LicenseChoice>,
    #[serde(skip_serializing_if = "Option::is_none")]
    purl: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pedigree: Option<Pedigree>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    external_references: Vec<ExternalReference>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    components: Vec<Component>,
    #[serde(skip_serializing_if = "Option::is_none")]
    evidence: Option<Evidence>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    properties: Vec<Property>,
}

#[derive(Debug, Serialize)]
struct Hash {
    alg: &'static str,
    content: String,
}

#[derive(Debug, Serialize)]
#[serde(untagged)]
enum LicenseChoice {
    Expression { expression: String },
    License { license: NamedLicense },
}

#[derive(Debug, Serialize)]
struct NamedLicense {
    #[serde(skip_serializing_if = "Option::is_none")]
    id: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    name: Option<String>,
    text: Attachment,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Attachment {
    content_type: &'static str,
    content: String,
}

#[derive(Debug, Serialize)]
struct Pedigree {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    ancestors: Vec<Component>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    commits: Vec<Commit>,
}

#[derive(Debug, Serialize)]
struct Commit {
    uid: String,
}

#[derive(Debug, Serialize)]
struct ExternalReference {
    #[serde(rename = "type")]
    kind: &'static str,
    url: String,
}

#[derive(Debug, Default, Serialize)]
struct Evidence {
    #[serde(skip_serializing_if = "Vec::is_empty")]
    occurrences: Vec<Occurrence>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    licenses: Vec<LicenseChoice>,
}

#[derive(Debug, Serialize)]
struct Occurrence {
    location: String,
}

#[derive(Debug, Serialize)]
struct Property {
    name: &'static str,
    value: String,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Dependency {
    #[serde(rename = "ref")]
    of: String,
    depends_on: Vec<String>,
}

#[derive(Debug, Serialize)]
struct Vulnerability {
    id: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    references: Vec<Reference>,
    ratings: Vec<Rating>,
    description: String,
    affects: Vec<Affected>,
    analysis: Analysis,
}

#[derive(Debug, Serialize)]
struct Reference {
    id: String,
    source: Source,
}

#[derive(Debug, Serialize)]
struct Source {
    name: String,
}

#[derive(Debug, Serialize)]
struct Rating {
    severity: String,
}

#[derive(Debug, Serialize)]
struct Affected {
    #[serde(rename = "ref")]
    component: String,
}

#[derive(Debug, Serialize)]
struct Analysis {
    state: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    justification: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    detail: Option<String>,
}

/// The document of a bill.
pub fn document(bill: &Bill) -> Document {
    of(bill, "cyclonedx", None)
}

/// The document of a bill, with what is said of vulnerabilities.
pub fn document_with_vulnerabilities(bill: &Bill, statements: &[Statement]) -> Document {
    let said = statements.iter().map(|statement| vulnerability(bill, statement)).collect();
    of(bill, "cyclonedx-vex", Some(said))
}

fn of(bill: &Bill, kind: &str, vulnerabilities: Option<Vec<Vulnerability>>) -> Document {
    Document {
        schema: "http://cyclonedx.org/schema/bom-1.6.schema.json",
        bom_format: "CycloneDX",
        spec_version: "1.6",
        serial_number: format!("urn:uuid:{}", bill.uuid(kind)),
        version: 1,
        metadata: Metadata {
            timestamp: bill.time.map(to_the_second),
            tools: Tools { components: vec![tool(bill)] },
            component: product(bill),
        },
        components: components(bill),
        dependencies: dependencies(bill),
        vulnerabilities,
    }
}

fn tool(bill: &Bill) -> Component {
    Component {
        kind: "application",
        name: "bibliotax".to_owned(),
        version: Some(bill.tool_version.to_owned()),
        ..Component::default()
    }
}

/// What the bill is of: its only project, or all of them together.
fn product(bill: &Bill) -> Component {
    match bill.projects.as_slice() {
        [_] => project(bill, 0),
        _ => Component {
            kind: "application",
            bom_ref: Some(PRODUCT.to_owned()),
            name: bill.name.clone(),
            ..Component::default()
        },
    }
}

/// How dependencies name a product of several projects.
const PRODUCT: &str = "product";

fn project(bill: &Bill, number: usize) -> Component {
    let project = &bill.projects[number];
    Component {
        kind: "application",
        bom_ref: Some(bill.label(BillRef::Project(number))),
        group: project.name.scope().map(str::to_owned),
        name: project.name.without_scope().to_owned(),
        version: project.version.as_ref().map(ToString::to_string),
        licenses: project.license.iter().map(expression).collect(),
        ..Component::default()
    }
}

fn expression(license: &License) -> LicenseChoice {
    LicenseChoice::Expression { expression: license.to_string() }
}

/// All but the product itself.
fn components(bill: &Bill) -> Vec<Component> {
    let projects = if bill.projects.len() == 1 { 0 } else { bill.projects.len() };
    let projects = (0..projects).map(|number| project(bill, number));
    projects.chain(bill.components.iter().map(component)).collect()
}

fn component(of: &BillComponent) -> Component {
    let package = &of.package;
    let card = of.card.as_ref();
    let archive = |file: &LockedFile| Component {
        kind: "file",
        bom_ref: Some(format!("{}#{}", of.label(), file.sha256)),
        name: format!("{} ({})", package.name, file.part),
        hashes: vec![hash(file)],
        ..Component::default()
    };
    Component {
        kind: "library",
        bom_ref: Some(of.label()),
        group: package.name.scope().map(str::to_owned),
        name: package.name.without_scope().to_owned(),
        version: Some(package.version.to_string()),
        description: card.and_then(|card| card.summary.clone()),
        scope: Some(if of.is_needed_to_run { "required" } else { "excluded" }),
        hashes: of.only_archive().map(hash).into_iter().collect(),
        licenses: package.license.iter().map(expression).collect(),
        purl: Some(package_url(of)),
        pedigree: pedigree(of),
        external_references: references(of),
        components: of.inner_archives().into_iter().map(archive).collect(),
        evidence: evidence(of),
        properties: vec![Property { name: "bibliotax:source", value: package.source.to_string() }],
    }
}

fn hash(file: &LockedFile) -> Hash {
    Hash { alg: "SHA-256", content: file.sha256.to_string() }
}

/// What a package is made from: upstream's software, or a commit.
fn pedigree(of: &BillComponent) -> Option<Pedigree> {
    let commit = of.package.source.git().map(|git| Commit { uid: git.commit.to_string() });
    let pedigree = Pedigree {
        ancestors: of.upstream().iter().map(ancestor).collect(),
        commits: commit.into_iter().collect(),
    };
    (!pedigree.ancestors.is_empty() || !pedigree.commits.is_empty()).then_some(pedigree)
}

/// Upstream's software as a component.
fn ancestor(upstream: &bibliotax_core::package_url::PackageUrl) -> Component {
    let name = upstream.base().rsplit('/').next().unwrap_or_default();
    Component {
        kind: "library",
        name: name.to_owned(),
        version: upstream.version().map(str::to_owned),
        purl: Some(upstream.to_string()),
        ..Component::default()
    }
}

fn references(of: &BillComponent) -> Vec<ExternalReference> {
    let card = of.card.as_ref();
    let said = [
        ("website", card.and_then(|card| card.homepage.clone())),
        ("vcs", card.and_then(|card| card.repository.clone())),
    ];
    let said = said.into_iter().filter_map(|(kind, url)| Some(ExternalReference { kind, url: url? }));
    let archives = of.archives().into_iter().filter_map(|file| file.url.clone());
    said.chain(archives.map(|url| ExternalReference { kind: "distribution", url })).collect()
}

fn evidence(of: &BillComponent) -> Option<Evidence> {
    let license = |found: &LicenseText| {
        let text = Attachment { content_type: "text/plain", content: found.text.clone() };
        let (id, name) = match found.ids.as_slice() {
            [only] => (Some(only.clone()), None),
            _ => (None, Some(found.path.clone())),
        };
        LicenseChoice::License { license: NamedLicense { id, name, text } }
    };
    let evidence = Evidence {
        occurrences: of.files.iter().map(|file| Occurrence { location: file.clone() }).collect(),
        licenses: of.license_texts.iter().map(license).collect(),
    };
    (!evidence.occurrences.is_empty() || !evidence.licenses.is_empty()).then_some(evidence)
}

/// Who needs what, whole: also who needs nothing.
fn dependencies(bill: &Bill) -> Vec<Dependency> {
    let dependency = |of: BillRef| {
        let mut depends_on: Vec<String> = bill.needs(of).iter().map(|need| bill.label(need.of)).collect();
        depends_on.sort();
        depends_on.dedup();
        Dependency { of: bill.label(of), depends_on }
    };
    let product = (bill.projects.len() != 1).then(|| Dependency {
        of: PRODUCT.to_owned(),
        depends_on: (0..bill.projects.len()).map(|number| bill.label(BillRef::Project(number))).collect(),
    });
    product.into_iter().chain(bill.all().map(dependency)).collect()
}

fn vulnerability(bill: &Bill, statement: &Statement) -> Vulnerability {
    let alias = |id: &String| Reference { id: id.clone(), source: Source { name: source_of(id) } };
    Vulnerability {
        id: statement.id.clone(),
        references: statement.aliases.iter().map(alias).collect(),
        ratings: vec![Rating { severity: statement.severity.to_string() }],
        description: statement.summary.clone(),
        affects: vec![Affected { component: bill.components[statement.component].label() }],
        analysis: Analysis {
            state: match statement.status {
                VexStatus::NotAffected => "not_affected",
                VexStatus::Affected => "exploitable",
                VexStatus::UnderInvestigation => "in_triage",
            },
            justification: statement.justification.map(justification),
            detail: statement.reason.clone(),
        },
    }
}

/// Who gives names that begin like this.
fn source_of(id: &str) -> String {
    id.split('-').next().unwrap_or(id).to_owned()
}

/// A justification of VEX in the words of CycloneDX.
fn justification(justification: Justification) -> &'static str {
    match justification {
        Justification::ComponentNotPresent | Justification::VulnerableCodeNotPresent => "code_not_present",
        Justification::VulnerableCodeNotInExecutePath => "code_not_reachable",
        Justification::VulnerableCodeCannotBeControlledByAdversary => "requires_environment",
        Justification::InlineMitigationsAlreadyExist => "protected_by_mitigating_control",
    }
}
