//! Inlay hints: the locked version behind each need, and the newest where there is a newer one.

use lsp_types::{InlayHint, InlayHintLabel, Range as LspRange};

use crate::documents::Document;
use crate::hover::package_named;
use crate::scan::{Entry, scan};
use crate::shared::Shared;

/// The hints in a range of a text.
pub fn hints(document: &Document, range: LspRange, shared: &Shared) -> Vec<InlayHint> {
    let Some(knowledge) = shared.knowledge_of(&document.path) else { return Vec::new() };
    let workspace = &knowledge.diagnosis.workspace;
    let (locked, news) = (workspace.locked(), shared.news_of(&workspace.root));
    let (wanted, found) = (document.lines.bytes(&document.text, range), scan(&document.text));
    let hint = |entry: &Entry| {
        let package = package_named(entry)?;
        let end = entry.value.as_ref().map_or(entry.key.end, |value| value.end);
        if !(wanted.start..=wanted.end).contains(&end) || entry.keys().first() == Some(&"charter") {
            return None;
        }
        let locked = locked.iter().find(|one| one.name == package)?;
        let newest =
            news.get(&package).and_then(|news| news.newest()).map(|version| format!("; newest {version}"));
        let label = format!("locked {}{}", locked.version, newest.unwrap_or_default());
        // Behind a head `[needs.moss-map]` the bracket stands.
        let end = if entry.is_head { end + 1 } else { end };
        Some(InlayHint {
            position: document.lines.position(&document.text, end.min(document.text.len())),
            label: InlayHintLabel::String(label),
            kind: None,
            text_edits: None,
            tooltip: None,
            padding_left: Some(true),
            padding_right: None,
            data: None,
        })
    };
    found.entries.iter().filter_map(hint).collect()
}
