//! Targets for CMake (3.13 and newer): `bibliotax::NAME` for each package, with what it needs.

use super::c_flags::CFlags;
use super::{Unrenderable, exposed, is_absolute, upper};
use crate::links::{LinkedPackage, Links};

/// The file's text.
pub fn text(links: &Links) -> Result<String, Unrenderable> {
    let mut lines = vec![
        "# Made by bibliotax from the lock; changed by `bibliotax install`.".to_owned(),
        "include_guard(DIRECTORY)".to_owned(),
        "get_filename_component(_bibliotax_root \"${CMAKE_CURRENT_LIST_DIR}/../..\" ABSOLUTE)".to_owned(),
    ];
    for (name, command) in &links.tools {
        lines.push(format!("set(BIBLIOTAX_TOOL_{} {})", upper(name.as_str()), quoted(command)));
    }
    // A target is made before others name it.
    for package in links.packages.iter().rev() {
        target(package, &mut lines);
    }
    for package in &links.packages {
        let known =
            package.needs.iter().filter(|need| links.packages.iter().any(|other| other.name == **need));
        let needs: Vec<String> = known.map(|need| alias(need.as_str())).collect();
        if !needs.is_empty() {
            lines.push(format!(
                "target_link_libraries({} {} {})",
                plain(package),
                scope(package),
                needs.join(" ")
            ));
        }
    }
    let direct = links.packages.iter().filter(|package| !package.needed_as.is_empty());
    let direct: Vec<String> = direct.map(|package| alias(package.name.as_str())).collect();
    lines.push(format!("set(BIBLIOTAX_PACKAGES {})", direct.join(" ")));
    Ok(lines.join("\n") + "\n")
}

/// Endings of sources that are compiled.
const SOURCES: [&str; 5] = ["c", "cc", "cpp", "cxx", "S"];

/// Whether a path is a source, and not a folder of sources.
fn is_source(path: &str) -> bool {
    path.rsplit('/').next().is_some_and(|name| name.contains('.'))
}

/// A package with sources becomes a library that is built where something links to it, any other one only says what it has.
fn target(package: &LinkedPackage, lines: &mut Vec<String>) {
    let (name, scope, flags) = (plain(package), scope(package), CFlags::of_package(package));
    let (files, folders): (Vec<String>, Vec<String>) =
        exposed(package, "source").iter().cloned().partition(|path| is_source(path));
    let mut sources = list(&files);
    if !folders.is_empty() {
        let patterns = folders.iter().flat_map(|folder| SOURCES.map(|ending| format!("{folder}/*.{ending}")));
        let patterns = list(&patterns.collect::<Vec<_>>());
        lines.push(format!("file(GLOB _bibliotax_sources CONFIGURE_DEPENDS{patterns})"));
        sources += " ${_bibliotax_sources}";
    }
    lines.push(format!("# {} {}", package.name, package.version));
    lines.push(if sources.is_empty() {
        format!("add_library({name} INTERFACE)")
    } else {
        format!("add_library({name} STATIC EXCLUDE_FROM_ALL{sources})")
    });
    lines.push(format!("add_library({} ALIAS {name})", alias(package.name.as_str())));
    let mut say = |command: &str, words: String| {
        if !words.is_empty() {
            lines.push(format!("{command}({name} {scope}{words})"));
        }
    };
    let texts = |texts: &[String]| texts.iter().map(|text| format!(" {}", quoted(text))).collect::<String>();
    say("target_include_directories", list(&flags.include));
    // Its value is another one for each release and each change, so what was compiled with another one is compiled again.
    let stamp =
        package.digest().map(|digest| format!("BIBLIOTAX_{}_DIGEST={digest}", upper(package.name.as_str())));
    say("target_compile_definitions", texts(&flags.defines.iter().cloned().chain(stamp).collect::<Vec<_>>()));
    say("target_compile_options", texts(&flags.compile));
    say("target_link_directories", list(&flags.folders));
    say("target_link_options", texts(&flags.link));
    say("target_link_libraries", list(&flags.files) + &texts(&flags.libraries));
    lines.push(format!("set(BIBLIOTAX_PACKAGE_{} {})", upper(package.name.as_str()), rooted(&package.path)));
    if let Some(stamp) = &package.stamp {
        lines.push(format!(
            "set_property(DIRECTORY APPEND PROPERTY CMAKE_CONFIGURE_DEPENDS {})",
            rooted(stamp)
        ));
    }
}

fn scope(package: &LinkedPackage) -> &'static str {
    if exposed(package, "source").is_empty() { "INTERFACE" } else { "PUBLIC" }
}

fn plain(package: &LinkedPackage) -> String {
    format!("bibliotax_{}", package.name.as_str().replace('/', "."))
}

fn alias(name: &str) -> String {
    format!("bibliotax::{}", name.replace('/', "::"))
}

fn list(paths: &[String]) -> String {
    paths.iter().map(|path| format!(" {}", rooted(path))).collect()
}

fn rooted(path: &str) -> String {
    if is_absolute(path) { quoted(path) } else { format!("\"${{_bibliotax_root}}/{}\"", escaped(path)) }
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", escaped(text))
}

/// A text between quotation marks in which nothing is expanded (cmake-language, "Quoted Argument").
fn escaped(text: &str) -> String {
    text.chars().fold(String::new(), |mut all, c| {
        if matches!(c, '\\' | '"' | '$' | ';') {
            all.push('\\');
        }
        all.push(c);
        all
    })
}
