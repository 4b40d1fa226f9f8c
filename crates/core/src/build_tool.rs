//! The build tools that links are rendered for.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::fault::Fault;
use crate::nearest::nearest;

/// A build tool that links are rendered for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BuildTool {
    /// Variables for make.
    Make,
    /// Targets for CMake.
    Cmake,
    /// A machine file for Meson.
    Meson,
    /// A file for pkg-config for each package.
    PkgConfig,
    /// Options for C compilers.
    CompileFlags,
    /// Folders that Python looks modules up in.
    PythonPath,
    /// An import map for modules of JavaScript (HTML Living Standard, "Import maps").
    ImportMap,
    /// Folders that Node looks packages up in.
    NodePath,
    /// Folders and archives of classes for Java.
    ClassPath,
    /// Variables for a shell.
    Shell,
    /// Include paths and defines for the editor of that name.
    Vscode,
}

impl BuildTool {
    /// All tools with their names.
    pub const ALL: [(&'static str, Self); 11] = [
        ("make", Self::Make),
        ("cmake", Self::Cmake),
        ("meson", Self::Meson),
        ("pkg-config", Self::PkgConfig),
        ("compile-flags", Self::CompileFlags),
        ("python-path", Self::PythonPath),
        ("import-map", Self::ImportMap),
        ("node-path", Self::NodePath),
        ("class-path", Self::ClassPath),
        ("shell", Self::Shell),
        ("vscode", Self::Vscode),
    ];

    /// What the tool's file, or folder of files, is called behind the project's and target's names.
    pub fn ending(self) -> &'static str {
        match self {
            Self::Make => "mk",
            Self::Cmake => "cmake",
            Self::Meson => "meson.ini",
            Self::PkgConfig => "pkg-config",
            Self::CompileFlags => "compile-flags",
            Self::PythonPath => "python-path",
            Self::ImportMap => "import-map.json",
            Self::NodePath => "node-path",
            Self::ClassPath => "class-path",
            Self::Shell => "sh",
            Self::Vscode => "c_cpp_properties.json",
        }
    }

    /// The line that a build file or a person needs, where the tool's file is at this path, and for another machine than this one if
    /// the target has tools of its own.
    pub fn line(self, path: &str, is_cross: bool) -> String {
        match self {
            Self::Make => format!("include {path}"),
            Self::Cmake => format!("include(${{CMAKE_CURRENT_SOURCE_DIR}}/{path})"),
            Self::Meson if is_cross => format!("meson setup build --cross-file {path}"),
            Self::Meson => format!("meson setup build --native-file {path}"),
            Self::PkgConfig => format!("PKG_CONFIG_PATH={path} pkg-config --cflags --libs PACKAGE"),
            Self::CompileFlags => format!("cc @{path} -c FILE.c"),
            Self::PythonPath => format!("PYTHONPATH=\"$(cat {path})\" python3 FILE.py"),
            Self::ImportMap => format!("<script type=\"importmap\"> with what {path} contains"),
            Self::NodePath => format!("NODE_PATH=\"$(cat {path})\" node FILE.js"),
            Self::ClassPath => format!("javac -cp \"$(cat {path})\" FILE.java"),
            Self::Shell => format!(". {path}"),
            Self::Vscode => format!("cp {path} .vscode/c_cpp_properties.json"),
        }
    }
}

impl FromStr for BuildTool {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let names = || Self::ALL.iter().map(|(name, _)| *name);
        if let Some((_, tool)) = Self::ALL.iter().find(|(name, _)| *name == text) {
            return Ok(*tool);
        }
        let near = nearest(text, names(), 1);
        let fault = Fault::new("links.tool", format!("there are no links for `{text}`"), 0..text.len());
        Err(match near.first() {
            Some(near) => fault.advice(format!("write `{near}`")).fix(0..text.len(), *near),
            None => fault.advice(format!(
                "there are links for {}; for another tool, write a template",
                names().collect::<Vec<_>>().join(", ")
            )),
        })
    }
}

impl fmt::Display for BuildTool {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::ALL.iter().find(|(_, tool)| tool == self).map_or("", |(name, _)| name))
    }
}
