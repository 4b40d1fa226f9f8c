//! Artifacts of the OCI Image Specification 1.1: manifests that name blobs by their digests.

use std::collections::BTreeMap;

use bibliotax_core::digest::Digest;
use data_encoding::BASE64;
use serde::{Deserialize, Serialize};

/// A manifest.
pub const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";

/// The config of an artifact that has none, `{}`.
const EMPTY: &str = "application/vnd.oci.empty.v1+json";

/// The bytes of [`EMPTY`].
pub const EMPTY_TEXT: &str = "{}";

/// What an artifact is, and the only blob of those that are a text.
pub mod kind {
    /// A release: its card is the config, its archives the layers.
    pub const RELEASE: &str = "application/vnd.bibliotax.release.v1";
    /// A card.
    pub const CARD: &str = "application/vnd.bibliotax.card.v1+json";
    /// Something that happened to releases.
    pub const EVENT: &str = "application/vnd.bibliotax.event.v1+json";
    /// A package's history.
    pub const HISTORY: &str = "application/vnd.bibliotax.history.v1+jsonl";
    /// What a registry says of itself.
    pub const DESCRIPTION: &str = "application/vnd.bibliotax.registry.v1+json";
}

/// Largest blob that stands in a manifest, too, in bytes; it saves a request.
const MAX_INSIDE_SIZE: usize = 64 << 10;

/// A manifest (image specification, "OCI Image Manifest Specification").
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Manifest {
    schema_version: u32,
    media_type: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    artifact_type: Option<String>,
    /// What configures it.
    pub config: Descriptor,
    /// What it consists of.
    pub layers: Vec<Descriptor>,
    /// What it says of itself, for other tools.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

/// Where a blob is named (image specification, "OCI Content Descriptors").
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Descriptor {
    /// What it is.
    pub media_type: String,
    digest: String,
    /// Its length in bytes.
    pub size: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    data: Option<String>,
    /// What is said of it, for other tools.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub annotations: BTreeMap<String, String>,
}

impl Manifest {
    /// An artifact of this kind.
    pub fn new(kind: &str, config: Descriptor, layers: Vec<Descriptor>) -> Self {
        // Registries want a layer, be it one of nothing.
        let layers = if layers.is_empty() { vec![Descriptor::empty()] } else { layers };
        Self {
            schema_version: 2,
            media_type: MANIFEST.to_owned(),
            artifact_type: Some(kind.to_owned()),
            config,
            layers,
            annotations: BTreeMap::new(),
        }
    }

    /// An artifact that is a text of this kind.
    pub fn of_text(kind: &str, text: &str) -> Self {
        Self::new(kind, Descriptor::empty(), vec![Descriptor::of_text(kind, text)])
    }

    /// The blob of this kind that it consists of, or is configured by.
    pub fn blob(&self, kind: &str) -> Option<&Descriptor> {
        [&self.config].into_iter().chain(&self.layers).find(|blob| blob.media_type == kind)
    }
}

impl Descriptor {
    /// Names a blob that is somewhere else.
    pub fn new(kind: &str, digest: &Digest, size: u64) -> Self {
        let (media_type, digest) = (kind.to_owned(), in_full(digest));
        Self { media_type, digest, size, data: None, annotations: BTreeMap::new() }
    }

    /// Names a text, and holds it if it is short.
    pub fn of_text(kind: &str, text: &str) -> Self {
        let data = (text.len() <= MAX_INSIDE_SIZE).then(|| BASE64.encode(text.as_bytes()));
        Self { data, ..Self::new(kind, &Digest::of(text.as_bytes()), text.len() as u64) }
    }

    fn empty() -> Self {
        Self::of_text(EMPTY, EMPTY_TEXT)
    }

    /// The digest; `None` where it is of another kind than ours.
    pub fn digest(&self) -> Option<Digest> {
        self.digest.strip_prefix("sha256:")?.parse().ok()
    }

    /// The text itself, where it is held here and is what its digest says.
    pub fn held(&self) -> Option<String> {
        let bytes = BASE64.decode(self.data.as_ref()?.as_bytes()).ok()?;
        (Some(Digest::of(&bytes)) == self.digest()).then(|| String::from_utf8(bytes).ok()).flatten()
    }
}

/// A digest as the image specification writes it.
pub fn in_full(digest: &Digest) -> String {
    format!("sha256:{digest}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_text_is_held_and_believed_only_by_its_digest() {
        let short = Descriptor::of_text(kind::EVENT, "{\"event\":\"restored\"}");
        assert_eq!(short.held().as_deref(), Some("{\"event\":\"restored\"}"));
        let changed = Descriptor { data: Some(BASE64.encode(b"{}")), ..short };
        assert_eq!(changed.held(), None);
        assert_eq!(Descriptor::of_text(kind::HISTORY, &"x".repeat(MAX_INSIDE_SIZE + 1)).held(), None);
    }

    #[test]
    fn manifests_are_those_of_the_specification() {
        let manifest = Manifest::of_text(kind::EVENT, "x");
        let json = serde_json::to_value(&manifest).unwrap();
        assert_eq!(json["schemaVersion"], 2);
        assert_eq!(json["mediaType"], MANIFEST);
        assert_eq!(json["config"]["mediaType"], EMPTY);
        assert_eq!(
            json["config"]["digest"],
            "sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a"
        );
        assert_eq!(json["layers"][0]["size"], 1);
        assert_eq!(serde_json::from_value::<Manifest>(json).unwrap(), manifest);
    }
}
