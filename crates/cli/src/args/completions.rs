//! Options of `completions`.

use bibliotax_app::failure::Failure;
use clap_complete::Shell;

use crate::completion_script;
use crate::exit_status::Exit;
use crate::json;
use crate::run::Run;

/// Print a script that completes commands and options in a shell
///
/// Completes commands and options, and the names of packages, projects, targets, tasks, registries and git revisions. Where the shell
/// looks for such scripts is in docs/guide.md.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax completions bash > ~/.local/share/bash-completion/completions/bibliotax\n  bibliotax completions fish > ~/.config/fish/completions/bibliotax.fish"
)]
pub struct Completions {
    /// The shell
    shell: Shell,
}

impl Completions {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let shell = self.shell.to_string();
        // All shells that can be named are known there.
        let script = completion_script::script(&shell).unwrap_or_default();
        run.ui.answer_as_is(script.trim_end());
        run.ui.report(|| json::machine::Completions { shell, script });
        Ok(Exit::Done)
    }
}
