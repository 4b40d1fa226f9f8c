//! The projects of a workspace and the targets that a command acts on.

use bibliotax_app::workspace::MemberWords;

/// The projects that a command acts on, by default all.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct MemberFilterArgs {
    /// Act on these projects of the workspace [default: all]
    #[arg(long = "in", value_name = "PROJECT", value_delimiter = ',')]
    members: Vec<String>,
}

/// The projects that a command acts on, by default the one in whose folder it runs.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct MemberArgs {
    /// Act on these projects of the workspace, or on `all` [default: that of this folder]
    #[arg(long = "in", value_name = "PROJECT", value_delimiter = ',')]
    members: Vec<String>,
}

/// The targets that a command is about, by default all.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct TargetFilterArgs {
    /// Only for this target [default: all]
    #[arg(long = "target", value_name = "TARGET", value_delimiter = ',')]
    pub targets: Vec<String>,
}

impl MemberFilterArgs {
    /// The words.
    pub fn words(&self) -> MemberWords {
        MemberWords(self.members.clone())
    }
}

impl MemberArgs {
    /// The words.
    pub fn words(&self) -> MemberWords {
        MemberWords(self.members.clone())
    }
}
