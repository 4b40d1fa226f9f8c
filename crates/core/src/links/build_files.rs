//! Files for build tools, made of links: what each tool reads to find the packages of a project.
//!
//! | tool | file, behind the project's and target's names | paths begin |
//! |---|---|---|
//! | `make` | `.mk` | where the file is |
//! | `cmake` | `.cmake` | where the file is |
//! | `pkg-config` | `.pkg-config/NAME.pc` | where the file is |
//! | `meson` | `.meson.ini`, a machine file (and those for `pkg-config`) | at the root of the disk |
//! | `compile-flags` | `.compile-flags`, for a compiler's `@FILE` | in the project's folder |
//! | `python-path`, `node-path`, `class-path` | the same word | in the project's folder |
//! | `import-map` | `.import-map.json` | where the file is |
//! | `shell` | `.sh` | in the project's folder |
//! | `vscode` | `.c_cpp_properties.json` | in the workspace's folder |

mod c_flags;
mod cmake;
mod make;
mod other;
mod pkg_config;
#[cfg(test)]
mod tests;

use super::{LinkedPackage, Links};
use crate::build_tool::BuildTool;

/// That links can't be rendered for a tool.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` can't stand in a file for {tool}: {why}")]
pub struct Unrenderable {
    /// The tool.
    pub tool: BuildTool,
    /// The path that it can't have.
    pub text: String,
    /// Why not.
    pub why: &'static str,
}

/// A file for a build tool: what ends its name behind the project's and target's, and its text.
pub type BuildFile = (String, String);

/// Where files for build tools are read.
#[derive(Debug, Clone, Copy)]
pub struct BuildPlace<'p> {
    /// The workspace's folder from the root of the disk, for tools that know no other way.
    pub root: &'p str,
    /// The way from the project's folder to the workspace's: `../` for each folder between.
    pub up: &'p str,
    /// What stands between the paths of a variable.
    pub separator: char,
}

/// The files that a tool reads: of these links, whose paths begin in the workspace's folder or at the root of the disk.
pub fn build_files(
    tool: BuildTool,
    links: &Links,
    place: &BuildPlace<'_>,
) -> Result<Vec<BuildFile>, Unrenderable> {
    let BuildPlace { root, up, separator } = *place;
    let one = |text: Result<String, Unrenderable>| Ok(vec![(tool.ending().to_owned(), text?)]);
    let paths = Paths { tool, separator };
    match tool {
        BuildTool::Make => one(make::text(links)),
        BuildTool::Cmake => one(cmake::text(links)),
        BuildTool::PkgConfig => pkg_config::files(links),
        BuildTool::Meson => {
            let mut files = pkg_config::files(links)?;
            files.push((tool.ending().to_owned(), pkg_config::machine_file(links, root)));
            Ok(files)
        }
        BuildTool::CompileFlags => one(other::compile_flags(links, up)),
        BuildTool::PythonPath => one(paths.list(links, "python", up)),
        BuildTool::ClassPath => one(paths.list(links, "classes", up)),
        BuildTool::NodePath => one(other::node_path(links, up, paths)),
        BuildTool::ImportMap => one(Ok(other::import_map(links))),
        BuildTool::Shell => one(Ok(other::shell(links, up, separator))),
        BuildTool::Vscode => one(Ok(other::vscode(links))),
    }
}

/// Lists of paths for variables of the environment.
#[derive(Clone, Copy)]
struct Paths {
    tool: BuildTool,
    separator: char,
}

impl Paths {
    /// The paths of a role on one line.
    fn list(self, links: &Links, role: &str, up: &str) -> Result<String, Unrenderable> {
        self.joined(paths_of(links, role).map(|path| seen(path, up)))
    }

    fn joined(self, paths: impl Iterator<Item = String>) -> Result<String, Unrenderable> {
        let mut list: Vec<String> = Vec::new();
        for path in paths {
            if path.contains(self.separator) {
                let why = "it has the sign that separates paths";
                return Err(Unrenderable { tool: self.tool, text: path, why });
            }
            if !list.contains(&path) {
                list.push(path);
            }
        }
        Ok(list.join(&self.separator.to_string()) + "\n")
    }
}

/// The paths of a role of all packages.
fn paths_of<'l>(links: &'l Links, role: &str) -> impl Iterator<Item = &'l str> {
    let found = links.roles.iter().find(|(name, _)| name.as_str() == role);
    found.into_iter().flat_map(|(_, paths)| paths).map(String::as_str)
}

/// What a package exposes in a role.
fn exposed<'l>(package: &'l LinkedPackage, role: &str) -> &'l [String] {
    let found = package.exposes.iter().find(|(name, _)| name.as_str() == role);
    found.map(|(_, paths)| paths.as_slice()).unwrap_or_default()
}

fn is_absolute(path: &str) -> bool {
    path.starts_with('/') || path.as_bytes().get(1) == Some(&b':')
}

/// A path from the workspace's folder as it is seen from below it; one from the root of the disk stays.
fn seen(path: &str, up: &str) -> String {
    if is_absolute(path) { path.to_owned() } else { format!("{up}{path}") }
}

/// The name of a variable or of a define for a package.
fn upper(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect()
}
