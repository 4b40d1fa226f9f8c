//! Where things are: folders and cards that a manifest names, the package's folder on the shelf, pages on the web, and the outline.

use std::path::{Path, PathBuf};

use bibliotax_core::manifest::FILE_NAME;
use bibliotax_registry::catalogue::registries::place_of;
use lsp_types::{DocumentLink, DocumentSymbol, Location, Position, Range as LspRange, SymbolKind};

use crate::documents::{Document, uri_of};
use crate::hover::{package_named, package_of};
use crate::lookups::Knowledge;
use crate::scan::{Entry, Step, scan};
use crate::shared::Shared;

/// Where what stands at a position leads to.
pub fn definition(document: &Document, position: Position, shared: &Shared) -> Option<Location> {
    let offset = document.lines.offset(&document.text, position);
    let found = scan(&document.text);
    let entry = found.entry_at(offset)?;
    let file = named_file(document, entry).or_else(|| {
        let (package, _) = package_of(&found, entry)?;
        let knowledge = shared.knowledge_of(&document.path)?;
        folder_of(&package, &knowledge)
    })?;
    let start = Position::new(0, 0);
    Some(Location { uri: uri_of(&file)?, range: LspRange { start, end: start } })
}

/// The file that a value names: the manifest of a folder, or a card.
fn named_file(document: &Document, entry: &Entry) -> Option<PathBuf> {
    let keys = entry.keys();
    let value = document.text.get(entry.value.clone()?)?.trim_matches(['"', '\'']);
    let named = document.folder().join(value);
    match keys.as_slice() {
        [.., "path"] => {
            let manifest = named.join(FILE_NAME);
            if manifest.is_file() { Some(manifest) } else { named.is_dir().then_some(named) }
        }
        [.., "card"] => named.is_file().then_some(named),
        _ => None,
    }
}

/// The folder of a package: where it is worked on, or on the shelf.
fn folder_of(package: &bibliotax_core::name::PackageName, knowledge: &Knowledge) -> Option<PathBuf> {
    let workspace = &knowledge.diagnosis.workspace;
    let locked = workspace.locked_package(package)?;
    if let Some(path) = locked.source.path() {
        let folder = workspace.root.join(path);
        let manifest = folder.join(FILE_NAME);
        return Some(if manifest.is_file() { manifest } else { folder });
    }
    // On the shelf a package has a folder for each target that has files of its own.
    let shelf = workspace.root.join("shelf");
    let targets = std::fs::read_dir(&shelf).ok()?.flatten().map(|entry| entry.path());
    let places = [shelf.clone()].into_iter().chain(targets).map(|folder| folder.join(package.folder()));
    places.into_iter().find(|folder| folder.is_dir())
}

/// Links to pages on the web: of URLs in values, and of packages whose cards have a page.
pub fn links(document: &Document, shared: &Shared) -> Vec<DocumentLink> {
    let found = scan(&document.text);
    let knowledge = shared.knowledge_of(&document.path);
    let link = |entry: &Entry| {
        let value = entry.value.clone()?;
        let text = document.text.get(value.clone())?.trim_matches(['"', '\'']);
        let (span, target, tooltip) = if text.starts_with("https://") || text.starts_with("http://") {
            (value.start + 1..value.end - 1, text.to_owned(), None)
        } else {
            let (target, what) = page_of(entry, knowledge.as_deref()?)?;
            (entry.key.clone(), target, Some(what))
        };
        Some(DocumentLink {
            range: document.lines.range(&document.text, &span),
            target: target.parse().ok(),
            tooltip,
            data: None,
        })
    };
    found.entries.iter().filter_map(link).collect()
}

/// The page of a package: in its registry where that is on the web, else its own.
fn page_of(entry: &Entry, knowledge: &Knowledge) -> Option<(String, String)> {
    let package = package_named(entry)?;
    let (diagnosis, declared) = (&knowledge.diagnosis, &knowledge.diagnosis.workspace.declared);
    let listing = knowledge.listing(&package)?;
    let registry =
        listing.source.registry().and_then(|name| declared.registries.iter().find(|one| one.name == *name));
    let place = registry.map(|registry| place_of(registry, &diagnosis.workspace.root));
    if let Some(place) = place.filter(|place| place.starts_with("http")) {
        return Some((format!("{place}/browse/{package}"), format!("{package} in its registry")));
    }
    let locked = diagnosis.workspace.locked_package(&package);
    let locked = locked.and_then(|one| listing.history.release(&one.version));
    let shown = locked.or_else(|| bibliotax_core::fitting::newest(listing.history.releases()))?;
    let homepage = knowledge.card(&listing, shown)?.homepage?;
    homepage.starts_with("https://").then(|| (homepage, format!("the page of {package}")))
}

/// The tables of a manifest with their keys.
#[expect(
    deprecated,
    reason = "the protocol's type has a field that is replaced by another, and no way to leave it out"
)]
pub fn symbols(document: &Document) -> Vec<DocumentSymbol> {
    let found = scan(&document.text);
    let lines = &document.lines;
    let symbol =
        |name: String, kind, span: &std::ops::Range<usize>, whole: &std::ops::Range<usize>| DocumentSymbol {
            name: if name.is_empty() { "…".to_owned() } else { name },
            detail: None,
            kind,
            tags: None,
            deprecated: None,
            range: lines.range(&document.text, whole),
            selection_range: lines.range(&document.text, span),
            children: None,
        };
    let mut all: Vec<DocumentSymbol> = Vec::new();
    let mut table: Vec<Step> = Vec::new();
    for entry in &found.entries {
        let end = entry.value.as_ref().map_or(entry.key.end, |value| value.end);
        let whole = entry.key.start..end.max(entry.key.end);
        let name = entry.keys().join(".");
        if entry.is_head {
            table.clone_from(&entry.path);
            all.push(symbol(name, SymbolKind::NAMESPACE, &entry.key, &whole));
        } else if entry.path.len() == table.len() + 1 && entry.path.starts_with(&table) {
            let own = entry.keys().pop().unwrap_or_default().to_owned();
            let child = symbol(own, SymbolKind::KEY, &entry.key, &whole);
            match all.last_mut().filter(|_| !table.is_empty()) {
                Some(parent) => {
                    parent.range.end = child.range.end;
                    parent.children.get_or_insert_default().push(child);
                }
                None => all.push(child),
            }
        }
    }
    all
}

/// Whether a path is the lock or a manifest, so that a change of it outside of the editor matters.
pub fn matters(path: &Path) -> bool {
    path.file_name().is_some_and(|name| name == FILE_NAME || name == bibliotax_core::lock::FILE_NAME)
}
