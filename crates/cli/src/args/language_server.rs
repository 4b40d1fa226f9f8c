//! Options of `language-server`.

use std::fmt::Display;
use std::io::ErrorKind;

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
        let (connection, threads) = transport::connect(std::io::stdin(), std::io::stdout());
        let served = server::serve(&connection, run.environment.clone(), env!("CARGO_PKG_VERSION"));
        // The threads end with the channels to them.
        drop(connection);
        let broken = |why: &dyn Display| {
            Failure::new("editor.protocol", format!("the editor breaks the protocol: {why}"))
        };
        match threads.finish() {
            Err(error) if error.kind() == ErrorKind::InvalidData => return Err(broken(&error)),
            // Nobody is left to read about an editor that went away.
            _ => {}
        }
        match served.map_err(|error| broken(&error))? {
            // The status that the protocol asks for.
            End::ExitOnly => Ok(Exit::Passed(1)),
            End::Shutdown | End::Closed => Ok(Exit::Done),
        }
    }
}
