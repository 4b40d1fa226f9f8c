//! What the threads of the server share: open texts, what is known of workspaces, and what was published.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

use bibliotax_app::context::Context;
use bibliotax_app::diagnose::Diagnosis;
use bibliotax_app::environment::Environment;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::NoProgress;
use bibliotax_registry::catalogue::stop::Stop;
use crossbeam_channel::{Sender, unbounded};
use lsp_server::{Message, Notification, Request, RequestId};
use lsp_types::Uri;
use serde::Serialize;

use crate::documents::{Document, Documents};
use crate::guard::locked;
use crate::lookups::{Fetch, Knowledge, fetch_all};
use crate::news::PackageNews;
use crate::positions::Encoding;
use crate::problems::Problem;

/// What is newer than what is locked, by package.
pub type News = BTreeMap<PackageName, PackageNews>;

/// What the client can do.
#[derive(Debug, Clone, Copy, Default)]
pub struct Client {
    /// What columns count.
    pub encoding: Encoding,
    /// Whether it can be made to ask again for inlay hints.
    pub refreshes_hints: bool,
    /// Whether it shows how work goes on.
    pub shows_progress: bool,
    /// Whether it watches files when asked to.
    pub watches_files: bool,
}

/// What the threads share.
pub struct Shared {
    /// What the client can do.
    pub client: Client,
    /// What machine and person say.
    pub environment: Environment,
    to_client: Sender<Message>,
    fetches: Sender<Fetch>,
    documents: Mutex<Documents>,
    knowledge: Mutex<BTreeMap<PathBuf, Arc<Knowledge>>>,
    news: Mutex<BTreeMap<PathBuf, Arc<News>>>,
    /// The files that aren't open and that something was published about, by workspace.
    published: Mutex<BTreeMap<PathBuf, BTreeSet<PathBuf>>>,
    /// What was found in texts by reading them alone, by their names.
    read: Mutex<BTreeMap<String, Vec<Problem>>>,
    /// The run that is under way in the background.
    stop: Mutex<Stop>,
    asked: Mutex<i32>,
}

impl Shared {
    /// Nothing open, nothing known.
    pub fn new(client: Client, environment: Environment, to_client: Sender<Message>) -> Self {
        let (fetches, wanted) = unbounded();
        std::thread::spawn(move || fetch_all(&wanted));
        Self {
            client,
            environment,
            to_client,
            fetches,
            documents: Mutex::default(),
            knowledge: Mutex::default(),
            news: Mutex::default(),
            published: Mutex::default(),
            read: Mutex::default(),
            stop: Mutex::default(),
            asked: Mutex::default(),
        }
    }

    /// The open texts, to change them.
    pub fn documents(&self) -> MutexGuard<'_, Documents> {
        locked(&self.documents)
    }

    /// An open text as it is now.
    pub fn document(&self, uri: &Uri) -> Option<Arc<Document>> {
        self.documents().get(uri)
    }

    /// What is known of the workspace that a file belongs to.
    pub fn knowledge_of(&self, file: &Path) -> Option<Arc<Knowledge>> {
        let known = locked(&self.knowledge);
        known.values().find(|knowledge| knowledge.has(file)).cloned()
    }

    /// What is known of the workspace in a folder.
    pub fn knowledge_in(&self, root: &Path) -> Option<Arc<Knowledge>> {
        locked(&self.knowledge).get(root).cloned()
    }

    /// Takes in what a run found out of a workspace.
    pub fn learn(&self, diagnosis: Diagnosis) {
        let root = diagnosis.workspace.root.clone();
        let knowledge = Knowledge::new(diagnosis, self.fetches.clone());
        locked(&self.knowledge).insert(root, Arc::new(knowledge));
    }

    /// What is newer in a workspace, as far as that is known.
    pub fn news_of(&self, root: &Path) -> Arc<News> {
        locked(&self.news).get(root).cloned().unwrap_or_default()
    }

    /// Takes in what is newer in a workspace.
    pub fn learn_news(&self, root: &Path, news: News) {
        locked(&self.news).insert(root.to_owned(), Arc::new(news));
    }

    /// The files that aren't open and that something is to be published about: these, and those where something was before.
    pub fn files_to_publish(&self, root: &Path, files: BTreeSet<PathBuf>) -> BTreeSet<PathBuf> {
        let before = locked(&self.published).insert(root.to_owned(), files.clone());
        before.into_iter().flatten().chain(files).collect()
    }

    /// What reading a text alone found.
    pub fn read_problems(&self, uri: &Uri) -> Vec<Problem> {
        locked(&self.read).get(uri.as_str()).cloned().unwrap_or_default()
    }

    /// Takes in what reading a text alone found.
    pub fn note_read(&self, uri: &Uri, problems: Vec<Problem>) {
        locked(&self.read).insert(uri.as_str().to_owned(), problems);
    }

    /// Ends the run in the background, whose answer nobody wants any more.
    pub fn stop_run(&self) {
        locked(&self.stop).stop();
    }

    /// The environment of a new run, which [`Self::stop_run`] ends.
    pub fn new_run(&self) -> Environment {
        let stop = Stop::default();
        *locked(&self.stop) = stop.clone();
        Environment { stop, ..self.environment.clone() }
    }

    /// Runs a use case that nobody hears of.
    pub fn quietly<T>(
        &self,
        environment: &Environment,
        folder: &Path,
        work: impl FnOnce(&Context<'_>) -> T,
    ) -> T {
        work(&Context { environment, folder, listener: &NoProgress })
    }

    /// Tells the client something. One that has gone hears nothing.
    pub fn notify(&self, method: &str, params: impl Serialize) {
        let _ = self.to_client.send(Notification::new(method.to_owned(), params).into());
    }

    /// Asks the client for something, whose answer doesn't matter.
    pub fn ask(&self, method: &str, params: impl Serialize) {
        let mut asked = locked(&self.asked);
        *asked += 1;
        let id = RequestId::from(format!("bibliotax-{asked}"));
        let _ = self.to_client.send(Request::new(id, method.to_owned(), params).into());
    }

    /// Sends a message as it is.
    pub fn send(&self, message: impl Into<Message>) {
        let _ = self.to_client.send(message.into());
    }
}

impl Knowledge {
    /// Whether a file is one of the workspace's: a manifest, a card beside one, or the lock.
    fn has(&self, file: &Path) -> bool {
        let workspace = &self.diagnosis.workspace;
        let is_of = |manifest: &bibliotax_app::workspace::ManifestFile| {
            let folder = workspace.root.join(&manifest.folder);
            file.strip_prefix(&folder).is_ok_and(|way| {
                let way = way.to_string_lossy();
                way == bibliotax_core::manifest::FILE_NAME
                    || manifest.outline.cards.iter().any(|card| *card == way)
            })
        };
        workspace.manifests.files.iter().any(is_of)
            || file == workspace.root.join(bibliotax_core::lock::FILE_NAME)
    }
}
