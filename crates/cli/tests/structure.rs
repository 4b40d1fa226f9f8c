//! Arrows between modules point one way, in every crate: no circle among the modules of a folder.
//!
//! Read from the sources: an arrow leads from a module to what its paths name. Between a module and those inside it there may be both:
//! they are one thing in several files. Tests may look at everything.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use syn::visit::Visit;
use syn::{Attribute, ItemMod, ItemUse, UseTree};

/// A module by the names that lead to it from the crate's root.
type Module = Vec<String>;

/// Which modules lead to which, with a file that says so.
type Arrows = BTreeMap<Module, BTreeMap<Module, PathBuf>>;

/// The modules of a crate with their files.
fn modules(sources: &Path) -> BTreeMap<Module, PathBuf> {
    let mut found = BTreeMap::new();
    let mut folders = vec![sources.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_some_and(|extension| extension == "rs") {
                let inner = path.strip_prefix(sources).unwrap().with_extension("");
                let mut module: Module =
                    inner.iter().map(|part| part.to_string_lossy().into_owned()).collect();
                if module == ["lib"] || module == ["main"] {
                    module.clear();
                }
                found.insert(module, path);
            }
        }
    }
    found
}

/// The paths that a file names.
#[derive(Default)]
struct Paths(Vec<Vec<String>>);

impl Paths {
    fn add_use(&mut self, mut before: Vec<String>, tree: &UseTree) {
        match tree {
            UseTree::Path(path) => {
                before.push(path.ident.to_string());
                self.add_use(before, &path.tree);
            }
            UseTree::Name(name) => {
                before.push(name.ident.to_string());
                self.0.push(before);
            }
            UseTree::Rename(rename) => {
                before.push(rename.ident.to_string());
                self.0.push(before);
            }
            UseTree::Glob(_) => self.0.push(before),
            UseTree::Group(group) => {
                group.items.iter().for_each(|tree| self.add_use(before.clone(), tree));
            }
        }
    }
}

fn is_for_tests(attributes: &[Attribute]) -> bool {
    let is_test = |attribute: &Attribute| {
        attribute.path().is_ident("cfg")
            && attribute.parse_args::<syn::Path>().is_ok_and(|path| path.is_ident("test"))
    };
    attributes.iter().any(is_test)
}

impl<'ast> Visit<'ast> for Paths {
    fn visit_item_use(&mut self, item: &'ast ItemUse) {
        if !is_for_tests(&item.attrs) {
            self.add_use(Vec::new(), &item.tree);
        }
    }

    fn visit_item_mod(&mut self, item: &'ast ItemMod) {
        if !is_for_tests(&item.attrs) {
            syn::visit::visit_item_mod(self, item);
        }
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        self.0.push(path.segments.iter().map(|segment| segment.ident.to_string()).collect());
        syn::visit::visit_path(self, path);
    }
}

/// The module that a path leads to, or into; nothing where it leads to another crate.
fn target(from: &Module, path: &[String], all: &BTreeMap<Module, PathBuf>) -> Option<Module> {
    let ups = path.iter().take_while(|name| *name == "super").count();
    let mut to = match path.first()?.as_str() {
        "crate" => path[1..].to_vec(),
        "self" => [from, &path[1..]].concat(),
        "super" => [from.get(..from.len().checked_sub(ups)?)?, &path[ups..]].concat(),
        first if all.contains_key(&[&from[..], &[first.to_owned()]].concat()) => [from, path].concat(),
        _ => return None,
    };
    while !all.contains_key(&to) {
        to.pop()?;
    }
    Some(to)
}

/// The arrows among the modules of each folder.
fn arrows(sources: &Path) -> Arrows {
    let all = modules(sources);
    let mut arrows = Arrows::new();
    for (module, file) in all.iter().filter(|(module, _)| !module.iter().any(|name| name == "tests")) {
        let mut paths = Paths::default();
        paths.visit_file(&syn::parse_file(&fs::read_to_string(file).unwrap()).unwrap());
        for to in paths.0.iter().filter_map(|path| target(module, path, &all)) {
            let common = module.iter().zip(&to).take_while(|(one, other)| one == other).count();
            if common < module.len() && common < to.len() {
                let (from, to) = (module[..=common].to_vec(), to[..=common].to_vec());
                arrows.entry(from).or_default().insert(to, file.clone());
            }
        }
    }
    arrows
}

/// The modules that can be reached from one.
fn reached(from: &Module, arrows: &Arrows) -> BTreeSet<Module> {
    let (mut reached, mut open) = (BTreeSet::new(), vec![from.clone()]);
    while let Some(module) = open.pop() {
        for next in arrows.get(&module).into_iter().flat_map(BTreeMap::keys) {
            if reached.insert(next.clone()) {
                open.push(next.clone());
            }
        }
    }
    reached
}

/// The arrows of circles, as lines that name them.
fn circles(sources: &Path) -> Vec<String> {
    let arrows = arrows(sources);
    let mut output = Vec::new();
    for (from, targets) in &arrows {
        for (to, file) in targets.iter().filter(|(to, _)| reached(to, &arrows).contains(from)) {
            let file = file.strip_prefix(sources).unwrap();
            output.push(format!("{} -> {} ({})", from.join("::"), to.join("::"), file.display()));
        }
    }
    output
}

#[test]
fn no_modules_of_a_crate_form_a_circle() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    for entry in fs::read_dir(crates).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let circles = circles(&path.join("src"));
        assert!(circles.is_empty(), "{name}: {}", circles.join("\n"));
    }
}

#[test]
fn a_circle_is_found_however_it_is_spelled() {
    let sources = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| {
        let path = sources.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    };
    write("lib.rs", "mod moss;\nmod dew;\nmod leaf;\n");
    write("moss.rs", "mod map;\nuse self::map::Map;\n");
    write("moss/map.rs", "use super::Moss;\nuse crate::{leaf::Leaf as L, dew::{Drop, self}};\n");
    write("leaf.rs", "#[cfg(test)]\nmod tests { use crate::moss::Moss; }\n");
    write("dew.rs", "fn f() { let x = crate::leaf::Leaf::new(); }\n");
    assert_eq!(circles(sources.path()), Vec::<String>::new());
    write("dew.rs", "fn f() -> Option<crate::moss::map::Map> { None }\n");
    assert_eq!(circles(sources.path()), ["dew -> moss (dew.rs)", "moss -> dew (moss/map.rs)"]);
}
