//! What `with` and `task` share: a shelf made right, and what programs find of it in their environment.

use std::path::Path;

use bibliotax_core::workspace::Member;

use super::install::Install;
use crate::failure::Failure;
use crate::project::Project;
use crate::running::{Surroundings, target_here};
use crate::ui::Ui;

/// The shelf that a program is run with.
#[derive(Debug, clap::Args)]
pub struct OnShelf {
    /// The target whose packages are meant
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// Fail unless the lock is right already; write nothing but the shelf
    #[arg(long)]
    sealed: bool,
    /// With --sealed: take what stands in for packages, too
    #[arg(long, requires = "sealed")]
    allow_replaced: bool,
    /// Ask nobody over a network
    #[arg(long)]
    offline: bool,
}

impl OnShelf {
    /// Makes the shelf right, without a word on stdout, which is the program's; what programs of these members then find in
    /// their environment.
    pub fn surroundings(
        &self,
        here: &Path,
        project: &Project,
        members: &[&Member],
        ui: &Ui,
    ) -> Result<Vec<Surroundings>, Failure> {
        let targets = members.iter().map(|member| target_here(member, self.target.as_deref()));
        let targets = targets.collect::<Result<Vec<_>, _>>()?;
        Install::before(self.sealed, self.allow_replaced, self.offline).make_right(here, &ui.aside())?;
        let of_members = members.iter().zip(&targets);
        of_members.map(|(member, target)| Surroundings::of(project, member, target.as_deref())).collect()
    }
}
