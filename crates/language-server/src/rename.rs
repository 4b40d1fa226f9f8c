//! Renames targets, purposes and registries in all manifests of a workspace.

use std::ops::Range;
use std::path::PathBuf;

use bibliotax_core::name::{Purpose, RegistryName, TargetName};
use lsp_types::{Position, PrepareRenameResponse, WorkspaceEdit};

use crate::actions::workspace_edit;
use crate::documents::Document;
use crate::scan::{Entry, Scan, scan};
use crate::shared::Shared;

/// What can have another name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Target,
    Purpose,
    Registry,
}

/// What stands at a position, where that can be renamed.
pub fn prepare(document: &Document, position: Position) -> Option<PrepareRenameResponse> {
    let offset = document.lines.offset(&document.text, position);
    let found = scan(&document.text);
    let (_, span) = at(&found, &document.text, offset)?;
    let placeholder = document.text.get(span.clone())?.to_owned();
    Some(PrepareRenameResponse::RangeWithPlaceholder {
        range: document.lines.range(&document.text, &span),
        placeholder,
    })
}

/// The edits that give what stands at a position another name; why it can't have that name.
pub fn rename(
    document: &Document,
    position: Position,
    new: &str,
    shared: &Shared,
) -> Result<Option<WorkspaceEdit>, String> {
    let offset = document.lines.offset(&document.text, position);
    let found = scan(&document.text);
    let Some((kind, span)) = at(&found, &document.text, offset) else { return Ok(None) };
    let old = document.text[span].to_owned();
    let is_name = match kind {
        Kind::Target => new.parse::<TargetName>().map(|_| ()),
        Kind::Purpose => new.parse::<Purpose>().map(|_| ()),
        Kind::Registry => new.parse::<RegistryName>().map(|_| ()),
    };
    is_name.map_err(|fault| fault.to_string())?;
    let mut edits = Vec::new();
    for (path, text) in texts(document, shared) {
        let spans = places(&scan(&text), &text, kind, &old);
        edits.extend(spans.into_iter().map(|span| (path.clone(), span, new.to_owned())));
    }
    Ok(Some(workspace_edit(&edits, document, shared)))
}

/// The manifests of the workspace that a text is in, as they are now.
fn texts(document: &Document, shared: &Shared) -> Vec<(PathBuf, String)> {
    let open = shared.documents().texts();
    let Some(knowledge) = shared.knowledge_of(&document.path) else {
        return vec![(document.path.clone(), document.text.to_string())];
    };
    let workspace = &knowledge.diagnosis.workspace;
    let files =
        workspace.manifests.files.iter().map(|file| (workspace.manifest_path(&file.folder), &file.text));
    files.map(|(path, text)| (path.clone(), open.get(&path).unwrap_or(text).clone())).collect()
}

/// What stands at a byte: its kind, and where its name stands without quotes.
fn at(found: &Scan, text: &str, offset: usize) -> Option<(Kind, Range<usize>)> {
    let all = found.entries.iter().flat_map(|entry| names(entry, text));
    all.into_iter().find(|(_, span)| span.start <= offset && offset <= span.end)
}

/// Where a name of a kind stands.
fn places(found: &Scan, text: &str, kind: Kind, name: &str) -> Vec<Range<usize>> {
    let all = found.entries.iter().flat_map(|entry| names(entry, text));
    let same = all.filter(|(other, span)| *other == kind && text.get(span.clone()) == Some(name));
    let mut spans: Vec<Range<usize>> = same.map(|(_, span)| span).collect();
    spans.sort_by_key(|span| span.start);
    spans.dedup();
    spans
}

/// The names in a key and its value.
fn names(entry: &Entry, text: &str) -> Vec<(Kind, Range<usize>)> {
    let keys = entry.keys();
    let value = entry.value.clone();
    let of_key = |kind| vec![(kind, entry.key.clone())];
    let of_values = |kind| {
        value
            .map(|value| quoted(text, value).into_iter().map(|span| (kind, span)).collect())
            .unwrap_or_default()
    };
    match keys.as_slice() {
        ["targets" | "tools", _] => of_key(Kind::Target),
        ["needs-for", _] => of_key(Kind::Purpose),
        ["rules", "for", _] => of_key(Kind::Purpose),
        ["registries", _] => of_key(Kind::Registry),
        ["devices", _] => of_values(Kind::Target),
        [.., "targets"] if keys.len() > 1 => of_values(Kind::Target),
        ["needs" | "needs-for", .., "from"] => of_values(Kind::Registry),
        ["rules", .., "sources"] => of_values(Kind::Registry),
        // `[targets.kiosk.x]` or `needs-for.test.moss-map = …`: the name is in the middle of a head or key.
        ["targets" | "tools", _, ..] => {
            middle(entry, text, 1).map(|span| (Kind::Target, span)).into_iter().collect()
        }
        ["needs-for", _, ..] => {
            middle(entry, text, 1).map(|span| (Kind::Purpose, span)).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

/// Where a key stands that is so many steps from the first in the words before an entry's own key.
fn middle(entry: &Entry, text: &str, number: usize) -> Option<Range<usize>> {
    let line = text[..entry.key.start].rfind('\n').map_or(0, |at| at + 1);
    let before = &text[line..entry.key.start];
    let words = before.trim_start_matches(['[', ' ', '\t']);
    let start = line + before.len() - words.len();
    let keys = entry.keys();
    let written: Vec<&str> = words.split('.').filter(|word| !word.is_empty()).collect();
    // Only where the whole way is written there, and not in the head above.
    if written.first().map(|word| word.trim()) != keys.first().copied() {
        return None;
    }
    let word = written.get(number)?;
    let at = start + words.find(word)?;
    let plain = word.trim().trim_matches(['"', '\'']);
    let at = at + word.find(plain)?;
    Some(at..at + plain.len())
}

/// The texts in quotes of a value, without the quotes.
fn quoted(text: &str, value: Range<usize>) -> Vec<Range<usize>> {
    let (mut found, mut at) = (Vec::new(), value.start);
    while at < value.end {
        let Some(start) = text[at..value.end].find(['"', '\'']).map(|start| at + start) else { break };
        let quote = &text[start..=start];
        let Some(end) = text[start + 1..value.end].find(quote).map(|end| start + 1 + end) else { break };
        found.push(start + 1..end);
        at = end + 1;
    }
    found
}
