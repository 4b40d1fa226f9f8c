//! Finds out what is wrong while one types: at once what reading a text tells, after a pause what registries, feeds and the lock know.
//!
//! Neither keeps the editor waiting. A run after a pause ends as soon as somebody types on.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use bibliotax_app::diagnose::{Diagnosis, diagnose};
use bibliotax_app::failure::Failure;
use bibliotax_app::workspace::{ManifestFile, OpenTexts, outer_workspace};
use bibliotax_core::fault::Fault;
use bibliotax_core::fix::Fix;
use bibliotax_core::manifest::{FILE_NAME, Manifest, read_stated};
use bibliotax_present::words::manifest_key;
use crossbeam_channel::{Receiver, Sender, TryRecvError, bounded};
use lsp_types::PublishDiagnosticsParams;

use crate::documents::{Document, uri_of};
use crate::hover::package_of;
use crate::news::news;
use crate::problems::{Action, Problem, Texts};
use crate::scan::scan;
use crate::shared::Shared;

/// How long nobody types before a run begins.
const PAUSE: Duration = Duration::from_millis(250);

/// The threads in the background, which end when this is dropped.
pub struct Background {
    shared: Arc<Shared>,
    read: Sender<()>,
    run: Sender<()>,
}

impl Background {
    /// Starts them.
    pub fn start(shared: &Arc<Shared>) -> Self {
        // A signal that nobody took yet stands for all that come after it.
        let ((read, reads), (run, runs)) = (bounded(1), bounded(1));
        let (reader, runner) = (Arc::clone(shared), Arc::clone(shared));
        std::thread::spawn(move || reads.iter().for_each(|()| read_all(&reader)));
        std::thread::spawn(move || follow(&runner, &runs));
        Self { shared: Arc::clone(shared), read, run }
    }

    /// Says that texts changed.
    pub fn changed(&self) {
        self.shared.stop_run();
        // Where there is a signal already, one more says nothing new.
        let _ = self.read.try_send(());
        let _ = self.run.try_send(());
    }
}

/// Reads all texts that are open, each as it is now.
fn read_all(shared: &Shared) {
    let documents: Vec<Arc<Document>> = shared.documents().iter().cloned().collect();
    let open = shared.documents().texts();
    for document in documents {
        let problems = read(&document, &open, shared);
        shared.note_read(&document.uri, problems);
        publish(&document, shared);
    }
}

/// What is wrong in a text by itself, with what the root of its workspace says.
fn read(document: &Document, open: &OpenTexts, shared: &Shared) -> Vec<Problem> {
    let (text, file) = (&*document.text, document.path.as_path());
    if !document.is_manifest() {
        let is_card =
            shared.knowledge_of(file).is_some() && file.extension().is_some_and(|ending| ending == "toml");
        let faults = if is_card { read_stated(text).err().unwrap_or_default() } else { Vec::new() };
        return faults.iter().map(|fault| Problem::of_fault(fault, text, file)).collect();
    }
    match read_manifest(document, open) {
        Ok(()) => Vec::new(),
        Err(failure) => match failure.source.as_ref().filter(|source| source.text == text) {
            Some(source) => {
                let problem = |fault: &Fault| {
                    let mut problem = Problem::of_fault(fault, text, file);
                    problem.actions.extend(share_in_root(fault, document, open));
                    problem
                };
                source.faults.iter().map(problem).collect()
            }
            // A card beside it is wrong, and the card's own problems say so.
            None if failure.source.is_some() => Vec::new(),
            None => vec![Problem::of_failure(&failure)],
        },
    }
}

