//! SPDX 2.3 in JSON: packages, their relationships and licences. What nobody declared is `NOASSERTION`.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use bibliotax_core::license::License;
use bibliotax_core::lock::LockedFile;
use serde::Serialize;

use crate::bill::{Bill, BillComponent, BillNeed, BillRef, LicenseText, Phase, to_the_second};
use crate::package_urls::{UPSTREAM, download_location, package_url};

const NO_ASSERTION: &str = "NOASSERTION";
const DOCUMENT: &str = "SPDXRef-DOCUMENT";

/// The document (SPDX 2.3, clause 6).
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
pub struct Document {
    spdx_version: &'static str,
    data_license: &'static str,
    #[serde(rename = "SPDXID")]
    id: &'static str,
    name: String,
    document_namespace: String,
    creation_info: CreationInfo,
    packages: Vec<Package>,
    relationships: Vec<Relationship>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    has_extracted_licensing_infos: Vec<ExtractedLicense>,
}

#[derive(Debug, Serialize)]
struct CreationInfo {
    created: String,
    creators: Vec<String>,
}

/// A package (SPDX 2.3, clause 7): a project, a package of the bill, or one of its archives.
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Package {
    #[serde(rename = "SPDXID")]
    id: String,
    name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    version_info: Option<String>,
    download_location: String,
    files_analyzed: bool,
    primary_package_purpose: &'static str,
    license_concluded: &'static str,
    license_declared: String,
    copyright_text: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    homepage: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    summary: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    comment: Option<String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    checksums: Vec<Checksum>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    external_refs: Vec<ExternalRef>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Checksum {
    algorithm: &'static str,
    checksum_value: String,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct ExternalRef {
    reference_category: &'static str,
    reference_type: &'static str,
    reference_locator: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    comment: Option<&'static str>,
}

#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct Relationship {
    spdx_element_id: String,
    relationship_type: &'static str,
    related_spdx_element: String,
}

/// A licence that isn't in SPDX's list (SPDX 2.3, clause 10).
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
struct ExtractedLicense {
    license_id: String,
    extracted_text: String,
}

/// The document of a bill. It needs a time: without a given one it is that of the newest card.
pub fn document(bill: &Bill) -> Document {
    let projects = (0..bill.projects.len()).map(|number| project(bill, number));
    let components = bill.components.iter().map(component);
    let archives = bill.components.iter().flat_map(archives);
    Document {
        spdx_version: "SPDX-2.3",
        data_license: "CC0-1.0",
        id: DOCUMENT,
        name: bill.name.clone(),
        document_namespace: format!("urn:uuid:{}", bill.uuid("spdx")),
        creation_info: CreationInfo {
            created: to_the_second(bill.needed_time()),
            creators: vec![format!("Tool: bibliotax-{}", bill.tool_version)],
        },
        packages: projects.chain(components).chain(archives).collect(),
        relationships: relationships(bill),
        has_extracted_licensing_infos: own_licenses(bill),
    }
}

/// An identifier of a part of the document, which may only have letters, digits, `.` and `-` (SPDX 2.3, clause 3.2).
fn id(label: &str) -> String {
    let mut id = String::from("SPDXRef-");
    for letter in label.chars() {
        match letter {
            'a'..='z' | 'A'..='Z' | '0'..='9' | '-' | '.' => id.push(letter),
            // Writing into a string can't fail.
            other => _ = write!(id, "..{:x}.", u32::from(other)),
        }
    }
    id
}

fn project(bill: &Bill, number: usize) -> Package {
    let project = &bill.projects[number];
    Package {
        id: id(&bill.label(BillRef::Project(number))),
        name: project.name.to_string(),
        version_info: project.version.as_ref().map(ToString::to_string),
        primary_package_purpose: "APPLICATION",
        license_declared: declared(project.license.as_ref()),
        ..Package::bare()
    }
}

fn component(of: &BillComponent) -> Package {
    let card = of.card.as_ref();
    let own = ExternalRef {
        reference_category: "PACKAGE-MANAGER",
        reference_type: "purl",
        reference_locator: package_url(of),
        comment: None,
    };
    let upstream = of.upstream().iter().map(|upstream| ExternalRef {
        reference_category: "PACKAGE-MANAGER",
        reference_type: "purl",
        reference_locator: upstream.to_string(),
        comment: Some(UPSTREAM),
    });
    Package {
        id: id(&of.label()),
        name: of.package.name.to_string(),
        version_info: Some(of.package.version.to_string()),
        download_location: download_location(of).unwrap_or_else(|| NO_ASSERTION.to_owned()),
        primary_package_purpose: "LIBRARY",
        license_declared: declared(of.package.license.as_ref()),
        homepage: card.and_then(|card| card.homepage.clone()),
        summary: card.and_then(|card| card.summary.clone()),
        comment: Some(format!("from {}", of.package.source)),
        // A checksum is one of the whole package: of several archives, each is a package inside.
        checksums: of.only_archive().map(checksum).into_iter().collect(),
        external_refs: std::iter::once(own).chain(upstream).collect(),
        ..Package::bare()
    }
}

/// The archives of a package that has several.
fn archives(of: &BillComponent) -> Vec<Package> {
    let archive = |file: &LockedFile| Package {
        id: archive_id(of, file),
        name: format!("{} ({})", of.package.name, file.part),
        version_info: Some(of.package.version.to_string()),
        download_location: file.url.clone().unwrap_or_else(|| NO_ASSERTION.to_owned()),
        primary_package_purpose: "ARCHIVE",
        checksums: vec![checksum(file)],
        ..Package::bare()
    };
    of.inner_archives().into_iter().map(archive).collect()
}

fn archive_id(of: &BillComponent, file: &LockedFile) -> String {
    format!("{}-{}", id(&of.label()), file.sha256)
}

impl Package {
    /// A package of which nobody said anything.
    fn bare() -> Self {
        Self {
            id: String::new(),
            name: String::new(),
            version_info: None,
            download_location: NO_ASSERTION.to_owned(),
            files_analyzed: false,
            primary_package_purpose: "OTHER",
            license_concluded: NO_ASSERTION,
            license_declared: NO_ASSERTION.to_owned(),
            copyright_text: NO_ASSERTION,
            homepage: None,
            summary: None,
            comment: None,
            checksums: Vec::new(),
            external_refs: Vec::new(),
        }
    }
}

fn checksum(file: &LockedFile) -> Checksum {
    Checksum { algorithm: "SHA256", checksum_value: file.sha256.to_string() }
}

/// A declared licence. One of another document means nothing here.
fn declared(license: Option<&License>) -> String {
    let license = license.map(ToString::to_string).filter(|license| !license.contains("DocumentRef-"));
    license.unwrap_or_else(|| NO_ASSERTION.to_owned())
}

fn relationships(bill: &Bill) -> Vec<Relationship> {
    let relationship = |from: &str, kind, to: &str| Relationship {
        spdx_element_id: from.to_owned(),
        relationship_type: kind,
        related_spdx_element: to.to_owned(),
    };
    let need = |from: BillRef, need: &BillNeed| {
        let (from, to) = (id(&bill.label(from)), id(&bill.label(need.of)));
        match need.phase() {
            Phase::Run => relationship(&from, "DEPENDS_ON", &to),
            Phase::Test => relationship(&to, "TEST_DEPENDENCY_OF", &from),
            Phase::Build => relationship(&to, "BUILD_DEPENDENCY_OF", &from),
            Phase::Development => relationship(&to, "DEV_DEPENDENCY_OF", &from),
        }
    };
    let described = (0..bill.projects.len()).map(|number| id(&bill.label(BillRef::Project(number))));
    let mut all: Vec<_> = described.map(|project| relationship(DOCUMENT, "DESCRIBES", &project)).collect();
    for of in bill.all() {
        all.extend(bill.needs(of).iter().map(|one| need(of, one)));
        if let BillRef::Component(number) = of {
            let inside = archives(&bill.components[number]).into_iter();
            all.extend(inside.map(|archive| relationship(&id(&bill.label(of)), "CONTAINS", &archive.id)));
        }
    }
    all
}

/// The licences that SPDX doesn't list, each with its text where a package has it.
fn own_licenses(bill: &Bill) -> Vec<ExtractedLicense> {
    let mut found: BTreeMap<String, Option<String>> = BTreeMap::new();
    for of in bill.all() {
        let texts = match of {
            BillRef::Project(_) => &[][..],
            BillRef::Component(number) => &bill.components[number].license_texts,
        };
        for reference in bill.license(of).into_iter().flat_map(own_references) {
            let text: Option<&LicenseText> = texts.iter().find(|text| text.ids.is_empty());
            let known = found.entry(reference).or_default();
            *known = known.take().or_else(|| text.map(|text| text.text.clone()));
        }
    }
    let license = |(license_id, text): (String, Option<String>)| {
        let extracted_text = text.unwrap_or_else(|| NO_ASSERTION.to_owned());
        ExtractedLicense { license_id, extracted_text }
    };
    found.into_iter().map(license).collect()
}

/// The `LicenseRef-…` of an expression.
fn own_references(license: &License) -> Vec<String> {
    let text = license.to_string();
    let words = text.split([' ', '(', ')']).filter(|word| word.starts_with("LicenseRef-"));
    words.map(str::to_owned).collect()
}
