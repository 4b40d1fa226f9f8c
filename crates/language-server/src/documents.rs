//! The texts that are open in the editor.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::manifest::FILE_NAME;
use lsp_types::{TextDocumentContentChangeEvent, Uri};
use percent_encoding::{AsciiSet, CONTROLS, percent_decode_str, utf8_percent_encode};

use crate::positions::{Encoding, Lines};

/// What stands in a path of a URL as an escape (RFC 3986, section 3.3).
const ESCAPED: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'%')
    .add(b'<')
    .add(b'>')
    .add(b'?')
    .add(b'[')
    .add(b'\\')
    .add(b']')
    .add(b'^')
    .add(b'`')
    .add(b'{')
    .add(b'|')
    .add(b'}');

/// A text that is open, as it was at a moment.
#[derive(Debug, Clone)]
pub struct Document {
    /// How the editor names it.
    pub uri: Uri,
    /// Where it is on disk.
    pub path: PathBuf,
    /// Its version, by the editor.
    pub version: i32,
    /// The text.
    pub text: Arc<str>,
    /// Where its lines begin.
    pub lines: Arc<Lines>,
}

impl Document {
    /// A text that was just opened; `None` where it isn't a file.
    pub fn new(uri: Uri, version: i32, text: String, encoding: Encoding) -> Option<Self> {
        let path = path_of(&uri)?;
        let lines = Arc::new(Lines::of(&text, encoding));
        Some(Self { uri, path, version, text: text.into(), lines })
    }

    /// The same text after changes, each of which is about the text that the one before made.
    #[must_use]
    pub fn changed(
        &self,
        version: i32,
        changes: &[TextDocumentContentChangeEvent],
        encoding: Encoding,
    ) -> Self {
        let mut text = self.text.to_string();
        let mut lines = Arc::clone(&self.lines);
        for change in changes {
            match change.range {
                None => text.clone_from(&change.text),
                Some(range) => text.replace_range(lines.bytes(&text, range), &change.text),
            }
            lines = Arc::new(Lines::of(&text, encoding));
        }
        Self { version, text: text.into(), lines, ..self.clone() }
    }

    /// Whether it is a manifest.
    pub fn is_manifest(&self) -> bool {
        self.path.file_name().is_some_and(|name| name == FILE_NAME)
    }

    /// The folder that it is in.
    pub fn folder(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new("."))
    }
}

/// All texts that are open, by their names.
#[derive(Debug, Clone, Default)]
pub struct Documents(BTreeMap<String, Arc<Document>>);

impl Documents {
    /// A text by its name.
    pub fn get(&self, uri: &Uri) -> Option<Arc<Document>> {
        self.0.get(uri.as_str()).cloned()
    }

    /// Puts a text in the place of its earlier version.
    pub fn put(&mut self, document: Document) {
        self.0.insert(document.uri.as_str().to_owned(), Arc::new(document));
    }

    /// Forgets a text that was closed.
    pub fn close(&mut self, uri: &Uri) {
        self.0.remove(uri.as_str());
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &Arc<Document>> {
        self.0.values()
    }

    /// The texts by their paths.
    pub fn texts(&self) -> BTreeMap<PathBuf, String> {
        self.iter().map(|document| (document.path.clone(), document.text.to_string())).collect()
    }
}

/// The path of a file that a URL names; `None` of any other URL.
pub fn path_of(uri: &Uri) -> Option<PathBuf> {
    let path = uri.as_str().strip_prefix("file://")?;
    let path = &path[path.find('/')?..];
    let path = percent_decode_str(path.split(['?', '#']).next()?).decode_utf8().ok()?;
    // On Windows a drive stands behind the first slash.
    let has_drive = cfg!(windows) && path.as_bytes().get(2) == Some(&b':');
    Some(PathBuf::from(if has_drive { &path[1..] } else { &path }))
}

/// The URL of a file.
pub fn uri_of(path: &Path) -> Option<Uri> {
    let path = path.to_string_lossy().replace('\\', "/");
    let slash = if path.starts_with('/') { "" } else { "/" };
    format!("file://{slash}{}", utf8_percent_encode(&path, ESCAPED)).parse().ok()
}

#[cfg(test)]
mod tests {
    use lsp_types::{Position, Range};

    use super::*;

    fn change(range: Option<[u32; 4]>, text: &str) -> TextDocumentContentChangeEvent {
        let range = range.map(|[a, b, c, d]| Range { start: Position::new(a, b), end: Position::new(c, d) });
        TextDocumentContentChangeEvent { range, range_length: None, text: text.to_owned() }
    }

    #[test]
    fn each_change_is_about_the_text_before_it() {
        let uri: Uri = "file:///garden/bibliotax.toml".parse().unwrap();
        let document = Document::new(uri, 1, "a = 1\nb = 2\n".to_owned(), Encoding::Utf16).unwrap();
        let changes = [
            change(Some([1, 4, 1, 5]), "\"🌿\""),
            change(Some([1, 7, 1, 8]), "|"),
            change(Some([0, 0, 1, 0]), ""),
        ];
        let changed = document.changed(2, &changes, Encoding::Utf16);
        assert_eq!((&*changed.text, changed.version), ("b = \"🌿|\n", 2));
        // Changes from the end to the start, or beyond it, do no harm.
        let changed = changed.changed(3, &[change(Some([9, 9, 0, 1]), "x")], Encoding::Utf16);
        assert_eq!(&*changed.text, "bx");
        assert_eq!(&*changed.changed(4, &[change(None, "new")], Encoding::Utf16).text, "new");
    }

    #[test]
    fn paths_and_urls_lead_to_each_other() {
        for path in ["/garden/bibliotax.toml", "/a b/100%/é/#1/bibliotax.toml"] {
            assert_eq!(path_of(&uri_of(Path::new(path)).unwrap()), Some(PathBuf::from(path)), "{path}");
        }
        assert_eq!(path_of(&"untitled:1".parse().unwrap()), None);
        assert_eq!(
            path_of(&"file://localhost/garden/a.toml".parse().unwrap()),
            Some(PathBuf::from("/garden/a.toml"))
        );
    }
}