/// What gives a package that a project shares a range in the root of its workspace, which is another file.
fn share_in_root(fault: &Fault, document: &Document, open: &OpenTexts) -> Option<Action> {
    if fault.code != "manifest.no-shared" {
        return None;
    }
    let outer = outer_workspace(document.folder()).ok()??;
    let root = outer.root.join(FILE_NAME);
    let found = scan(&document.text);
    let (package, _) = package_of(&found, found.entry_at(fault.span.start)?)?;
    let line = format!("{} = \"any\"", manifest_key(&package));
    let title = format!("Add `{line}` under `[shared]` in the workspace's root");
    let fix = Fix::AddUnder { head: "shared".to_owned(), line };
    let (span, text) = fix.edit(open.get(&root).unwrap_or(&outer.text))?;
    Some(Action { title, edits: vec![(root, span, text)], is_preferred: false })
}

fn read_manifest(document: &Document, open: &OpenTexts) -> Result<(), Failure> {
    let folder = document.folder();
    let root = root_around(folder, open);
    let cards = open
        .iter()
        .filter_map(|(path, text)| Some((path.strip_prefix(folder).ok()?.to_str()?, text.as_str())));
    let cards = cards.filter(|(way, _)| *way != FILE_NAME).collect();
    let file = ManifestFile::default().with_text(document.text.to_string(), folder, &cards)?;
    // What a project says depends on the root of its workspace, for which it has to be somewhere in it.
    let inner = if root.is_some() { "project".to_owned() } else { String::new() };
    file.in_folder(inner).manifest(root.as_ref())?;
    Ok(())
}

/// What the root of the workspace around a folder says, as far as it can be read.
fn root_around(folder: &Path, open: &OpenTexts) -> Option<Manifest> {
    let outer = outer_workspace(folder).ok()??;
    let text = open.get(&outer.root.join(FILE_NAME)).unwrap_or(&outer.text);
    Manifest::read(text).ok()
}

/// Runs after each pause.
fn follow(shared: &Shared, signals: &Receiver<()>) {
    while signals.recv().is_ok() {
        while signals.recv_timeout(PAUSE).is_ok() {}
        if matches!(signals.try_recv(), Err(TryRecvError::Disconnected)) {
            return;
        }
        for folder in folders(shared) {
            run(&folder, shared);
        }
    }
}

/// The folders of manifests that are open, one for each workspace that is known.
fn folders(shared: &Shared) -> Vec<PathBuf> {
    let (mut found, mut roots) = (Vec::new(), BTreeSet::new());
    for document in shared.documents().iter().filter(|document| document.is_manifest()) {
        let root = shared.knowledge_of(&document.path).map(|known| known.diagnosis.workspace.root.clone());
        if root.is_none_or(|root| roots.insert(root)) {
            found.push(document.folder().to_owned());
        }
    }
    found
}

/// Finds out all that can be known of the workspace that a folder is in.
fn run(folder: &Path, shared: &Shared) {
    let environment = shared.new_run();
    let open = shared.documents().texts();
    let before = shared.knowledge_of(&folder.join(FILE_NAME));
    let manifests = before.as_ref().map(|before| &before.diagnosis.workspace.manifests);
    let found = shared.quietly(&environment, folder, |context| {
        diagnose(folder, open, manifests, context).or_else(|failure| match &before {
            // The text's own problems say why it can't be read. The manifest on disk still says which registries there are.
            None => diagnose(folder, OpenTexts::new(), None, context),
            Some(_) => Err(failure),
        })
    });
    let Ok(diagnosis) = found else { return };
    if environment.stop.is_stopped() {
        return;
    }
    let root = diagnosis.workspace.root.clone();
    shared.learn(diagnosis);
    publish_workspace(&root, shared);
    let Some(knowledge) = shared.knowledge_in(&root) else { return };
    prepare_names(&knowledge.diagnosis, shared);
    let workspace = &knowledge.diagnosis.workspace;
    let newer = shared.quietly(&environment, folder, |context| news(workspace, context));
    if let (Ok(news), false) = (newer, environment.stop.is_stopped()) {
        shared.learn_news(&root, news);
        if shared.client.refreshes_hints {
            shared.ask("workspace/inlayHint/refresh", ());
        }
    }
}

