//! Which roles the files of a package seem to play.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_present::words::count;

/// A role that files seem to play.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundRole {
    /// Its name.
    pub role: &'static str,
    /// The paths and patterns.
    pub paths: Vec<String>,
    /// What people should know or check.
    pub comment: String,
}

const HEADERS: [&str; 5] = ["h", "hh", "hpp", "hxx", "h++"];
const SOURCES: [&str; 5] = ["c", "cc", "cpp", "cxx", "c++"];

/// Folders whose files are about the package, not part of it.
const ASIDE: [&str; 14] = [
    "test",
    "tests",
    "testing",
    "example",
    "examples",
    "doc",
    "docs",
    "bench",
    "benchmarks",
    "fuzz",
    "contrib",
    "tools",
    "demo",
    "samples",
];

/// The roles that files at these paths seem to play.
pub fn roles_in(paths: &[String]) -> Vec<FoundRole> {
    let paths: Vec<&str> = paths.iter().map(String::as_str).filter(|path| !is_aside(path)).collect();
    let found =
        [headers(&paths), sources(&paths), programs(&paths), python(&paths), node(&paths), classes(&paths)];
    found.into_iter().flatten().collect()
}

fn is_aside(path: &str) -> bool {
    let folders = path.rsplit_once('/').map_or("", |(folders, _)| folders);
    folders.split('/').any(|folder| ASIDE.contains(&folder.to_lowercase().as_str()))
}

fn ending(path: &str) -> &str {
    path.rsplit_once('.').map_or("", |(_, ending)| ending)
}

fn folder(path: &str) -> &str {
    path.rsplit_once('/').map_or(".", |(folder, _)| folder)
}

fn found(role: &'static str, paths: Vec<String>, comment: String) -> Option<FoundRole> {
    (!paths.is_empty()).then_some(FoundRole { role, paths, comment })
}

/// The folder that headers are looked up from: `include` where there is one, else the highest that has any.
fn headers(paths: &[&str]) -> Option<FoundRole> {
    let headers: Vec<&str> = paths.iter().copied().filter(|path| HEADERS.contains(&ending(path))).collect();
    let in_include = headers.iter().filter(|path| path.starts_with("include/")).count();
    if in_include > 0 {
        return found("include", vec!["include".to_owned()], count(in_include, "header"));
    }
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    headers.iter().for_each(|path| *counts.entry(folder(path)).or_default() += 1);
    let depth = |folder: &str| if folder == "." { 0 } else { 1 + folder.matches('/').count() };
    let (folder, headers) =
        counts.into_iter().min_by_key(|(folder, count)| (depth(folder), std::cmp::Reverse(*count)))?;
    found(
        "include",
        vec![folder.to_owned()],
        format!("{}; check how they are included", count(headers, "header")),
    )
}

/// Patterns of the sources that are compiled into a program.
fn sources(paths: &[&str]) -> Option<FoundRole> {
    let mut patterns: BTreeSet<String> = BTreeSet::new();
    let mut files = 0;
    for path in paths.iter().filter(|path| SOURCES.contains(&ending(path))) {
        files += 1;
        let top = path.split_once('/').map(|(top, _)| top);
        patterns.insert(match top {
            None => format!("*.{}", ending(path)),
            Some(top) if folder(path) == top => format!("{top}/*.{}", ending(path)),
            Some(top) => format!("{top}/**/*.{}", ending(path)),
        });
    }
    // What goes over folders takes what is in the top one as well.
    let wide: BTreeSet<String> =
        patterns.iter().filter(|pattern| pattern.contains("/**/")).cloned().collect();
    patterns
        .retain(|pattern| !wide.contains(&pattern.replacen("/*", "/**/*", 1)) || pattern.contains("/**/"));
    let comment =
        format!("{}; leave out programs and other systems' files with \"!FILE\"", count(files, "file"));
    found("source", patterns.into_iter().collect(), comment)
}

fn programs(paths: &[&str]) -> Option<FoundRole> {
    let files = paths.iter().filter(|path| folder(path) == "bin").count();
    let comment = format!("{}; tasks find programs here", count(files, "file"));
    found("bin", Vec::from_iter((files > 0).then(|| "bin".to_owned())), comment)
}

/// The folder that modules of Python are looked up from.
fn python(paths: &[&str]) -> Option<FoundRole> {
    let packages = paths.iter().filter_map(|path| path.strip_suffix("/__init__.py"));
    let outer =
        packages.filter(|package| !paths.contains(&format!("{}/__init__.py", folder(package)).as_str()));
    let roots: BTreeSet<&str> = outer.map(folder).collect();
    let root = roots.into_iter().min_by_key(|root| root.matches('/').count())?;
    found("python", vec![root.to_owned()], "modules are looked up from here".to_owned())
}

fn node(paths: &[&str]) -> Option<FoundRole> {
    let is_there = paths.contains(&"package.json");
    found("node", Vec::from_iter(is_there.then(|| ".".to_owned())), "a package of JavaScript".to_owned())
}

fn classes(paths: &[&str]) -> Option<FoundRole> {
    let archives: Vec<String> =
        paths.iter().filter(|path| ending(path) == "jar").map(|path| (*path).to_owned()).collect();
    if !archives.is_empty() {
        return found("classes", archives, "archives of classes".to_owned());
    }
    let has_classes = paths.iter().any(|path| ending(path) == "class");
    let all = Vec::from_iter(has_classes.then(|| ".".to_owned()));
    found("classes", all, "classes of Java are looked up from here".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn roles(paths: &[&str]) -> Vec<String> {
        let paths: Vec<String> = paths.iter().map(|path| (*path).to_owned()).collect();
        roles_in(&paths)
            .into_iter()
            .map(|found| format!("{}: {}", found.role, found.paths.join(" ")))
            .collect()
    }

    #[test]
    fn roles_are_found_as_upstreams_lay_out_their_files() {
        for (paths, found) in [
            (
                &["include/moss/map.h", "src/map.c", "src/deep/leaf.c", "tests/try.c", "README"][..],
                &["include: include", "source: src/**/*.c"][..],
            ),
            (&["moss.h", "moss.c", "examples/x.c"], &["include: .", "source: *.c"]),
            (&["src/moss.h", "src/moss.cpp"], &["include: src", "source: src/*.cpp"]),
            (&["dew/__init__.py", "dew/deep/__init__.py", "setup.py"], &["python: ."]),
            (&["src/dew/__init__.py"], &["python: src"]),
            (&["package.json", "index.js"], &["node: ."]),
            (&["garden/Moss.class"], &["classes: ."]),
            (&["lib/moss.jar", "bin/moss"], &["bin: bin", "classes: lib/moss.jar"]),
            (&["data.csv"], &[]),
        ] {
            assert_eq!(roles(paths), found, "{paths:?}");
        }
    }
}
