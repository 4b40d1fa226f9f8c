//! Options of `completions`.

use bibliotax_app::failure::Failure;
use clap::CommandFactory;
use clap_complete::Shell;

use super::Arguments;
use crate::exit_status::Exit;
use crate::json;
use crate::run::Run;

/// Print a script that completes commands and options in a shell
///
/// Where the shell looks for such scripts is in docs/guide.md.
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
        let mut script = Vec::new();
        clap_complete::generate(self.shell, &mut Arguments::command(), "bibliotax", &mut script);
        let script = String::from_utf8_lossy(&script);
        run.ui.answer_as_is(script.trim_end());
        run.ui.report(|| json::machine::Completions {
            shell: self.shell.to_string(),
            script: script.into_owned(),
        });
        Ok(Exit::Done)
    }
}
