//! Options of `language-server`.

use std::fmt::Display;
use std::io::{ErrorKind, IsTerminal};

use bibliotax_app::failure::Failure;
use bibliotax_language_server::server::{self, End};
use bibliotax_language_server::transport;

use crate::exit_status::Exit;
use crate::run::Run;

/// Answer an editor about manifests, over standard input and output
///
/// Speaks the Language Server Protocol 3.17. Editors start it themselves; docs/editors.md shows how to set them up.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax language-server")]
pub struct LanguageServer {
    /// Editors that can speak in several ways ask for this one
    #[arg(long, hide = true)]
    stdio: bool,
}

impl LanguageServer {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        if std::io::stdin().is_terminal() {
            return Err(broken(&"standard input is a terminal"));
        }
        let (connection, threads) = transport::connect(std::io::stdin(), std::io::stdout());
        let served = server::serve(&connection, run.environment.clone(), env!("CARGO_PKG_VERSION"));
        // The threads end with the channels to them.
        drop(connection);
        match threads.finish() {
            Err(error) if error.kind() == ErrorKind::InvalidData => return Err(broken(&error)),
            // Nobody is left to read about an editor that went away.
            _ => {}
        }
        match served {
            // The status that the protocol asks for.
            Ok(End::ExitOnly) => Ok(Exit::Passed(1)),
            Ok(End::Shutdown | End::Closed) => Ok(Exit::Done),
            Err(error) if error.channel_is_disconnected() => Err(broken(&"the input ended before it began")),
            Err(error) => Err(broken(&error)),
        }
    }
}

fn broken(why: &dyn Display) -> Failure {
    Failure::new("editor.protocol", format!("no editor speaks the protocol here: {why}"))
        .advice("start it from an editor; docs/editors.md shows how")
}
