//! SPDX 3.0.1 in JSON-LD: a graph of elements that name each other. What nobody declared is said to be so.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use bibliotax_core::lock::LockedFile;
use serde::Serialize;

use crate::bill::{Bill, BillComponent, BillNeed, BillRef, Phase, to_the_second};
use crate::package_urls::{UPSTREAM, download_location, package_url};

/// The element that says that nobody declared a licence (SPDX 3.0.1, "NoAssertionLicense").
const NO_LICENSE_DECLARED: &str = "https://spdx.org/rdf/3.0.1/terms/ExpandedLicensing/NoAssertionLicense";
const CREATION: &str = "_:creation";

/// The document (SPDX 3.0.1, annex "RDF serialization").
#[derive(Debug, Serialize)]
pub struct Document {
    #[serde(rename = "@context")]
    context: &'static str,
    #[serde(rename = "@graph")]
    graph: Vec<Element>,
}

/// An element of the graph, by its type's name in SPDX's context.
#[derive(Debug, Serialize)]
#[serde(tag = "type")]
enum Element {
    CreationInfo(CreationInfo),
    SoftwareAgent(Named),
    Tool(Named),
    SpdxDocument(Collection),
    #[serde(rename = "software_Sbom")]
    Sbom(Collection),
    #[serde(rename = "software_Package")]
    Package(Box<Package>),
    #[serde(rename = "simplelicensing_LicenseExpression")]
    LicenseExpression(LicenseExpression),
    Relationship(Relationship),
    LifecycleScopedRelationship(Relationship),
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct CreationInfo {
    #[serde(rename = "@id")]
    id: &'static str,
    spec_version: &'static str,
    created: String,
    created_by: Vec<String>,
    created_using: Vec<String>,
}

/// What all elements have.
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Identity {
    spdx_id: String,
    creation_info: &'static str,
}

#[derive(Debug, Serialize)]
struct Named {
    #[serde(flatten)]
    identity: Identity,
    name: String,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Collection {
    #[serde(flatten)]
    identity: Identity,
    name: String,
    profile_conformance: Vec<&'static str>,
    root_element: Vec<String>,
    element: Vec<String>,
    #[serde(rename = "software_sbomType", skip_serializing_if = "Vec::is_empty")]
    sbom_type: Vec<&'static str>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Package {
    #[serde(flatten)]
    identity: Identity,
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    summary: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    comment: Option<String>,
    #[serde(rename = "software_primaryPurpose")]
    purpose: &'static str,
    #[serde(rename = "software_packageVersion", skip_serializing_if = "Option::is_none")]
    version: Option<String>,
    #[serde(rename = "software_packageUrl", skip_serializing_if = "Option::is_none")]
    package_url: Option<String>,
    #[serde(rename = "software_downloadLocation", skip_serializing_if = "Option::is_none")]
    download_location: Option<String>,
    #[serde(rename = "software_homePage", skip_serializing_if = "Option::is_none")]
    home_page: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    external_identifier: Vec<ExternalIdentifier>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    verified_using: Vec<Hash>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct ExternalIdentifier {
    #[serde(rename = "type")]
    kind: &'static str,
    external_identifier_type: &'static str,
    identifier: String,
    comment: &'static str,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Hash {
    #[serde(rename = "type")]
    kind: &'static str,
    algorithm: &'static str,
    hash_value: String,
}

#[derive(Debug, Serialize)]
struct LicenseExpression {
    #[serde(flatten)]
    identity: Identity,
    #[serde(rename = "simplelicensing_licenseExpression")]
    expression: String,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Relationship {
    #[serde(flatten)]
    identity: Identity,
    from: String,
    to: Vec<String>,
    relationship_type: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    completeness: Option<&'static str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    scope: Option<&'static str>,
}

/// The document of a bill. It needs a time: without a given one it is that of the newest card.
pub fn document(bill: &Bill) -> Document {
    let names = Names { base: format!("urn:uuid:{}", bill.uuid("spdx3")) };
    let mut graph = head(bill, &names);
    let contents: Vec<Element> = packages(bill, &names)
        .into_iter()
        .chain(licenses(bill, &names))
        .chain(needs(bill, &names))
        .chain(contained(bill, &names))
        .collect();
    let ids = contents.iter().filter_map(Element::id).collect();
    graph.extend(collections(bill, &names, ids));
    graph.extend(contents);
    Document { context: "https://spdx.org/rdf/3.0.1/spdx-context.jsonld", graph }
}

impl Element {
    fn id(&self) -> Option<String> {
        let identity = match self {
            Self::CreationInfo(_) => return None,
            Self::SoftwareAgent(one) | Self::Tool(one) => &one.identity,
            Self::SpdxDocument(one) | Self::Sbom(one) => &one.identity,
            Self::Package(one) => &one.identity,
            Self::LicenseExpression(one) => &one.identity,
            Self::Relationship(one) | Self::LifecycleScopedRelationship(one) => &one.identity,
        };
        Some(identity.spdx_id.clone())
    }
}

/// Names of elements: URIs that no other document has.
struct Names {
    base: String,
}

impl Names {
    fn id(&self, kind: &str, label: &str) -> String {
        let mut id = format!("{}#{kind}/", self.base);
        for byte in label.bytes() {
            // What a URI's fragment doesn't take is written in hexadecimal digits (RFC 3986, section 2.1).
            match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' | b'@' | b':' => {
                    id.push(char::from(byte));
                }
                // Writing into a string can't fail.
                other => _ = write!(id, "%{other:02X}"),
            }
        }
        id
    }

    fn identity(&self, kind: &str, label: &str) -> Identity {
        Identity { spdx_id: self.id(kind, label), creation_info: CREATION }
    }

    fn package(&self, bill: &Bill, of: BillRef) -> String {
        self.id("package", &bill.label(of))
    }

    fn archive(&self, of: &BillComponent, file: &LockedFile) -> Identity {
        self.identity("archive", &format!("{}/{}", of.label(), file.sha256))
    }
}

/// Who made the document, with what and when.
fn head(bill: &Bill, names: &Names) -> Vec<Element> {
    let version = format!("bibliotax {}", bill.tool_version);
    vec![
        Element::CreationInfo(CreationInfo {
            id: CREATION,
            spec_version: "3.0.1",
            created: to_the_second(bill.needed_time()),
            created_by: vec![names.id("agent", "bibliotax")],
            created_using: vec![names.id("tool", "bibliotax")],
        }),
        Element::SoftwareAgent(Named {
            identity: names.identity("agent", "bibliotax"),
            name: version.clone(),
        }),
        Element::Tool(Named { identity: names.identity("tool", "bibliotax"), name: version }),
    ]
}

/// The document itself, and the bill in it.
fn collections(bill: &Bill, names: &Names, ids: Vec<String>) -> Vec<Element> {
    let profiles = vec!["core", "software", "simpleLicensing"];
    let projects =
        (0..bill.projects.len()).map(|number| names.package(bill, BillRef::Project(number))).collect();
    let sbom = names.id("bill", "of-materials");
    let all = std::iter::once(sbom.clone()).chain(ids.iter().cloned()).collect();
    vec![
        Element::SpdxDocument(Collection {
            identity: names.identity("document", "bill"),
            name: bill.name.clone(),
            profile_conformance: profiles.clone(),
            root_element: vec![sbom],
            element: all,
            sbom_type: Vec::new(),
        }),
        Element::Sbom(Collection {
            identity: names.identity("bill", "of-materials"),
            name: bill.name.clone(),
            profile_conformance: profiles,
            root_element: projects,
            element: ids,
            // What is locked is what a build of these sources takes.
            sbom_type: vec!["source"],
        }),
    ]
}

fn packages(bill: &Bill, names: &Names) -> Vec<Element> {
    let projects = bill.projects.iter().map(|project| Package {
        version: project.version.as_ref().map(ToString::to_string),
        ..Package::bare(
            names.identity("package", &format!("project:{}", project.name)),
            project.name.to_string(),
        )
    });
    let components = bill.components.iter().map(|of| component(names, of));
    let archives = bill.components.iter().flat_map(|of| archives(names, of));
    let all = projects.chain(components).chain(archives);
    all.map(|package| Element::Package(Box::new(package))).collect()
}

impl Package {
    /// An application of which nobody said anything else.
    fn bare(identity: Identity, name: String) -> Self {
        Self {
            identity,
            name,
            summary: None,
            comment: None,
            purpose: "application",
            version: None,
            package_url: None,
            download_location: None,
            home_page: None,
            external_identifier: Vec::new(),
            verified_using: Vec::new(),
        }
    }
}

fn component(names: &Names, of: &BillComponent) -> Package {
    let card = of.card.as_ref();
    let upstream = of.upstream().iter().map(|upstream| ExternalIdentifier {
        kind: "ExternalIdentifier",
        external_identifier_type: "packageUrl",
        identifier: upstream.to_string(),
        comment: UPSTREAM,
    });
    Package {
        summary: card.and_then(|card| card.summary.clone()),
        comment: Some(format!("from {}", of.package.source)),
        purpose: "library",
        version: Some(of.package.version.to_string()),
        package_url: Some(package_url(of)),
        download_location: download_location(of),
        home_page: card.and_then(|card| card.homepage.clone()),
        external_identifier: upstream.collect(),
        // A hash is one of the whole package: of several archives, each is a package inside.
        verified_using: of.only_archive().map(hash).into_iter().collect(),
        ..Package::bare(names.identity("package", &of.label()), of.package.name.to_string())
    }
}

/// The archives of a package that has several.
fn archives(names: &Names, of: &BillComponent) -> Vec<Package> {
    let archive = |file: &LockedFile| Package {
        purpose: "archive",
        version: Some(of.package.version.to_string()),
        download_location: file.url.clone(),
        verified_using: vec![hash(file)],
        ..Package::bare(names.archive(of, file), format!("{} ({})", of.package.name, file.part))
    };
    of.inner_archives().into_iter().map(archive).collect()
}

fn hash(file: &LockedFile) -> Hash {
    Hash { kind: "Hash", algorithm: "sha256", hash_value: file.sha256.to_string() }
}

/// The licences, each once, and who declares them.
fn licenses(bill: &Bill, names: &Names) -> Vec<Element> {
    let mut expressions: BTreeMap<String, LicenseExpression> = BTreeMap::new();
    let mut declared = Vec::new();
    for of in bill.all() {
        let license = bill.license(of).map(|license| {
            let expression = license.to_string();
            let identity = names.identity("license", &expression);
            let id = identity.spdx_id.clone();
            expressions.insert(id.clone(), LicenseExpression { identity, expression });
            id
        });
        declared.push(Element::Relationship(Relationship {
            identity: names.identity("declared", &bill.label(of)),
            from: names.package(bill, of),
            to: vec![license.unwrap_or_else(|| NO_LICENSE_DECLARED.to_owned())],
            relationship_type: "hasDeclaredLicense",
            completeness: None,
            scope: None,
        }));
    }
    expressions.into_values().map(Element::LicenseExpression).chain(declared).collect()
}

/// Who needs what, for each phase of life that it is needed in.
fn needs(bill: &Bill, names: &Names) -> Vec<Element> {
    let mut found = Vec::new();
    for from in bill.all() {
        for (phase, needs) in by_phase(bill.needs(from)) {
            let scope = scope_of(phase);
            found.push(Element::LifecycleScopedRelationship(Relationship {
                identity: names.identity(&format!("needs-{scope}"), &bill.label(from)),
                from: names.package(bill, from),
                to: needs.into_iter().map(|of| names.package(bill, of)).collect(),
                relationship_type: "dependsOn",
                completeness: Some("complete"),
                scope: Some(scope),
            }));
        }
    }
    found
}

/// A phase of life in the standard's words (SPDX 3.0.1, "LifecycleScopeType").
fn scope_of(phase: Phase) -> &'static str {
    match phase {
        Phase::Build => "build",
        Phase::Development => "development",
        Phase::Run => "runtime",
        Phase::Test => "test",
    }
}

/// What is needed in each phase of life.
fn by_phase(needs: &[BillNeed]) -> BTreeMap<Phase, Vec<BillRef>> {
    let mut phases: BTreeMap<Phase, Vec<BillRef>> = BTreeMap::new();
    for need in needs {
        phases.entry(need.phase()).or_default().push(need.of);
    }
    for needs in phases.values_mut() {
        needs.sort_unstable();
        needs.dedup();
    }
    phases
}

/// Which archives are in which packages.
fn contained(bill: &Bill, names: &Names) -> Vec<Element> {
    let contains = |of: &BillComponent| {
        let archives: Vec<String> =
            archives(names, of).into_iter().map(|archive| archive.identity.spdx_id).collect();
        let relationship = Relationship {
            identity: names.identity("contains", &of.label()),
            from: names.id("package", &of.label()),
            to: archives.clone(),
            relationship_type: "contains",
            completeness: Some("complete"),
            scope: None,
        };
        (!archives.is_empty()).then_some(Element::Relationship(relationship))
    };
    bill.components.iter().filter_map(contains).collect()
}
