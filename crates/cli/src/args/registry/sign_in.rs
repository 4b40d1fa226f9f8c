//! Options of `registry sign-in` and `registry sign-out`.

use std::io::{self, BufRead, IsTerminal};

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::sign_in::{self, Request};
use bibliotax_registry::client::origin::Origin;

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Save credentials for a registry
///
/// The token is prompted for or read from standard input, tried, and saved in the system's keyring. It is sent only to that host,
/// scheme and port.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry sign-in fernhollow\n  bibliotax registry sign-in https://garden.example:5000 --user moss < password.txt"
)]
pub struct SignIn {
    /// The registry: a declared name, or a host
    registry: String,
    /// Save a password for this user instead of a token
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// Save it in a file that only you can read, not in the keyring
    #[arg(long)]
    file: bool,
    /// Try the credentials without saving them
    #[arg(long)]
    dry_run: bool,
}

/// Delete the credentials for a registry
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax registry sign-out fernhollow")]
pub struct SignOut {
    /// The registry: a declared name, or a host
    registry: String,
    /// Show whether there are credentials without deleting them
    #[arg(long)]
    dry_run: bool,
}

impl SignIn {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request =
            Request { registry: self.registry.clone(), user: self.user.clone(), in_file: self.file };
        let is_typed = io::stdin().is_terminal();
        let origin = run.working(|context| request.origin(is_typed, context))?;
        let secret = ask(&request, &origin, is_typed);
        let saved = run.working(|context| request.save(&origin, &secret, self.dry_run, context))?;
        render::registry::show_signed_in(run.ui, &origin, &saved, self.dry_run);
        Ok(Exit::Done)
    }
}

/// The secret, asked for without showing it, or the first line of the input.
fn ask(request: &Request, origin: &Origin, is_typed: bool) -> String {
    let read = if is_typed {
        rpassword::prompt_password(format!("{} for {origin}: ", request.secret_name()))
    } else {
        let mut line = String::new();
        io::stdin().lock().read_line(&mut line).map(|_| line)
    };
    read.unwrap_or_default().trim().to_owned()
}

impl SignOut {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let (origin, there_were) =
            run.working(|context| sign_in::sign_out(&self.registry, self.dry_run, context))?;
        render::registry::show_signed_out(run.ui, &origin, there_were, self.dry_run);
        Ok(Exit::Done)
    }
}
