//! Commands that the editor runs: an install and an update, with how they go on.

use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_app::context::Context;
use bibliotax_app::failure::Failure;
use bibliotax_app::shelf::ShelfOptions;
use bibliotax_app::{install, update};
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_present::words::count;
use lsp_types::{
    MessageType, NumberOrString, ProgressParams, ProgressParamsValue, ShowMessageParams, WorkDoneProgress,
    WorkDoneProgressBegin, WorkDoneProgressCreateParams, WorkDoneProgressEnd, WorkDoneProgressReport,
};
use serde_json::Value;

use crate::shared::Shared;

/// Installs what the lock of a workspace lists. Arguments: a file of it.
pub const INSTALL: &str = "bibliotax.install";

/// Updates packages of a workspace. Arguments: a file of it, and packages; none for all.
pub const UPDATE: &str = "bibliotax.update";

/// All commands.
pub const COMMANDS: [&str; 2] = [INSTALL, UPDATE];

/// What is to be run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Work {
    command: &'static str,
    file: PathBuf,
    packages: Vec<String>,
}

impl Work {
    /// What a command with arguments means, or what is wrong with them.
    pub fn of(command: &str, arguments: &[Value]) -> Result<Self, String> {
        let known = COMMANDS.into_iter().find(|known| *known == command);
        let command = known.ok_or_else(|| format!("there is no command `{command}`"))?;
        let words: Option<Vec<&str>> = arguments.iter().map(Value::as_str).collect();
        match words.as_deref() {
            Some([file, packages @ ..]) => {
                // Editors that name files by URLs may pass on one.
                let path = file.parse().ok().and_then(|uri| crate::documents::path_of(&uri));
                let packages = packages.iter().map(|package| (*package).to_owned()).collect();
                Ok(Self { command, file: path.unwrap_or_else(|| PathBuf::from(file)), packages })
            }
            _ => Err(format!("`{command}` needs a file of the workspace, as a text")),
        }
    }

    /// Does it, and tells the client how it goes on and how it ended.
    pub fn run(&self, shared: &Arc<Shared>, number: i32) {
        let token = NumberOrString::String(format!("bibliotax-work-{number}"));
        let title = if self.command == INSTALL { "Install" } else { "Update" };
        let shown = Shown { shared, token, is_shown: shared.client.shows_progress };
        shown.begin(title);
        let done = self.carry_out(shared, &shown);
        shown.end();
        let (typ, message) = match done {
            Ok(message) => (MessageType::INFO, message),
            Err(failure) => {
                let because: String = failure.reasons().iter().map(|reason| format!("\n{reason}")).collect();
                (MessageType::ERROR, format!("{}{because}  ({})", failure.message, failure.code))
            }
        };
        shared.notify("window/showMessage", ShowMessageParams { typ, message });
    }

    fn carry_out(&self, shared: &Shared, shown: &Shown<'_>) -> Result<String, Failure> {
        let folder = self.file.parent().unwrap_or(&self.file).to_owned();
        let context = Context { environment: &shared.environment, folder: &folder, listener: shown };
        let installed = match self.command {
            UPDATE => {
                let request =
                    update::Request { packages: self.packages.clone(), ..update::Request::default() };
                let plan = update::plan(&request, &context)?;
                let moved = plan.change.report().changes.len();
                plan.change.apply(&ShelfOptions::default(), &context)?;
                return Ok(format!(
                    "update: {}",
                    if moved == 0 { "nothing to update".to_owned() } else { count(moved, "change") }
                ));
            }
            _ => install::plan(&install::Request::default(), &context)?,
        };
        match installed {
            install::Plan::UpToDate(_) => Ok("install: already up to date".to_owned()),
            install::Plan::Locked(plan) => {
                plan.apply(&context)?;
                Ok("install: the shelf is what the lock lists".to_owned())
            }
            install::Plan::Resolved(plan) => {
                plan.apply(&context)?;
                Ok("install: lock and shelf are up to date".to_owned())
            }
        }
    }
}

/// Shows how work goes on.
struct Shown<'s> {
    shared: &'s Shared,
    token: NumberOrString,
    is_shown: bool,
}

impl Shown<'_> {
    fn begin(&self, title: &str) {
        if self.is_shown {
            let token = self.token.clone();
            self.shared.ask("window/workDoneProgress/create", WorkDoneProgressCreateParams { token });
            let title = format!("bibliotax: {title}");
            self.tell(WorkDoneProgress::Begin(WorkDoneProgressBegin {
                title,
                ..WorkDoneProgressBegin::default()
            }));
        }
    }

    fn end(&self) {
        self.tell(WorkDoneProgress::End(WorkDoneProgressEnd { message: None }));
    }

    fn tell(&self, progress: WorkDoneProgress) {
        if self.is_shown {
            let value = ProgressParamsValue::WorkDone(progress);
            self.shared.notify("$/progress", ProgressParams { token: self.token.clone(), value });
        }
    }
}

impl ProgressListener for Shown<'_> {
    fn on_event(&self, event: &ProgressEvent) {
        let message = match event {
            ProgressEvent::Waiting => "waiting for another process".to_owned(),
            ProgressEvent::Fetching { archives, .. } => format!("fetching {}", count(*archives, "archive")),
            ProgressEvent::Unpacked { package, .. } => format!("unpacked {package}"),
            ProgressEvent::Shelved { package } => format!("installed {package}"),
            _ => return,
        };
        self.tell(WorkDoneProgress::Report(WorkDoneProgressReport {
            message: Some(message),
            ..WorkDoneProgressReport::default()
        }));
    }
}
