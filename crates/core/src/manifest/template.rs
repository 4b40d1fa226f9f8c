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

/// The text of a new project's manifest, with comments that say what can stand where.
pub fn new_manifest(project: &PackageName, registries: &[RegistryLine]) -> String {
    format!("{}\n{}\n{NEEDS}", head(project), registries_part(registries))
}

/// The text of a new project's manifest: where packages are looked up is for its workspace to say.
pub fn new_project(project: &PackageName) -> String {
    format!("{}\n{NEEDS}", head(project))
}

/// The text of a new workspace's manifest, which lists these folders.
pub fn new_workspace(projects: &[String], registries: &[RegistryLine]) -> String {
    let projects: Vec<String> = projects.iter().map(|project| quoted(project)).collect();
    format!(
        r#"# The projects in these folders share one lock and one shelf. `bibliotax init` in
# a new folder creates a project and adds it here; "parts/*" lists all in parts.
[workspace]
folders = [{}]

{}
# Ranges for several projects: a project uses one by writing `PACKAGE = "shared"`.
[shared]
"#,
        projects.join(", "),
        registries_part(registries)
    )
}

const NEEDS: &str = r#"# The packages, each with the range of versions that it may have:
# "2.4 .. 3" is 2.4 or newer, below 3; "= 2.4.1" only this version; "any" all.
# Packages for tests and other purposes stand under [needs-for.test] and so on.
[needs]
"#;

fn head(project: &PackageName) -> String {
    format!(
        r#"# The packages that this project needs. You can edit this file; `bibliotax need`
# and `bibliotax drop` edit it, too, and keep comments and order.

[project]
name = "{project}"
# version = "0.1.0"                   # only required for publishing
# license = "MIT"                     # an SPDX expression
"#
    )
}

fn registries_part(registries: &[RegistryLine]) -> String {
    let mut part = r#"# Where packages are looked up. If two registries have a package of one name,
# say which one to use: { url = "../other", owns = ["garden/*"] }
[registries]
"#
    .to_owned();
    for registry in registries {
        part.push_str(&format!("{} = {}\n", registry.name, quoted(&registry.url)));
    }
    if registries.is_empty() {
        part.push_str("# seedhouse = \"../registry\"          # a folder, relative to this one\n");
    }
    part
}

/// A text as a TOML basic string, which escapes alike what a path can hold as a JSON string does.
fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}
