//! Options of `language-server`.

use bibliotax_app::failure::Failure;
use bibliotax_language_server::server;
use lsp_server::Connection;

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
        let (connection, threads) = Connection::stdio();
        let served = server::serve(&connection, run.environment.clone(), env!("CARGO_PKG_VERSION"));
        // The threads end with the channels to them.
        drop(connection);
        let ended = threads.join();
        served.map_err(|error| {
            Failure::new("editor.protocol", format!("the editor breaks the protocol: {error}"))
        })?;
        // An editor that is gone without a word leaves nobody to tell.
        drop(ended);
        Ok(Exit::Done)
    }
}
