//! The projects of a workspace and the targets that a command acts on.

use bibliotax_app::workspace::ProjectWords;
use bibliotax_core::name::Purpose;

/// The projects that a command acts on, by default all.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct ProjectFilterArgs {
    /// Act on these projects of the workspace [default: all]
    #[arg(long = "in", value_name = "PROJECT", value_delimiter = ',')]
    projects: Vec<String>,
}

/// The projects that a command acts on, by default the one in whose folder it runs.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct ProjectArgs {
    /// Act on these projects of the workspace, or on `all` [default: that of this folder]
    #[arg(long = "in", value_name = "PROJECT", value_delimiter = ',')]
    projects: Vec<String>,
}

/// The targets that a command is about, by default all.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct TargetFilterArgs {
    /// Only for this target [default: all]
    #[arg(long = "target", value_name = "TARGET", value_delimiter = ',')]
    pub targets: Vec<String>,
}

/// The purposes that a command leaves out, by default none.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct LeaveOutArgs {
    /// Leave out what is needed only for this purpose, such as test
    #[arg(long = "leave-out", value_name = "PURPOSE", value_delimiter = ',')]
    pub purposes: Vec<Purpose>,
}

impl ProjectFilterArgs {
    /// The words.
    pub fn words(&self) -> ProjectWords {
        ProjectWords(self.projects.clone())
    }
}

impl ProjectArgs {
    /// The words.
    pub fn words(&self) -> ProjectWords {
        ProjectWords(self.projects.clone())
    }
}
