//! The options that `with` and `task` share.

use bibliotax_app::on_shelf::ShelfWords;

use super::offline::OfflineArgs;

/// The shelf that a program is run with.
#[derive(Debug, clap::Args)]
pub struct ShelfArgs {
    /// Use the packages of this target
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// Fail if the lock is out of date; write only the shelf
    #[arg(long)]
    sealed: bool,
    /// With --sealed: allow stand-ins
    #[arg(long, requires = "sealed")]
    allow_stand_ins: bool,
    #[command(flatten)]
    pub network: OfflineArgs,
}

impl ShelfArgs {
    /// The words.
    pub fn words(&self) -> ShelfWords {
        ShelfWords {
            target: self.target.clone(),
            is_sealed: self.sealed,
            allow_stand_ins: self.allow_stand_ins,
        }
    }
}
