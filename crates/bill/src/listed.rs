//! What a CycloneDX or SPDX file lists, whoever wrote it.

use std::collections::{HashMap, HashSet};

use serde::Deserialize;
use serde_json::Value;

use crate::package_urls;

/// The largest file that is read, in bytes.
pub const MAX_BILL: u64 = 64 << 20;

/// What a file lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedBill {
    /// The format that it is in, such as `CycloneDX 1.6`.
    pub format: String,
    /// The packages, in the file's order; the product itself is none of them.
    pub packages: Vec<ListedPackage>,
}

/// A package that a file lists.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ListedPackage {
    /// Its name, with its scope.
    pub name: String,
    /// Its version, where the file says one.
    pub version: Option<String>,
    /// The SHA-256 digests of its archives, in small letters.
    pub sha256: Vec<String>,
}

/// Why a file isn't read.
#[derive(Debug, PartialEq, Eq)]
pub enum Unreadable {
    /// It isn't JSON, or not that of its format.
    Json(String),
    /// It is in no format that is known here.
    Format,
}

/// What a file lists, by its text.
pub fn read(text: &str) -> Result<ListedBill, Unreadable> {
    let value: Value = serde_json::from_str(text).map_err(|error| wrong(&error))?;
    if value["bomFormat"] == "CycloneDX" {
        return cyclonedx(value);
    }
    if let Some(version) = value["spdxVersion"].as_str() {
        let format = version.replacen('-', " ", 1);
        return spdx2(format, value);
    }
    if value["@graph"].is_array() {
        return spdx3(&value);
    }
    Err(Unreadable::Format)
}

