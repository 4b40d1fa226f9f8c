//! `--offline`, for commands that otherwise ask registries.

/// Whether anything is asked over a network.
#[derive(Debug, Clone, Copy, Default, clap::Args)]
pub struct OfflineArgs {
    /// Use only what is on this machine already, without any network
    #[arg(long)]
    pub offline: bool,
}
