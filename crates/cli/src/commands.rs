//! One file for each command: its arguments, and what it does with the pieces of the other crates.

pub mod check;
pub mod compare;
pub mod demo;
pub mod deprecate;
pub mod describe;
pub mod drop;
pub mod explain;
pub mod find;
pub mod fit;
pub mod graph;
pub mod init;
pub mod install;
pub mod kit;
pub mod need;
pub mod newer;
mod on_shelf;
mod passed_over;
pub mod publish;
pub mod ready;
pub mod registry;
pub mod resolve;
mod settle;
pub mod steps;
pub mod store;
mod supply;
pub mod task;
pub mod update;
pub mod verify;
pub mod with;
pub mod withdraw;

use std::path::{Path, PathBuf};

use clap::Subcommand;

use crate::codes::Exit;
use crate::failure::Failure;
use crate::global::Global;
use crate::ui::Ui;

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(init::Init),
    Find(find::Find),
    Need(Box<need::Need>),
    Drop(drop::Drop),
    Resolve(resolve::Resolve),
    Install(install::Install),
    Update(update::Update),
    Verify(verify::Verify),
    Task(task::Task),
    With(with::With),
    Graph(graph::Graph),
    Explain(explain::Explain),
    Newer(newer::Newer),
    Compare(compare::Compare),
    Describe(describe::Describe),
    Fit(fit::Fit),
    Steps(steps::Steps),
    Ready(ready::Ready),
    Check(check::Check),
    Publish(publish::Publish),
    Withdraw(withdraw::Withdraw),
    Deprecate(deprecate::Deprecate),
    Registry(registry::Registry),
    Kit(kit::Kit),
    Store(store::Store),
    Demo(demo::Demo),
}

impl Command {
    /// Runs the command in the folder that was asked for.
    pub fn run(&self, global: &Global, ui: &Ui) -> Result<Exit, Failure> {
        let here = &working_folder(global)?;
        match self {
            Self::Init(command) => command.run(here, ui),
            Self::Find(command) => command.run(here, ui),
            Self::Need(command) => command.run(here, ui),
            Self::Drop(command) => command.run(here, ui),
            Self::Resolve(command) => command.run(here, ui),
            Self::Install(command) => command.run(here, ui),
            Self::Update(command) => command.run(here, ui),
            Self::Verify(command) => command.run(here, ui),
            Self::Task(command) => command.run(here, ui),
            Self::With(command) => command.run(here, ui),
            Self::Graph(command) => command.run(here, ui),
            Self::Explain(command) => command.run(here, ui),
            Self::Newer(command) => command.run(here, ui),
            Self::Compare(command) => command.run(here, ui),
            Self::Describe(command) => command.run(here, ui),
            Self::Fit(command) => command.run(here, ui),
            Self::Steps(command) => command.run(here, ui),
            Self::Ready(command) => command.run(here, ui),
            Self::Check(command) => command.run(here, ui),
            Self::Publish(command) => command.run(here, ui),
            Self::Withdraw(command) => command.run(here, ui),
            Self::Deprecate(command) => command.run(here, ui),
            Self::Registry(command) => command.run(here, ui),
            Self::Kit(command) => command.run(here, ui),
            Self::Store(command) => command.run(here, ui),
            Self::Demo(command) => command.run(here, ui),
        }
    }
}

fn working_folder(global: &Global) -> Result<PathBuf, Failure> {
    let missing = |folder: &Path| {
        Failure::new("disk.missing", format!("there is no folder {}", folder.display()))
            .mend("check the path")
    };
    let current = std::env::current_dir().map_err(|_| missing(Path::new(".")))?;
    let Some(folder) = &global.directory else { return Ok(current) };
    let folder = current.join(folder);
    if folder.is_dir() { Ok(folder) } else { Err(missing(&folder)) }
}
