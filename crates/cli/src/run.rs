//! What a command runs with.

use std::path::{Path, PathBuf};

use bibliotax_app::change::{Applied, PlannedChange};
use bibliotax_app::context::Context;
use bibliotax_app::environment::Environment;
use bibliotax_app::failure::Failure;
use bibliotax_app::shelf::ShelfOptions;

use crate::progress::Progress;
use crate::ui::Ui;

/// What a command runs with.
pub struct Run<'r> {
    /// Writes to the terminal.
    pub ui: &'r Ui,
    /// What the machine and the person say.
    pub environment: Environment,
    /// The folder that it runs in.
    pub folder: PathBuf,
}

impl Run<'_> {
    /// Does work whose progress is shown; the drawing is gone before anything else is shown.
    pub fn working<T>(&self, work: impl FnOnce(&Context<'_>) -> T) -> T {
        let progress = Progress::new(self.ui);
        work(&Context { environment: &self.environment, folder: &self.folder, listener: &progress })
    }

    /// The same, but nobody is asked over a network where `is_offline`.
    pub fn offline_if(&self, is_offline: bool) -> Self {
        let environment = self.environment.offline_if(is_offline);
        Self { ui: self.ui, environment, folder: self.folder.clone() }
    }

    /// The same, with another way to the terminal.
    pub fn with_ui<'u>(&self, ui: &'u Ui) -> Run<'u> {
        Run { ui, environment: self.environment.clone(), folder: self.folder.clone() }
    }

    /// Applies a change to manifests, lock and shelf; `None` where that is only tried.
    pub fn apply(&self, change: &PlannedChange, is_dry_run: bool) -> Result<Option<Applied>, Failure> {
        if is_dry_run {
            return Ok(None);
        }
        self.working(|context| change.apply(&ShelfOptions::default(), context)).map(Some)
    }

    /// The folder that it runs in.
    pub fn folder(&self) -> &Path {
        &self.folder
    }
}
