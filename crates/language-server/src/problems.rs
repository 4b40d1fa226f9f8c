//! What is wrong in a text, with what the editor can do about it.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

use bibliotax_app::check::Level;
use bibliotax_app::diagnose::{Diagnostic as Found, DiagnosticPlace};
use bibliotax_app::failure::Failure;
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_app::workspace::edits::Edits;
use bibliotax_core::fault::Fault;
use bibliotax_core::fix::Fix;
use bibliotax_core::manifest::ManifestText;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range as VersionRange;
use bibliotax_present::words::capitalised;
use lsp_types::{
    Diagnostic, DiagnosticRelatedInformation, DiagnosticSeverity, Location, NumberOrString, Position,
    Range as LspRange,
};
use similar::{ChangeTag, TextDiff};

use crate::documents::uri_of;
use crate::positions::{Encoding, Lines};

/// What the editor says a diagnostic is from.
const SOURCE: &str = "bibliotax";

/// Something that is wrong, in bytes of the text that it was found in.
#[derive(Debug, Clone)]
pub struct Problem {
    /// Where.
    pub span: Range<usize>,
    /// The stable code.
    pub code: &'static str,
    /// How serious it is.
    pub level: Level,
    /// What is wrong, and what to do.
    pub message: String,
    /// Sentences that explain it, at places of files.
    pub related: Vec<(PathBuf, Range<usize>, String)>,
    /// What can be done about it.
    pub actions: Vec<Action>,
}

/// Something that the editor can do.
#[derive(Debug, Clone)]
pub struct Action {
    /// What it does.
    pub title: String,
    /// Bytes of files with the text that is to stand there.
    pub edits: Vec<(PathBuf, Range<usize>, String)>,
    /// Whether it is the one to take where several are offered.
    pub is_preferred: bool,
}

impl Problem {
    /// A fault that the reader of a file found.
    pub fn of_fault(fault: &Fault, text: &str, file: &Path) -> Self {
        Self {
            span: fault.span.clone(),
            code: fault.code,
            level: Level::Error,
            message: with_advice(&said(&fault.message, &fault.label), fault.advice.as_deref()),
            related: Vec::new(),
            actions: actions_of(&fault.fixes, text, file),
        }
    }

    /// A failure about a file as a whole.
    pub fn of_failure(failure: &Failure) -> Self {
        let message = with_advice(&failure.message, failure.advice.as_deref());
        Self {
            span: 0..0,
            code: failure.code,
            level: Level::Error,
            message,
            related: Vec::new(),
            actions: Vec::new(),
        }
    }

    /// What was found in a workspace, about a text of it.
    pub fn of_found(found: &Found, text: &str, workspace: &WorkspaceFolder) -> Self {
        let span = match &found.place {
            DiagnosticPlace::Bytes(span) => span.clone(),
            DiagnosticPlace::Line(line) => line_of(text, *line),
        };
        let ways = found.ways.iter().map(|way| {
            let title = capitalised(&way.title);
            Action { title, edits: edits_of(&way.edits, workspace), is_preferred: false }
        });
        let mut actions = actions_of(&found.fixes, text, &found.file);
        actions.extend(ways);
        if let (true, Some(package)) = (found.is_unaccepted_license, &found.package) {
            actions.extend(acceptance(package, workspace));
        }
        Self {
            span,
            code: found.code,
            level: found.level,
            message: with_advice(&found.message, found.advice.as_deref()),
            related: found.related.clone(),
            actions,
        }
    }

    /// The same in a text that came after the one that it was found in; `None` where what it is about was changed.
    #[must_use]
    pub fn moved(&self, old: &str, new: &str) -> Option<Self> {
        let before = common_prefix(old, new);
        let behind = common_suffix(&old[before..], &new[before..]);
        let is_before = self.span.end <= before;
        let is_behind = self.span.start >= old.len() - behind;
        let shift = |at: usize| if is_before { at } else { at + new.len() - old.len() };
        (is_before || is_behind)
            .then(|| Self { span: shift(self.span.start)..shift(self.span.end), ..self.clone() })
    }

    /// As the protocol has it.
    pub fn shown(&self, text: &str, lines: &Lines, texts: &Texts<'_>) -> Diagnostic {
        let related = self.related.iter().filter_map(|(file, span, message)| {
            let location = Location { uri: uri_of(file)?, range: texts.range(file, span) };
            Some(DiagnosticRelatedInformation { location, message: message.clone() })
        });
        let related: Vec<DiagnosticRelatedInformation> = related.collect();
        Diagnostic {
            range: lines.range(text, &self.span),
            severity: Some(match self.level {
                Level::Error => DiagnosticSeverity::ERROR,
                Level::Warning => DiagnosticSeverity::WARNING,
                Level::Note => DiagnosticSeverity::INFORMATION,
            }),
            code: Some(NumberOrString::String(self.code.to_owned())),
            source: Some(SOURCE.to_owned()),
            message: self.message.clone(),
            related_information: (!related.is_empty()).then_some(related),
            ..Diagnostic::default()
        }
    }
}

/// Texts of files, to find places in them.
pub struct Texts<'t> {
    /// The texts by their paths.
    pub texts: BTreeMap<PathBuf, &'t str>,
    /// What columns count.
    pub encoding: Encoding,
}

