//! What the editor can do at a place: right what is wrong, take another range, share one.

use std::collections::HashMap;
use std::ops::Range;
use std::path::PathBuf;

use bibliotax_app::workspace::ManifestEdits;
use bibliotax_core::fitting::newest_fitting;
use bibliotax_core::range::Range as VersionRange;
use lsp_types::{
    CodeAction, CodeActionKind, CodeActionOrCommand, Command, Range as LspRange, TextEdit, Uri, WorkspaceEdit,
};

use crate::background::problems_of;
use crate::commands::UPDATE;
use crate::documents::{Document, uri_of};
use crate::hover::package_of;
use crate::lookups::Knowledge;
use crate::positions::Lines;
use crate::problems::{Texts, edits_of};
use crate::scan::scan;
use crate::shared::Shared;

/// What can be done in a range of a text.
pub fn actions(document: &Document, range: LspRange, shared: &Shared) -> Vec<CodeActionOrCommand> {
    let wanted = document.lines.bytes(&document.text, range);
    let touches = |span: &Range<usize>| span.start <= wanted.end && wanted.start <= span.end;
    let knowledge = shared.knowledge_of(&document.path);
    let texts = knowledge.as_ref().map(|known| Texts::of(&known.diagnosis.workspace, shared.client.encoding));
    let mut found = Vec::new();
    for problem in problems_of(document, shared)
        .iter()
        .filter(|problem| touches(&line_around(&document.text, &problem.span)))
    {
        let shown = texts.as_ref().map(|texts| problem.shown(&document.text, &document.lines, texts));
        for action in &problem.actions {
            found.push(CodeActionOrCommand::CodeAction(CodeAction {
                title: action.title.clone(),
                kind: Some(CodeActionKind::QUICKFIX),
                diagnostics: shown.clone().map(|shown| vec![shown]),
                edit: Some(workspace_edit(&action.edits, document, shared)),
                is_preferred: Some(action.is_preferred),
                ..CodeAction::default()
            }));
        }
    }
    if let Some(knowledge) = &knowledge {
        found.extend(of_need(document, &wanted, knowledge, shared));
    }
    found
}

/// What can be done with the need at a place.
fn of_need(
    document: &Document,
    wanted: &Range<usize>,
    knowledge: &Knowledge,
    shared: &Shared,
) -> Vec<CodeActionOrCommand> {
    let mut found = Vec::new();
    let scan = scan(&document.text);
    let Some((package, named)) = scan.entry_at(wanted.start).and_then(|entry| package_of(&scan, entry))
    else {
        return found;
    };
    let diagnosis = &knowledge.diagnosis;
    let workspace = &diagnosis.workspace;
    let refactor = |title: String, edits: &[(PathBuf, Range<usize>, String)]| {
        CodeActionOrCommand::CodeAction(CodeAction {
            title,
            kind: Some(CodeActionKind::REFACTOR_REWRITE),
            edit: Some(workspace_edit(edits, document, shared)),
            ..CodeAction::default()
        })
    };
    // The text of the range itself, where the need says just that.
    let value = named.value.clone().filter(|value| document.text[value.clone()].starts_with(['"', '\'']));
    let written =
        value.clone().and_then(|value| document.text.get(value.start + 1..value.end.saturating_sub(1)));
    let listing = knowledge.listing(&package);
    let places = knowledge.places();
    let fitting = listing
        .as_ref()
        .and_then(|listing| newest_fitting(listing.history.releases(), &places, &knowledge.facets()));
    if let (Some(fitting), Some(value), Some(written)) = (fitting, value, written) {
        let range = VersionRange::from_version(&fitting.entry.version).to_string();
        if written != range && !matches!(written, "shared" | "family" | "charter") {
            let title = format!("Need the newest that fits: {range}");
            found.push(refactor(title, &[(document.path.clone(), value, format!("\"{range}\""))]));
        }
    }
    if let Some(news) = shared.news_of(&workspace.root).get(&package).and_then(|news| news.update.clone()) {
        found.push(CodeActionOrCommand::Command(Command {
            title: format!("Update {package} to {news}"),
            command: UPDATE.to_owned(),
            arguments: Some(vec![serde_json::json!(document.path), serde_json::json!(package)]),
        }));
    }
    if let Some(edits) = shared_range(&package, document, knowledge) {
        found.push(refactor(format!("Share the range of {package} in the workspace"), &edits));
    }
    found
}

/// What shares the range of a need with all projects of the workspace.
fn shared_range(
    package: &bibliotax_core::name::PackageName,
    document: &Document,
    knowledge: &Knowledge,
) -> Option<Vec<(PathBuf, Range<usize>, String)>> {
    let workspace = &knowledge.diagnosis.workspace;
    let declared = &workspace.declared;
    if declared.projects.len() < 2 {
        return None;
    }
    let of = |project: &&bibliotax_core::workspace::Project| {
        workspace.root.join(&project.folder) == document.folder()
    };
    let project = declared.projects.iter().find(of)?;
    let need = project.manifest.needs.iter().find(|need| need.package == *package)?;
    if need.is_shared || need.family.is_some() || need.is_chartered || need.source.is_some() {
        return None;
    }
    // Edits are about the text as it was read; where it was changed since, the next run offers them.
    let text = workspace.manifests.in_folder(&project.folder).map(|file| file.text.as_str());
    if text != Some(&*document.text) {
        return None;
    }
    let mut texts = ManifestEdits::of(workspace);
    texts.share(package, &need.range, [(project.folder.as_str(), need.purpose.as_ref())]).ok()?;
    Some(edits_of(&texts.edits(), workspace))
}

/// Edits as the protocol has them.
pub fn workspace_edit(
    edits: &[(PathBuf, Range<usize>, String)],
    document: &Document,
    shared: &Shared,
) -> WorkspaceEdit {
    // Names of files are keys, whose insides never change.
    #[expect(clippy::mutable_key_type, reason = "the protocol's type has a cache of the parts of its text")]
    let mut changes: HashMap<Uri, Vec<TextEdit>> = HashMap::new();
    let open: Vec<_> = shared.documents().iter().cloned().collect();
    for (file, span, text) in edits {
        let Some(uri) = uri_of(file) else { continue };
        let range = if *file == document.path {
            document.lines.range(&document.text, span)
        } else {
            let there = open.iter().find(|one| one.path == *file).map(|one| one.text.to_string());
            let there = there.or_else(|| std::fs::read_to_string(file).ok()).unwrap_or_default();
            Lines::of(&there, shared.client.encoding).range(&there, span)
        };
        changes.entry(uri).or_default().push(TextEdit { range, new_text: text.clone() });
    }
    WorkspaceEdit { changes: Some(changes), ..WorkspaceEdit::default() }
}

/// All of the line or lines in which something stands: an action is offered anywhere in them.
fn line_around(text: &str, span: &Range<usize>) -> Range<usize> {
    let start = text[..text.floor_char_boundary(span.start)].rfind('\n').map_or(0, |at| at + 1);
    let behind = text.floor_char_boundary(span.end);
    let end = text[behind..].find('\n').map_or(text.len(), |at| behind + at);
    start..end
}
