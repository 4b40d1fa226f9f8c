//! The options that `with` and `task` share.

use bibliotax_app::on_shelf::ShelfWords;

/// The shelf that a program is run with.
#[derive(Debug, clap::Args)]
pub struct ShelfArgs {
    /// The target whose packages are meant
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// Fail unless the lock is right already; write nothing but the shelf
    #[arg(long)]
    sealed: bool,
    /// With --sealed: take what stands in for packages, too
    #[arg(long, requires = "sealed")]
    allow_stand_ins: bool,
    /// Ask nobody over a network
    #[arg(long)]
    pub offline: bool,
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
