//! Packages in a container registry: any that implements the OCI Distribution Specification 1.1.
//!
//! `oci://garden.example/fernhollow` holds each package in a repository below `fernhollow`. A release is a tag by its version,
//! whose config is the card and whose layers are the archives; what happened to releases later are artifacts of their own, and an
//! index names the whole history. What a registry says of itself is in a repository beside those of the packages.

mod artifact;
mod distribution;
mod event_tags;
mod publishing;
mod search;
mod tags;

use std::collections::BTreeMap;
use std::io::Read;
use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::history::History;
use bibliotax_core::manifest::Allowed;
use bibliotax_core::name::{FacetName, PackageName, RegistryName};
use reqwest::Url;

use self::artifact::kind;
use self::distribution::Distribution;
use self::tags::ABOUT;
use crate::client::http::cache::Cache;
use crate::client::http::client::Client;
use crate::client::http::request_error::is_let_in;
use crate::client::http::{Cards, checked};
use crate::client::network::Network;
use crate::model::description::Description;
use crate::model::error::{Asked, RegistryError};
use crate::model::private_hosts::is_loopback;
use crate::model::private_hosts::leads_inside;
use crate::model::storage::MAX_CARD_SIZE;

/// How the places of such registries begin.
pub const SCHEME: &str = "oci://";

/// The repository of what a registry says of itself; no package's name has a dot.
const ABOUT_REPOSITORY: &str = "bibliotax.registry";

/// Largest description that is read, in bytes.
const MAX_DESCRIPTION_SIZE: u64 = 4 << 20;

/// A registry in one of containers.
#[derive(Clone)]
pub struct Oci {
    name: RegistryName,
    /// Where it is, as the manifest says.
    place: String,
    /// What the repositories of its packages begin with: nothing, or something that ends in `/`.
    prefix: String,
    /// What tells it from others in a cache.
    key: String,
    distribution: Distribution,
    cards: Option<Cards>,
    description: Arc<Description>,
}

impl Oci {
    /// Opens the registry at a place, which is asked for its description.
    pub fn open(
        name: &RegistryName,
        place: &str,
        allowed: &Allowed,
        network: &Network,
    ) -> Result<Self, RegistryError> {
        let (base, prefix) = place_of(name, place, allowed.plain)?;
        let distribution = distribution(name, &base, allowed, network);
        let about = format!("{prefix}{ABOUT_REPOSITORY}");
        let whose = PathBuf::from(place);
        let manifest = distribution.artifact(&about, ABOUT)?;
        let blob = manifest.as_ref().and_then(|manifest| manifest.blob(kind::DESCRIPTION));
        let blob = blob.ok_or_else(|| RegistryError::NotMade { place: place.to_owned() })?;
        let description = Description::read(&distribution.text(&about, blob, MAX_DESCRIPTION_SIZE)?, &whose)?;
        Ok(Self {
            name: name.clone(),
            place: place.to_owned(),
            key: Digest::of(format!("{base}{prefix}").as_bytes()).to_string(),
            prefix,
            distribution,
            cards: network.cache.as_deref().map(Cards::of),
            description: Arc::new(description),
        })
    }

    /// Makes an empty registry at a place where there is none.
    pub fn create(
        name: &RegistryName,
        place: &str,
        allows_plain: bool,
        facets: BTreeMap<FacetName, Facet>,
        network: &Network,
    ) -> Result<(), RegistryError> {
        let (base, prefix) = place_of(name, place, allows_plain)?;
        let allowed = Allowed { plain: allows_plain, ..Allowed::default() };
        let distribution = distribution(name, &base, &allowed, network);
        let about = format!("{prefix}{ABOUT_REPOSITORY}");
        if distribution.artifact_now(&about, ABOUT)?.is_some() {
            return Err(RegistryError::NotEmpty { path: place.into() });
        }
        let text = Description::of_files(name.as_str(), facets).to_string();
        distribution.put_text_artifact(&about, ABOUT, kind::DESCRIPTION, &text)
    }

    /// Whether it is at a place that only this machine or its network reaches.
    pub fn is_inside(&self) -> bool {
        leads_inside(self.distribution.client().base())
    }

    /// The name that the registry gives itself.
    pub fn name(&self) -> &str {
        &self.description.name
    }

