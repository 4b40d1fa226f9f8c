//! The manifest that a new project starts from.

use crate::name::{PackageName, RegistryName};

/// A registry that a new manifest declares.
#[derive(Debug, Clone)]
pub struct RegistryLine {
    /// The name that the manifest gives it.
    pub name: RegistryName,
    /// Where it is: a folder relative to the manifest's, or a URL.
    pub url: String,
}

/// The text of a new manifest, with comments that say what can stand where.
pub fn new_manifest(project: &PackageName, registries: &[RegistryLine]) -> String {
    let mut lines = String::new();
    for registry in registries {
        // A TOML basic string and a JSON string escape alike what a path can hold.
        let url = serde_json::Value::from(registry.url.as_str());
        lines.push_str(&format!("{} = {url}\n", registry.name));
    }
    if registries.is_empty() {
        lines.push_str("# seedhouse = \"../registry\"          # a folder, relative to this one\n");
    }
    format!(
        r#"# What this project needs, for people to read and edit. `bibliotax need` and
# `bibliotax drop` edit it, too, and leave comments and order as they are.

[project]
name = "{project}"
# version = "0.1.0"                   # wanted only for publishing
# license = "MIT"                     # an SPDX expression

# Where packages are looked up. A name that two registries hold is an error
# until one of them `owns` it: {{ url = "../other", owns = ["garden/*"] }}
[registries]
{lines}
# "2.4 .. 3" takes 2.4 and up, but not 3; "= 2.4.1" just that one; "any" all.
# Needs of another purpose than running stand apart: [needs-for.test]
[needs]
"#
    )
}
