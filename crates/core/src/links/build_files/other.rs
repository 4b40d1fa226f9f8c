//! Files for compilers' command lines, for interpreters, shells and editors.

use serde_json::{Map, Value, json};

use super::c_flags::CFlags;
use super::{Paths, Unrenderable, exposed, is_absolute, seen};
use crate::links::{Links, quoted};

/// Options for a compiler's `@FILE`, which splits at blanks and takes what stands behind a backslash for itself.
pub fn compile_flags(links: &Links, up: &str) -> Result<String, Unrenderable> {
    let flags = CFlags::of_all(links);
    let include = flags.include.iter().map(|path| format!("-I{}", seen(path, up)));
    let defines = flags.defines.iter().map(|define| format!("-D{define}"));
    let words = include.chain(defines).chain(flags.compile.iter().cloned());
    Ok(words.map(|word| escaped_word(&word) + "\n").collect())
}

fn escaped_word(word: &str) -> String {
    word.chars().fold(String::new(), |mut all, c| {
        if c.is_whitespace() || matches!(c, '\\' | '"' | '\'') {
            all.push('\\');
        }
        all.push(c);
        all
    })
}

/// The folders that Node looks packages up in: those that the packages' own folders are in, by their names.
pub fn node_path(links: &Links, up: &str, paths: Paths) -> Result<String, Unrenderable> {
    let of_packages = links.packages.iter().flat_map(|package| {
        let folder = |path: &String| {
            // The package's own folder is found by its name in the folder above.
            let is_own = *path == package.path && path.ends_with(&format!("/{}", package.name));
            if is_own {
                path.rsplit_once('/').map_or(path.clone(), |(above, _)| above.to_owned())
            } else {
                path.clone()
            }
        };
        exposed(package, "node").iter().map(folder).collect::<Vec<_>>()
    });
    paths.joined(of_packages.map(|path| seen(&path, up)))
}

/// An import map: each package by its name leads to its first module, and with a `/` behind to what is in its folder.
pub fn import_map(links: &Links) -> String {
    let mut imports = Map::new();
    for package in &links.packages {
        let address = |path: &str| {
            // A map's addresses begin where the map is.
            let path = if is_absolute(path) { format!("file://{path}") } else { format!("../../{path}") };
            Value::from(path.replace('%', "%25").replace(' ', "%20").replace('?', "%3F").replace('#', "%23"))
        };
        if let Some(module) = exposed(package, "modules").first() {
            imports.insert(package.name.to_string(), address(module));
            imports.insert(format!("{}/", package.name), address(&format!("{}/", package.path)));
        }
    }
    pretty(&json!({ "imports": imports }))
}

/// Variables for a shell that reads the file in the project's folder.
pub fn shell(links: &Links, up: &str, separator: char) -> String {
    let mut text = String::from(
        "# Made by bibliotax from the lock; changed by `bibliotax install`. Read it in the project's folder: . FILE\n",
    );
    text += &format!(
        "BIBLIOTAX_ROOT=$(cd {} && pwd)\nexport BIBLIOTAX_ROOT\n",
        quoted(if up.is_empty() { "." } else { up })
    );
    let rooted = |path: &str| {
        if is_absolute(path) { quoted(path) } else { format!("\"$BIBLIOTAX_ROOT\"/{}", quoted(path)) }
    };
    for (name, paths) in links.variable_paths() {
        let value: Vec<String> =
            paths.iter().map(|(path, is_path)| if *is_path { rooted(path) } else { quoted(path) }).collect();
        text += &format!("{name}={}\nexport {name}\n", value.join(&quoted(&separator.to_string())));
    }
    let programs: Vec<String> = super::paths_of(links, "bin").map(rooted).collect();
    if !programs.is_empty() {
        text += &format!("PATH=$PATH:{}\nexport PATH\n", programs.join(":"));
    }
    text
}

/// The file of the editor's extension for C, version 4.
pub fn vscode(links: &Links) -> String {
    let flags = CFlags::of_all(links);
    let rooted =
        |path: &String| if is_absolute(path) { path.clone() } else { format!("${{workspaceFolder}}/{path}") };
    let include: Vec<String> = flags.include.iter().map(rooted).collect();
    let name = links.target.as_ref().map_or("bibliotax", |target| target.as_str());
    pretty(&json!({
        "version": 4,
        "configurations": [{ "name": name, "includePath": include, "defines": flags.defines, "compilerArgs": flags.compile }],
    }))
}

fn pretty(value: &Value) -> String {
    // Texts: nothing that could fail to be JSON.
    serde_json::to_string_pretty(value).unwrap_or_default() + "\n"
}