impl<'t> Texts<'t> {
    /// The texts of a workspace's manifests.
    pub fn of(workspace: &'t WorkspaceFolder, encoding: Encoding) -> Self {
        let texts = workspace.manifests.files.iter();
        let texts = texts.map(|file| (workspace.manifest_path(&file.folder), file.text.as_str()));
        Self { texts: texts.collect(), encoding }
    }

    /// The range of some bytes of a file; its beginning, where the file isn't known.
    pub fn range(&self, file: &Path, span: &Range<usize>) -> LspRange {
        let Some(text) = self.texts.get(file) else {
            return LspRange { start: Position::new(0, 0), end: Position::new(0, 0) };
        };
        Lines::of(text, self.encoding).range(text, span)
    }
}

/// What makes manifests say something else, by lines.
pub fn edits_of(edits: &Edits, workspace: &WorkspaceFolder) -> Vec<(PathBuf, Range<usize>, String)> {
    let of_file = |(folder, new): (&String, &String)| {
        let old = workspace.manifests.in_folder(folder).map_or("", |file| &file.text);
        let file = workspace.manifest_path(folder);
        differences(old, new).into_iter().map(move |(span, text)| (file.clone(), span, text))
    };
    edits.manifests.iter().flat_map(of_file).collect()
}

/// The bytes in which a text differs from another, with what stands there in the other.
pub fn differences(old: &str, new: &str) -> Vec<(Range<usize>, String)> {
    let diff = TextDiff::from_lines(old, new);
    let mut found: Vec<(Range<usize>, String)> = Vec::new();
    let mut at = 0;
    for change in diff.iter_all_changes() {
        let length = change.value().len();
        let (taken, put) = match change.tag() {
            ChangeTag::Equal => {
                at += length;
                continue;
            }
            ChangeTag::Delete => (length, ""),
            ChangeTag::Insert => (0, change.value()),
        };
        match found.last_mut() {
            Some((span, text)) if span.end == at => {
                span.end += taken;
                text.push_str(put);
            }
            _ => found.push((at..at + taken, put.to_owned())),
        }
        at += taken;
    }
    found
}

/// What the editor does for each fix of a file.
fn actions_of(fixes: &[Fix], text: &str, file: &Path) -> Vec<Action> {
    let action = |fix: &Fix| {
        let (span, new) = fix.edit(text)?;
        let edits = vec![(file.to_owned(), span, new)];
        // Of several, a person has to choose.
        Some(Action { title: fix.title(text)?, edits, is_preferred: fixes.len() == 1 })
    };
    fixes.iter().filter_map(action).collect()
}

/// That the team accepts a package's licence.
fn acceptance(package: &PackageName, workspace: &WorkspaceFolder) -> Option<Action> {
    let locked = workspace.locked_package(package)?;
    let license = locked.license.as_ref()?;
    let root = workspace.manifests.in_folder("")?;
    let mut text = ManifestText::open(&root.text).ok()?;
    text.set_accepted(package, &license.to_string(), &VersionRange::from_lowest(&locked.version));
    let file = workspace.manifest_path("");
    let edits = differences(&root.text, &text.to_string());
    let edits = edits.into_iter().map(|(span, text)| (file.clone(), span, text)).collect();
    Some(Action { title: format!("Accept {license} for {package}"), edits, is_preferred: false })
}

fn said(message: &str, label: &str) -> String {
    if label.is_empty() { message.to_owned() } else { format!("{message}: {label}") }
}

fn with_advice(message: &str, advice: Option<&str>) -> String {
    match advice {
        Some(advice) => format!("{message}\ntry: {advice}"),
        None => message.to_owned(),
    }
}

fn line_of(text: &str, line: usize) -> Range<usize> {
    let mut at = 0;
    for (number, content) in text.split_inclusive('\n').enumerate() {
        if number + 1 == line {
            return at..at + content.trim_end().len();
        }
        at += content.len();
    }
    0..0
}

fn common_prefix(one: &str, other: &str) -> usize {
    let same = one.bytes().zip(other.bytes()).take_while(|(a, b)| a == b).count();
    one.floor_char_boundary(same).min(other.floor_char_boundary(same))
}

fn common_suffix(one: &str, other: &str) -> usize {
    let same = one.bytes().rev().zip(other.bytes().rev()).take_while(|(a, b)| a == b).count();
    // The first byte of what is the same has to begin a letter.
    (0..=same).rev().find(|length| one.is_char_boundary(one.len() - length)).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn differences_make_one_text_of_the_other(old in "([ab🌿]{0,3}\n){0,6}", new in "([ab🌿]{0,3}\n){0,6}") {
            let mut made = old.clone();
            for (span, text) in differences(&old, &new).into_iter().rev() {
                made.replace_range(span, &text);
            }
            prop_assert_eq!(made, new);
        }

        #[test]
        fn a_problem_moves_with_what_it_is_about(before in "[a🌿\n]{0,8}", word in "[xyz]{1,4}", behind in "[a🌿\n]{0,8}", put in "[b🌿\n]{0,4}") {
            let old = format!("{before}{word}{behind}");
            let span = before.len()..before.len() + word.len();
            let problem = Problem { span, code: "x", level: Level::Error, message: String::new(), related: Vec::new(), actions: Vec::new() };
            for new in [format!("{put}{old}"), format!("{old}{put}"), format!("{before}{word}{put}{behind}")] {
                let moved = problem.moved(&old, &new).unwrap();
                prop_assert_eq!(&new[moved.span], &word);
            }
        }
    }
}