fn wrong(error: &serde_json::Error) -> Unreadable {
    Unreadable::Json(error.to_string())
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct CycloneDx {
    spec_version: String,
    #[serde(default)]
    components: Vec<CycloneDxComponent>,
}

#[derive(Deserialize)]
struct CycloneDxComponent {
    #[serde(rename = "type", default)]
    kind: String,
    #[serde(default)]
    group: String,
    name: String,
    version: Option<String>,
    purl: Option<String>,
    #[serde(default)]
    hashes: Vec<CycloneDxHash>,
    #[serde(default)]
    components: Vec<CycloneDxComponent>,
}

#[derive(Deserialize)]
struct CycloneDxHash {
    alg: String,
    content: String,
}

fn cyclonedx(value: Value) -> Result<ListedBill, Unreadable> {
    let document: CycloneDx = serde_json::from_value(value).map_err(|error| wrong(&error))?;
    let mut packages = Vec::new();
    let mut open: Vec<CycloneDxComponent> = document.components.into_iter().rev().collect();
    while let Some(component) = open.pop() {
        let sha256 = |one: &CycloneDxComponent| -> Vec<String> {
            let hashes = one.hashes.iter().filter(|hash| hash.alg == "SHA-256");
            hashes.map(|hash| hash.content.to_lowercase()).collect()
        };
        let files = component.components.iter().filter(|inside| inside.kind == "file");
        let digests = sha256(&component).into_iter().chain(files.flat_map(sha256)).collect();
        let name = match component.group.as_str() {
            "" => component.name.clone(),
            group => format!("{group}/{}", component.name),
        };
        if component.kind != "file" {
            packages.push(package(name, component.version, component.purl.as_deref(), digests));
        }
        open.extend(component.components.into_iter().rev().filter(|inside| inside.kind != "file"));
    }
    Ok(ListedBill { format: format!("CycloneDX {}", document.spec_version), packages })
}

/// A package by what a file says: a package URL of ours has the name that counts.
fn package(name: String, version: Option<String>, purl: Option<&str>, sha256: Vec<String>) -> ListedPackage {
    match purl.and_then(package_urls::named) {
        Some((name, of_purl)) => ListedPackage { name, version: of_purl.or(version), sha256 },
        None => ListedPackage { name, version, sha256 },
    }
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx2 {
    #[serde(default)]
    packages: Vec<Spdx2Package>,
    #[serde(default)]
    relationships: Vec<Spdx2Relationship>,
    #[serde(default)]
    document_describes: Vec<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx2Package {
    #[serde(rename = "SPDXID")]
    id: String,
    name: String,
    version_info: Option<String>,
    #[serde(default)]
    checksums: Vec<Spdx2Checksum>,
    #[serde(default)]
    external_refs: Vec<Spdx2Reference>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx2Checksum {
    algorithm: String,
    checksum_value: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx2Reference {
    reference_type: String,
    reference_locator: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx2Relationship {
    spdx_element_id: String,
    relationship_type: String,
    related_spdx_element: String,
}

fn spdx2(format: String, value: Value) -> Result<ListedBill, Unreadable> {
    let document: Spdx2 = serde_json::from_value(value).map_err(|error| wrong(&error))?;
    let elements = document.packages.into_iter().map(|of| {
        let purl = of.external_refs.iter().find(|reference| reference.reference_type == "purl");
        let digests = of.checksums.iter().filter(|checksum| checksum.algorithm == "SHA256");
        let digests = digests.map(|checksum| checksum.checksum_value.to_lowercase()).collect();
        let purl = purl.map(|reference| reference.reference_locator.as_str());
        (of.id, package(of.name, of.version_info, purl, digests))
    });
    let related = |kind: &'static str| {
        let of_kind = document.relationships.iter().filter(move |one| one.relationship_type == kind);
        of_kind.map(|one| (one.spdx_element_id.clone(), one.related_spdx_element.clone()))
    };
    let described = related("DESCRIBES").map(|(_, product)| product);
    let products = described.chain(document.document_describes.iter().cloned()).collect();
    let contained = related("CONTAINS").collect();
    Ok(ListedBill { format, packages: without_products(&elements.collect::<Vec<_>>(), &products, contained) })
}

/// The packages that are no product; digests of contained archives count as those of the packages that contain them.
fn without_products(
    elements: &[(String, ListedPackage)],
    products: &HashSet<String>,
    contained: Vec<(String, String)>,
) -> Vec<ListedPackage> {
    // A file that describes all that it lists names no product.
    let names_product = elements.iter().any(|(id, _)| !products.contains(id));
    let mut containers: HashMap<String, Vec<String>> = HashMap::new();
    for (outside, inside) in contained.into_iter().filter(|(outside, _)| !products.contains(outside)) {
        containers.entry(inside).or_default().push(outside);
    }
    let mut digests: HashMap<&str, Vec<&String>> = HashMap::new();
    for (id, package) in elements {
        for outside in containers.get(id).into_iter().flatten() {
            digests.entry(outside).or_default().extend(&package.sha256);
        }
    }
    let is_product = |id: &String| names_product && products.contains(id);
    let is_package = |id: &String| !is_product(id) && !containers.contains_key(id);
    let packages = elements.iter().filter(|(id, _)| is_package(id)).map(|(id, package)| {
        let inside = digests.get(id.as_str()).into_iter().flatten().copied();
        ListedPackage { sha256: package.sha256.iter().chain(inside).cloned().collect(), ..package.clone() }
    });
    packages.collect()
}

#[derive(Deserialize)]
struct Spdx3Package {
    #[serde(rename = "spdxId")]
    id: String,
    #[serde(default)]
    name: String,
    #[serde(rename = "software_packageVersion")]
    version: Option<String>,
    #[serde(rename = "software_packageUrl")]
    purl: Option<String>,
    #[serde(rename = "verifiedUsing", default)]
    hashes: Vec<Spdx3Hash>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx3Hash {
    #[serde(default)]
    algorithm: String,
    #[serde(default)]
    hash_value: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spdx3Relationship {
    from: String,
    #[serde(default)]
    to: Vec<String>,
    relationship_type: String,
}

fn spdx3(value: &Value) -> Result<ListedBill, Unreadable> {
    let (mut elements, mut products, mut contained) = (Vec::new(), HashSet::new(), Vec::new());
    let mut version = String::from("3");
    for element in value["@graph"].as_array().into_iter().flatten() {
        match element["type"].as_str().unwrap_or_default() {
            "CreationInfo" => {
                version = element["specVersion"].as_str().unwrap_or("3").to_owned();
            }
            "software_Package" => {
                let of = Spdx3Package::deserialize(element).map_err(|error| wrong(&error))?;
                let digests = of.hashes.iter().filter(|hash| hash.algorithm == "sha256");
                let digests = digests.map(|hash| hash.hash_value.to_lowercase()).collect();
                elements.push((of.id, package(of.name, of.version, of.purl.as_deref(), digests)));
            }
            "software_Sbom" => {
                let roots = element["rootElement"].as_array().into_iter().flatten();
                products.extend(roots.filter_map(Value::as_str).map(str::to_owned));
            }
            "Relationship" => {
                let of = Spdx3Relationship::deserialize(element).map_err(|error| wrong(&error))?;
                if of.relationship_type == "contains" {
                    contained.extend(of.to.into_iter().map(|inside| (of.from.clone(), inside)));
                }
            }
            _ => (),
        }
    }
    let format = format!("SPDX {version}");
    Ok(ListedBill { format, packages: without_products(&elements, &products, contained) })
}
