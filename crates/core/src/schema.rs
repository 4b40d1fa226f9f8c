//! JSON Schemas (draft 2020-12) of the files that people and tools read: for editors, validators and programs.
//!
//! What serialises as a type of its own derives its schema; this module has the schemas of texts with a grammar, and the
//! manifest's, which is written by hand because a manifest is read by its own reader.

use std::borrow::Cow;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};

use crate::card::{Card, Event};
use crate::digest::Digest;
use crate::inner_path::InnerPath;
use crate::license::License;
use crate::links::Links;
use crate::name::{self, ProgramName};
use crate::range::Range;
use crate::source::CommitId;
use crate::version::{MAX_VERSION_LEN, Version};

/// A segment of a name.
const SEGMENT: &str = "[a-z][a-z0-9]*(-[a-z0-9]+)*";

/// The schema of a type, as a file of its own.
fn document<T: JsonSchema>(title: &str) -> Schema {
    let mut schema = SchemaGenerator::default().into_root_schema_for::<T>();
    schema.insert("title".to_owned(), title.into());
    schema
}

/// The schema of `bibliotax.toml`.
pub fn manifest() -> Schema {
    // A file of this crate, which a test reads.
    serde_json::from_str(include_str!("schema/manifest.json")).expect("a JSON Schema")
}

/// The schema of a release's card.
pub fn card() -> Schema {
    document::<Card>("A card: all that a registry knows of one release")
}

/// The schema of a line of a package's history in a registry.
pub fn event() -> Schema {
    document::<Event>("An event: one line of a package's history in a registry")
}

/// The schema of `bibliotax.lock`.
pub fn lock() -> Schema {
    document::<crate::lock::Document>("bibliotax.lock: what resolving chose")
}

/// The schema of the links that build tools read.
pub fn links() -> Schema {
    document::<Links>("Links: where the parts of a shelf are, for build tools")
}

/// Gives types that serialise as a text the schema of that text.
macro_rules! text {
    ($($type:ty, $name:literal, $schema:tt;)*) => {$(
        impl JsonSchema for $type {
            fn schema_name() -> Cow<'static, str> {
                $name.into()
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!($schema)
            }
        }
    )*};
}

/// Gives types of names without a scope their schema.
macro_rules! names {
    ($($type:ident, $what:literal;)*) => {$(
        impl JsonSchema for name::$type {
            fn schema_name() -> Cow<'static, str> {
                stringify!($type).into()
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({
                    "type": "string",
                    "description": concat!("The name of a ", $what, "."),
                    "pattern": format!("^{SEGMENT}$"),
                    "maxLength": name::MAX_SEGMENT_LEN,
                })
            }
        }
    )*};
}

names! {
    RegistryName, "registry";
    Purpose, "purpose: what a need is for, beside running";
    Family, "family";
    FacetName, "facet";
    ComponentName, "component";
    StepName, "step";
    TaskName, "task";
    TargetName, "target";
    RoleName, "role: what a path is for, to a build tool";
    ToolName, "tool of a target";
    DeviceName, "device";
    PartName, "part of a release's files";
    Tag, "tag: a word that a package is found by";
}

text! {
    name::PackageName, "PackageName", {
        "type": "string",
        "description": "The name of a package or project: `segment` or `scope/segment`.",
        "pattern": format!("^({SEGMENT}/)?{SEGMENT}$"),
        "maxLength": 2 * name::MAX_SEGMENT_LEN + 1,
    };
    ProgramName, "ProgramName", {
        "type": "string",
        "description": "The file name of a program, without an ending.",
        "pattern": "^[A-Za-z0-9][A-Za-z0-9._+-]*$",
        "maxLength": name::MAX_SEGMENT_LEN,
    };
    Version, "Version", {
        "type": "string",
        "description": "A version, such as `1.4.0` or `2.0.0-rc.1`.",
        "maxLength": MAX_VERSION_LEN,
    };
    Range, "Range", {
        "type": "string",
        "description": "A range of versions, such as `2 .. 3`, `1.4` or `1 | 3`.",
    };
    Digest, "Digest", {
        "type": "string",
        "description": "A SHA-256 digest (FIPS 180-4), in lowercase hexadecimal digits.",
        "pattern": "^[0-9a-f]{64}$",
    };
    License, "License", {
        "type": "string",
        "description": "A licence expression of SPDX, such as `MIT OR Apache-2.0`.",
    };
    InnerPath, "InnerPath", {
        "type": "string",
        "description": "A path inside a package or project, with `/` between its parts.",
    };
    CommitId, "CommitId", {
        "type": "string",
        "description": "The digest of a commit.",
        "pattern": "^([0-9a-f]{40}|[0-9a-f]{64})$",
    };
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_file_has_a_schema_with_a_title() {
        for schema in [manifest(), card(), event(), lock(), links()] {
            assert!(schema.get("title").is_some_and(serde_json::Value::is_string), "{schema:?}");
        }
    }
}
