//! What could stand at the cursor: tables, keys, packages, ranges, and the names that manifests declare.

use bibliotax_core::facet::{Facet, Facets, Target, known_values};
use bibliotax_core::fitting::fits_all;
use bibliotax_core::history::Release;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::range::Range as VersionRange;
use bibliotax_core::resolve::Catalogue;
use bibliotax_present::dates::date;
use bibliotax_present::words::manifest_key;
use bibliotax_registry::catalogue::registries::Registries;
use lsp_types::{
    CompletionItem, CompletionItemKind, CompletionList, CompletionTextEdit, Documentation, MarkupContent,
    MarkupKind, Position, TextEdit,
};

use crate::documents::Document;
use crate::fits::fitting;
use crate::lookups::Knowledge;
use crate::scan::{Place, Scan, Step, keys, scan_at};
use crate::schema::{Allowed, KnownKey};
use crate::shared::Shared;

/// Most packages, licences and versions that are offered at once.
const MAX_OFFERED: usize = 50;

/// What could stand at a position. Not complete where there are more packages than are offered.
pub fn complete(document: &Document, position: Position, shared: &Shared) -> CompletionList {
    let offset = document.lines.offset(&document.text, position);
    let scan = scan_at(&document.text, offset);
    let Some(place) = scan.place.clone() else { return CompletionList::default() };
    let knowledge = shared.knowledge_of(&document.path);
    let asked = Asked { document, offset, scan: &scan, knowledge: knowledge.as_deref(), shared };
    let items = match &place {
        Place::Head { path, word } => asked.heads(path, word.clone()),
        Place::Key { path, word, is_quoted, has_value } => {
            asked.keys(path, word.clone(), *is_quoted, *has_value)
        }
        Place::Value { path, word, is_quoted } => asked.values(path, word.clone(), *is_quoted),
    };
    // What is being fetched is offered once the editor asks again.
    let is_fetching = items.is_empty() && knowledge.is_some_and(|knowledge| knowledge.is_fetching());
    CompletionList { is_incomplete: is_fetching || items.len() >= MAX_OFFERED, items }
}

/// A question with what is known.
struct Asked<'a> {
    document: &'a Document,
    offset: usize,
    scan: &'a Scan,
    knowledge: Option<&'a Knowledge>,
    shared: &'a Shared,
}