    /// The facets that the registry defines.
    pub fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.description.facets
    }

    /// Where the history of a package is, for messages.
    pub fn place_of(&self, package: &PackageName) -> PathBuf {
        PathBuf::from(self.url()).join(package.as_str())
    }

    /// Where it is.
    pub fn url(&self) -> &str {
        &self.place
    }

    /// The history of a package; `None` if the registry doesn't hold the name.
    pub fn history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        let text = self.history_text(package)?;
        text.map(|text| self.folded(package, &text)).transpose()
    }

    /// Opens an archive of a package, whose bytes are yet to be checked.
    pub fn open_archive(
        &self,
        package: &PackageName,
        archive: &Archive,
        from: u64,
    ) -> Result<Box<dyn Read + Send>, RegistryError> {
        self.distribution.open(&self.repository(package), &archive.sha256, archive.size, from)
    }

    /// The text of a package's card, whose digest is yet to be checked; `None` if it is not there.
    pub fn card_text(&self, package: &PackageName, digest: &Digest) -> Result<Option<String>, RegistryError> {
        if let Some(text) = self.cards.as_ref().and_then(|cards| cards.read(digest)) {
            return Ok(Some(text));
        }
        let text = self.distribution.text_of(&self.repository(package), digest, MAX_CARD_SIZE)?;
        if let (Some(cards), Some(text)) = (&self.cards, &text) {
            cards.keep(digest, text);
        }
        Ok(text)
    }

    /// What would open it, and whether it does; `None` where there is nothing.
    pub fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        let client = self.distribution.client();
        let Some(credential) = client.credential()? else { return Ok(None) };
        let is_let_in = is_let_in(client.bytes("", MAX_DESCRIPTION_SIZE))?;
        Ok(Some((credential.found_in.clone(), is_let_in)))
    }

    fn repository(&self, package: &PackageName) -> String {
        format!("{}{package}", self.prefix)
    }
}

fn distribution(name: &RegistryName, base: &Url, allowed: &Allowed, network: &Network) -> Distribution {
    let asked = Asked::Registry(name.clone());
    let client = Client::challenged(asked, base.clone(), network, allowed);
    Distribution::new(client, network.cache.as_ref().map(|folder| Cache::of(folder, base)))
}

/// Where a registry's interface is, and what its repositories begin with. This machine itself and, where that is allowed, others
/// are asked without encryption.
fn place_of(name: &RegistryName, place: &str, allows_plain: bool) -> Result<(Url, String), RegistryError> {
    let wrong = || RegistryError::Scheme { asked: Asked::Registry(name.clone()), url: place.to_owned() };
    let path = place.strip_prefix(SCHEME).ok_or_else(wrong)?.trim_end_matches('/');
    let (host, prefix) = path.split_once('/').unwrap_or((path, ""));
    if host.is_empty() || !prefix.is_empty() && !prefix.split('/').all(is_component) {
        return Err(wrong());
    }
    let at = |scheme: &str| checked(&Asked::Registry(name.clone()), &format!("{scheme}://{host}/v2/"), true);
    let encrypted = at("https")?;
    let base = if allows_plain || is_loopback(&encrypted) { at("http")? } else { encrypted };
    let prefix = if prefix.is_empty() { String::new() } else { format!("{prefix}/") };
    Ok((base, prefix))
}

/// Whether it can be a part of a repository's name (distribution specification, "Pulling manifests").
fn is_component(part: &str) -> bool {
    let is_letter = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit();
    let bytes = part.as_bytes();
    let ends = [bytes.first(), bytes.last()];
    let is_joint = |joint: &str| matches!(joint, "." | "_" | "__") || joint.bytes().all(|byte| byte == b'-');
    ends.iter().all(|end| end.is_some_and(|byte| is_letter(*byte)))
        && part.split(|c: char| c.is_ascii_lowercase() || c.is_ascii_digit()).all(is_joint)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_become_interfaces_and_prefixes() {
        let name: RegistryName = "garden".parse().unwrap();
        let of = |place: &str, plain| {
            place_of(&name, place, plain).ok().map(|(base, prefix)| format!("{base} {prefix}"))
        };
        for (place, plain, wanted) in [
            ("oci://garden.example/fernhollow", false, "https://garden.example/v2/ fernhollow/"),
            ("oci://garden.example/moss_bed/a--b.c/", false, "https://garden.example/v2/ moss_bed/a--b.c/"),
            ("oci://garden.example", false, "https://garden.example/v2/ "),
            ("oci://garden.example:5000/x", true, "http://garden.example:5000/v2/ x/"),
            ("oci://127.0.0.1:5000/x", false, "http://127.0.0.1:5000/v2/ x/"),
        ] {
            assert_eq!(of(place, plain).as_deref(), Some(wanted), "{place}");
        }
        for wrong in [
            "https://garden.example/x",
            "oci://",
            "oci:///x",
            "oci://garden.example/Moss",
            "oci://garden.example/a..b",
            "oci://garden.example/a/../b",
            "oci://garden.example/-a",
            "oci://garden.example/a?b",
            "oci://moss:pw@garden.example/a",
        ] {
            assert_eq!(of(wrong, false), None, "{wrong}");
        }
    }
}
