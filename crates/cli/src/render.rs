//! Reports of use cases as text for people, one file per command.

pub mod accept;
pub mod changes;
pub mod check;
pub mod compare;
pub mod describe;
pub mod explain;
pub mod explanation;
pub mod export;
pub mod failure;
pub mod find;
pub mod fit;
pub mod follow;
mod followers;
pub mod graph;
pub mod history;
pub mod init;
pub mod install;
pub mod kit;
pub mod links;
pub mod merge;
pub mod need;
pub mod newer;
pub mod publish;
pub mod ready;
pub mod registry;
pub mod report;
pub mod steps;
pub mod store;
pub mod survey;
pub mod task;
pub mod update;
pub mod verify;

use crate::ui::Ui;

/// Shows what people should know of an answer.
pub fn warnings(ui: &Ui, warnings: &[String]) {
    warnings.iter().for_each(|warning| ui.warn(warning));
}