impl Asked<'_> {
    fn allowed(&self, path: &[Step]) -> Allowed {
        if self.document.is_manifest() { Allowed::in_manifest(path) } else { Allowed::in_card(path) }
    }

    fn registries(&self) -> Option<&Registries> {
        self.knowledge?.registries()
    }

    /// What is written between the beginning of a word and the cursor.
    fn written(&self, word: &std::ops::Range<usize>) -> &str {
        self.document.text.get(word.start..self.offset.max(word.start)).unwrap_or_default()
    }

    /// An item that takes the place of a word.
    fn item(
        &self,
        label: &str,
        text: String,
        kind: CompletionItemKind,
        word: &std::ops::Range<usize>,
    ) -> CompletionItem {
        let range = self.document.lines.range(&self.document.text, word);
        CompletionItem {
            label: label.to_owned(),
            kind: Some(kind),
            // What was typed stands in quotes or not, and is compared with what the item is about.
            filter_text: Some(label.to_owned()),
            text_edit: Some(CompletionTextEdit::Edit(TextEdit { range, new_text: text })),
            ..CompletionItem::default()
        }
    }

    /// Tables whose heads could be written.
    fn heads(&self, path: &[Step], word: std::ops::Range<usize>) -> Vec<CompletionItem> {
        let allowed = self.allowed(path);
        let tables = allowed.keys().into_iter().filter(|key| key.is_table || key.is_list);
        let known = tables.map(|key| self.described(key, key.key.to_owned(), &word));
        known.chain(self.declared_names(path, &word)).collect()
    }

    fn described(&self, key: KnownKey, text: String, word: &std::ops::Range<usize>) -> CompletionItem {
        let kind = if key.is_table { CompletionItemKind::MODULE } else { CompletionItemKind::PROPERTY };
        CompletionItem {
            documentation: Some(Documentation::String(key.description.to_owned())),
            ..self.item(key.key, text, kind, word)
        }
    }

    fn keys(
        &self,
        path: &[Step],
        word: std::ops::Range<usize>,
        is_quoted: bool,
        has_value: bool,
    ) -> Vec<CompletionItem> {
        let allowed = self.allowed(path);
        let siblings: Vec<&str> = self
            .scan
            .entries
            .iter()
            .filter(|entry| {
                entry.path.len() == path.len() + 1 && entry.path.starts_with(path) && entry.key != word
            })
            .filter_map(|entry| entry.keys().pop())
            .collect();
        let mut items = Vec::new();
        for key in allowed.keys().into_iter().filter(|key| !siblings.contains(&key.key)) {
            let text = match (has_value, path.is_empty() && key.is_table) {
                (true, _) => key.key.to_owned(),
                (false, true) => format!("[{}]\n", key.key),
                (false, false) => format!(
                    "{} = {}",
                    key.key,
                    if key.is_list {
                        "[]"
                    } else if key.is_text {
                        "\"\""
                    } else {
                        ""
                    }
                ),
            };
            items.push(self.described(key, text, &word));
        }
        if allowed.has_keys_of("package-name") {
            items.extend(self.packages(path, &word, is_quoted, has_value, &siblings));
        }
        items.extend(self.declared_names(path, &word));
        items
    }

    /// Packages by what their names begin with, those that most others need first.
    fn packages(
        &self,
        path: &[Step],
        word: &std::ops::Range<usize>,
        is_quoted: bool,
        has_value: bool,
        siblings: &[&str],
    ) -> Vec<CompletionItem> {
        let Some(registries) = self.registries() else { return Vec::new() };
        let Ok(cache) = self.shared.environment.registries_folder() else { return Vec::new() };
        let is_need = matches!(keys(path).as_slice(), ["needs" | "shared"] | ["needs-for", _]);
        let found = registries.beginning_with(self.written(word), MAX_OFFERED, &cache);
        let known = found.into_iter().filter(|(_, named)| !siblings.contains(&named.name.as_str()));
        let items = known.enumerate().map(|(number, (registry, named))| {
            let key = if is_quoted { named.name.to_string() } else { manifest_key(&named.name) };
            let text = match (&named.newest, has_value || is_quoted || !is_need) {
                (Some(newest), false) => format!("{key} = \"{}\"", VersionRange::from_version(newest)),
                _ => key,
            };
            let newest = named.newest.as_ref().map(|version| format!("{version}, {registry}"));
            let summary = named
                .summary
                .filter(|_| !named.deprecated)
                .or(named.deprecated.then(|| "deprecated".to_owned()));
            CompletionItem {
                detail: newest.or_else(|| Some(format!("{registry}"))),
                documentation: summary.map(Documentation::String),
                sort_text: Some(format!("{number:04}")),
                data: Some(serde_json::json!({ "package": named.name, "file": self.document.path })),
                ..self.item(named.name.as_str(), text, CompletionItemKind::MODULE, word)
            }
        });
        items.collect()
    }

    /// Names that may be a key at a place because something declares them: facets of a target, purposes.
    fn declared_names(&self, path: &[Step], word: &std::ops::Range<usize>) -> Vec<CompletionItem> {
        let Some(knowledge) = self.knowledge else { return Vec::new() };
        let declared = &knowledge.diagnosis.workspace.declared;
        let names: Vec<String> = match keys(path).as_slice() {
            ["targets", _] | ["fits"] => self.facets().iter().map(ToString::to_string).collect(),
            ["needs-for"] => {
                let purposes = declared.needs().filter_map(|(_, need)| need.purpose.clone());
                let used = purposes.map(|purpose| purpose.to_string());
                let mut all: Vec<String> = used.chain(["test", "docs", "build"].map(str::to_owned)).collect();
                all.sort();
                all.dedup();
                all
            }
            ["tools"] => declared.targets.iter().map(|target| target.name.clone()).collect(),
            _ => Vec::new(),
        };
        names.iter().map(|name| self.item(name, name.clone(), CompletionItemKind::FIELD, word)).collect()
    }

    fn facets(&self) -> Vec<FacetName> {
        self.registries().map(|registries| registries.facets().names().cloned().collect()).unwrap_or_default()
    }

    fn values(&self, path: &[Step], word: std::ops::Range<usize>, is_quoted: bool) -> Vec<CompletionItem> {
        let allowed = self.allowed(path);
        let quoted = |text: &str| if is_quoted { text.to_owned() } else { format!("\"{text}\"") };
        let ways = keys(path);
        // Of facets only claims are true or false.
        let is_other = self.is_of_other_facet(&ways);
        let mut items: Vec<CompletionItem> = allowed
            .words()
            .into_iter()
            .filter(|_| !is_other)
            .map(|value| {
                let is_bare = matches!(value, "true" | "false") && !is_quoted;
                let text = if is_bare { value.to_owned() } else { quoted(value) };
                self.item(value, text, CompletionItemKind::VALUE, &word)
            })
            .collect();
        let named = |names: Vec<String>, kind| -> Vec<CompletionItem> {
            names.iter().map(|name| self.item(name, quoted(name), kind, &word)).collect()
        };
        items.extend(named(self.declared_values(&ways), CompletionItemKind::REFERENCE));
        if is_license(&ways) {
            let prefix = self.written(&word).to_lowercase();
            let listed = spdx::identifiers::LICENSES.iter().map(|license| license.name);
            let found = listed.filter(|id| id.to_lowercase().starts_with(&prefix)).take(MAX_OFFERED);
            items.extend(named(found.map(str::to_owned).collect(), CompletionItemKind::CONSTANT));
        }
        if allowed.is("range") || matches!(ways.as_slice(), [.., "range"]) {
            items.extend(self.ranges(&ways, &word, is_quoted));
        }
        items
    }

    /// Names that may be a value at a place because something declares them.
    fn declared_values(&self, ways: &[&str]) -> Vec<String> {
        let Some(knowledge) = self.knowledge else { return Vec::new() };
        let declared = &knowledge.diagnosis.workspace.declared;
        match ways {
            [.., "from"] | ["rules", .., "sources"] => {
                declared.registries.iter().map(|registry| registry.name.to_string()).collect()
            }
            [.., "targets"] | ["devices", _] => {
                declared.targets.iter().map(|target| target.name.clone()).collect()
            }
            [.., "family"] => declared
                .projects
                .iter()
                .flat_map(|project| project.manifest.families.keys())
                .map(ToString::to_string)
                .collect(),
            ["targets", _, facet] | ["fits", facet] => self.values_of(facet),
            [.., package, "components"] => self.of_newest(package, |release| {
                release.entry.components.keys().map(ToString::to_string).collect()
            }),
            [.., package, "parts"] => self.of_newest(package, |release| {
                let mut parts: Vec<String> =
                    release.entry.files.iter().map(|file| file.part.to_string()).collect();
                parts.dedup();
                parts
            }),
            _ => Vec::new(),
        }
    }

    /// Whether a value is of a facet that isn't a claim.
    fn is_of_other_facet(&self, ways: &[&str]) -> bool {
        let (["targets", _, facet] | ["fits", facet]) = ways else { return false };
        let facets = self.registries().map(Catalogue::facets);
        let facet = facet.parse::<FacetName>().ok();
        !facets.zip(facet).is_some_and(|(facets, facet)| matches!(facets.get(&facet), Some(Facet::Claim)))
    }

    fn values_of(&self, facet: &str) -> Vec<String> {
        let (Some(registries), Ok(name)) = (self.registries(), facet.parse::<FacetName>()) else {
            return Vec::new();
        };
        let facets = registries.facets();
        match facets.get(&name) {
            Some(Facet::Ladder { levels, .. }) => levels.clone(),
            Some(Facet::Choice { values }) if !values.is_empty() => values.clone(),
            Some(Facet::Choice { .. }) => known_values(&name).iter().map(ToString::to_string).collect(),
            Some(Facet::Claim) | None => Vec::new(),
        }
    }

    fn of_newest(&self, package: &str, names: impl Fn(&Release) -> Vec<String>) -> Vec<String> {
        let listing = package.parse::<PackageName>().ok().and_then(|name| self.knowledge?.listing(&name));
        listing
            .and_then(|listing| bibliotax_core::fitting::newest(listing.history.releases()).map(names))
            .unwrap_or_default()
    }

    /// Ranges from a release on, the newest that fits first, each with its date and whether it fits.
    fn ranges(&self, ways: &[&str], word: &std::ops::Range<usize>, is_quoted: bool) -> Vec<CompletionItem> {
        let package = match ways {
            [.., package, "range"] | [.., package] => package.parse::<PackageName>().ok(),
            [] => None,
        };
        let (Some(knowledge), Some(package)) = (self.knowledge, package) else { return Vec::new() };
        let Some(listing) = knowledge.listing(&package) else { return Vec::new() };
        let (places, facets) = (knowledge.places(), knowledge.facets());
        let releases = listing.history.releases().iter().rev();
        let open = releases.filter(|release| release.withdrawn.is_none() && !release.entry.version.is_pre());
        let mut seen = std::collections::BTreeSet::new();
        let mut offered: Vec<(bool, String, String)> = Vec::new();
        for release in open {
            let range = VersionRange::from_version(&release.entry.version).to_string();
            if seen.insert(range.clone()) && offered.len() < MAX_OFFERED {
                let fits = fits_all(release, &places, &facets);
                offered.push((fits, range, about(release, &places, &facets)));
            }
        }
        // A stable sort: of those that fit, and of the others, the newest comes first.
        offered.sort_by_key(|(fits, ..)| !fits);
        let items = offered.into_iter().enumerate().map(|(number, (_, range, about))| CompletionItem {
            detail: Some(about),
            sort_text: Some(format!("{number:04}")),
            preselect: Some(number == 0),
            ..self.item(
                &range,
                if is_quoted { range.clone() } else { format!("\"{range}\"") },
                CompletionItemKind::VALUE,
                word,
            )
        });
        items.collect()
    }
}

/// When a release was published, and where it works.
fn about(release: &Release, places: &[Target], facets: &Facets) -> String {
    let published = release.entry.dated().map(|at| date(at).to_string());
    let parts = [Some(release.entry.version.to_string()), published, fitting(release, places, facets)];
    parts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

fn is_license(ways: &[&str]) -> bool {
    matches!(ways, [.., "license"] | [.., "licenses", "accept" | "ask" | "refuse"])
}

/// More about an item that is a package: its summary, licence and fit.
pub fn resolved(item: CompletionItem, shared: &Shared) -> CompletionItem {
    let data = item.data.as_ref();
    let text = |key: &str| data.and_then(|data| data.get(key)?.as_str());
    let (Some(name), Some(file)) = (text("package"), text("file")) else { return item };
    let Some(knowledge) = shared.knowledge_of(std::path::Path::new(file)) else { return item };
    let about = name
        .parse()
        .ok()
        .and_then(|name: PackageName| crate::hover::about_package(&name, &knowledge, shared));
    let value = about.map(|value| MarkupContent { kind: MarkupKind::Markdown, value });
    let documentation = value.map(Documentation::MarkupContent).or(item.documentation.clone());
    CompletionItem { documentation, ..item }
}
