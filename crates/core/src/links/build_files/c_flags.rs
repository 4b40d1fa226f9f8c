//! What packages say to compilers and linkers of C.

use super::{exposed, paths_of};
use crate::links::{LinkedPackage, Links};

/// Endings of libraries that are files.
const LIBRARIES: [&str; 5] = [".a", ".so", ".dylib", ".lib", ".dll"];

/// What is said to a compiler and a linker. Paths are as they are in links.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct CFlags {
    /// Folders of headers.
    pub include: Vec<String>,
    /// `NAME` or `NAME=VALUE`.
    pub defines: Vec<String>,
    /// Further options of the compiler.
    pub compile: Vec<String>,
    /// Folders of libraries.
    pub folders: Vec<String>,
    /// Libraries that are files.
    pub files: Vec<String>,
    /// Libraries by name, without `-l`.
    pub libraries: Vec<String>,
    /// Further options of the linker.
    pub link: Vec<String>,
}

impl CFlags {
    /// Those of all packages.
    pub fn of_all(links: &Links) -> Self {
        Self::of(|role| paths_of(links, role).map(str::to_owned).collect())
    }

    /// Those of one package.
    pub fn of_package(package: &LinkedPackage) -> Self {
        Self::of(|role| exposed(package, role).to_vec())
    }

    fn of(role: impl Fn(&str) -> Vec<String>) -> Self {
        let is_file = |path: &String| {
            let name = path.rsplit('/').next().unwrap_or(path);
            LIBRARIES.iter().any(|ending| name.ends_with(ending)) || name.contains(".so.")
        };
        let (files, folders) = role("lib").into_iter().partition(is_file);
        let plain = |library: String| library.strip_prefix("-l").map(str::to_owned).unwrap_or(library);
        Self {
            include: each_once(role("include")),
            defines: each_once(role("defines").into_iter().map(|define| without(&define, "-D")).collect()),
            compile: each_once(role("compile-flags")),
            folders: each_once(folders),
            files: each_once(files),
            libraries: last_of_each(role("libraries").into_iter().map(plain).collect()),
            link: each_once(role("link-flags")),
        }
    }
}

fn without(text: &str, prefix: &str) -> String {
    text.strip_prefix(prefix).unwrap_or(text).to_owned()
}

/// Each once, where it stands first.
fn each_once(mut texts: Vec<String>) -> Vec<String> {
    let mut seen = std::collections::HashSet::new();
    texts.retain(|text| seen.insert(text.clone()));
    texts
}

/// Each once, where it stands last: what needs a library stands before it.
fn last_of_each(texts: Vec<String>) -> Vec<String> {
    let mut reversed = each_once(texts.into_iter().rev().collect());
    reversed.reverse();
    reversed
}