/// Reads the names of packages once, so that the first completion finds them ready.
fn prepare_names(diagnosis: &Diagnosis, shared: &Shared) {
    if let (Some(registries), Ok(cache)) = (&diagnosis.registries, shared.environment.registries_folder()) {
        registries.asked.beginning_with("", 1, &cache);
    }
}

/// Publishes what is known of all files of a workspace: those that are open, and those that something was found in.
fn publish_workspace(root: &Path, shared: &Shared) {
    let documents: Vec<Arc<Document>> = shared.documents().iter().cloned().collect();
    documents.iter().for_each(|document| publish(document, shared));
    let Some(knowledge) = shared.knowledge_in(root) else { return };
    let diagnosis = &knowledge.diagnosis;
    let texts = Texts::of(&diagnosis.workspace, shared.client.encoding);
    let is_open = |file: &PathBuf| documents.iter().any(|document| document.path == *file);
    let files: BTreeSet<&PathBuf> = diagnosis.problems.iter().map(|found| &found.file).collect();
    let to_publish = shared.files_to_publish(
        root,
        files.iter().map(|file| (*file).clone()).filter(|file| !is_open(file)).collect(),
    );
    for file in to_publish.iter().filter(|file| !is_open(file)) {
        let Some(uri) = uri_of(file) else { continue };
        let text = texts.texts.get(file).copied().unwrap_or_default();
        let lines = crate::positions::Lines::of(text, shared.client.encoding);
        let found = diagnosis.problems.iter().filter(|found| found.file == *file);
        let diagnostics = found
            .map(|found| Problem::of_found(found, text, &diagnosis.workspace).shown(text, &lines, &texts))
            .collect();
        shared.notify(
            "textDocument/publishDiagnostics",
            PublishDiagnosticsParams { uri, diagnostics, version: None },
        );
    }
}

/// Publishes what is known of a text that is open.
fn publish(document: &Document, shared: &Shared) {
    // Meanwhile it may have been closed, or changed: then the next run publishes.
    if shared.document(&document.uri).is_none_or(|now| now.version != document.version) {
        return;
    }
    let problems = problems_of(document, shared);
    let knowledge = shared.knowledge_of(&document.path);
    let texts = knowledge.as_ref().map(|known| Texts::of(&known.diagnosis.workspace, shared.client.encoding));
    let texts =
        texts.unwrap_or(Texts { texts: std::collections::BTreeMap::new(), encoding: shared.client.encoding });
    let diagnostics =
        problems.iter().map(|problem| problem.shown(&document.text, &document.lines, &texts)).collect();
    let (uri, version) = (document.uri.clone(), Some(document.version));
    shared.notify("textDocument/publishDiagnostics", PublishDiagnosticsParams { uri, diagnostics, version });
}

/// What is wrong in a text as it is now: what reading it found; where that is nothing, what the last run found.
pub fn problems_of(document: &Document, shared: &Shared) -> Vec<Problem> {
    let read = shared.read_problems(&document.uri);
    if !read.is_empty() {
        return read;
    }
    let Some(knowledge) = shared.knowledge_of(&document.path) else { return Vec::new() };
    let diagnosis = &knowledge.diagnosis;
    let workspace = &diagnosis.workspace;
    let folder = document.folder().strip_prefix(&workspace.root).unwrap_or(Path::new(""));
    let folder = folder.to_string_lossy().replace('\\', "/");
    let old = workspace
        .manifests
        .in_folder(&folder)
        .map(|file| file.text.as_str())
        .filter(|_| document.is_manifest());
    let old = old.unwrap_or(&document.text);
    let found = diagnosis.problems.iter().filter(|found| found.file == document.path);
    let problems = found.map(|found| Problem::of_found(found, old, workspace));
    problems
        .filter_map(
            |problem| if *old == *document.text { Some(problem) } else { problem.moved(old, &document.text) },
        )
        .collect()
}
