//! Variables for make (POSIX.1-2024, `make`; GNU's `MAKEFILE_LIST` for where the file is).

use super::c_flags::CFlags;
use super::{Unrenderable, is_absolute, upper};
use crate::build_tool::BuildTool;
use crate::exposes::RoleKind;
use crate::links::Links;

/// The variable that holds the workspace's folder.
const ROOT: &str = "BIBLIOTAX_ROOT";

/// The file's text.
pub fn text(links: &Links) -> Result<String, Unrenderable> {
    let flags = CFlags::of_all(links);
    let paths = |prefix: &str, paths: &[String]| -> Result<Vec<String>, Unrenderable> {
        paths.iter().map(|path| Ok(format!("{prefix}{}", rooted(path)?))).collect()
    };
    let mut lines = vec![
        "# Made by bibliotax from the lock; changed by `bibliotax install`.".to_owned(),
        format!("{ROOT} := $(patsubst %/,%,$(dir $(lastword $(MAKEFILE_LIST))))/../.."),
    ];
    let defines: Vec<String> = flags.defines.iter().map(|define| format!("-D{}", escaped(define))).collect();
    let libraries: Vec<String> =
        flags.libraries.iter().map(|library| format!("-l{}", escaped(library))).collect();
    let variables = [
        ("CPPFLAGS", [paths("-I", &flags.include)?, defines].concat()),
        ("CFLAGS", flags.compile.iter().map(|flag| escaped(flag)).collect()),
        (
            "LDFLAGS",
            [paths("-L", &flags.folders)?, flags.link.iter().map(|flag| escaped(flag)).collect()].concat(),
        ),
        ("LDLIBS", [paths("", &flags.files)?, libraries].concat()),
    ];
    for (name, words) in variables {
        lines.push(variable(name, &words));
    }
    let mut stamps = Vec::new();
    for package in &links.packages {
        let name = upper(package.name.as_str());
        lines.push(variable(&format!("PACKAGE_{name}"), &[rooted(&package.path)?]));
        lines.push(variable(&format!("VERSION_{name}"), &[escaped(&package.version.to_string())]));
        if let Some(stamp) = &package.stamp {
            stamps.push(rooted(stamp)?);
        }
    }
    for (role, paths) in &links.roles {
        let is_path = RoleKind::of(role) == RoleKind::Paths;
        let words = paths.iter().map(|path| if is_path { rooted(path) } else { Ok(escaped(path)) });
        lines.push(variable(
            &format!("ROLE_{}", upper(role.as_str())),
            &words.collect::<Result<Vec<_>, _>>()?,
        ));
    }
    for (name, command) in &links.tools {
        lines.push(variable(&format!("TOOL_{}", upper(name.as_str())), &[command.replace('$', "$$")]));
    }
    lines.push(
        "# Newer than all that was built before a package changed: `$(OBJECTS): $(BIBLIOTAX_STAMPS)`"
            .to_owned(),
    );
    lines.push(variable("STAMPS", &stamps));
    Ok(lines.join("\n") + "\n")
}

fn variable(name: &str, words: &[String]) -> String {
    format!("BIBLIOTAX_{name} :={}", words.iter().map(|word| format!(" {word}")).collect::<String>())
}

/// A path that begins where the file is, as a word.
fn rooted(path: &str) -> Result<String, Unrenderable> {
    if path.contains(|c: char| c.is_whitespace()) {
        let why = "its lists are separated by blanks";
        return Err(Unrenderable { tool: BuildTool::Make, text: path.to_owned(), why });
    }
    if let Some(sign) = path.chars().find(|c| "'\"`;&|<>()*?[]{}~%\\".contains(*c)) {
        let why = if sign == '%' { "it has a `%`" } else { "it has a sign that shells act on" };
        return Err(Unrenderable { tool: BuildTool::Make, text: path.to_owned(), why });
    }
    let path = escaped(path);
    Ok(if is_absolute(&path) { path } else { format!("$({ROOT})/{path}") })
}

/// A word in which nothing is expanded, by make or by a shell.
fn escaped(word: &str) -> String {
    word.replace('$', "\\$$").replace('#', "\\#")
}
