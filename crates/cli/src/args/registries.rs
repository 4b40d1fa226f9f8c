//! `--registry`, for commands that look packages up.

/// The registries that packages are looked up in.
#[derive(Debug, Clone, Default, clap::Args)]
pub struct RegistryFilterArgs {
    /// Look only in this registry: a declared name, a folder or a URL. Also outside of a project
    #[arg(long = "registry", value_name = "REGISTRY", value_delimiter = ',')]
    pub registries: Vec<String>,
}
