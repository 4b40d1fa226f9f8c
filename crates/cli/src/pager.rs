//! Long results on a terminal go through a pager, unless `--no-pager` or the variable `PAGER` says otherwise.

use std::io::{self, IsTerminal, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use signal_hook::consts::SIGINT;
use terminal_size::{Height, Width, terminal_size_of};
use unicode_width::UnicodeWidthStr;

/// The pager that is used where nobody says which.
const USUAL: &str = "less";

/// The variable of that pager, and the options in it: to end by itself where one screen is enough, to pass colours, and to leave the
/// text on the screen.
const USUAL_OPTIONS: (&str, &str) = ("LESS", "FRX");

/// Shows a text in a pager, where it is longer than the terminal and there is a pager; whether it did.
pub fn show(text: &str) -> bool {
    is_longer_than_the_screen(text) && paged(text)
}

fn is_longer_than_the_screen(text: &str) -> bool {
    let Some((Width(width), Height(height))) = terminal_size_of(io::stdout()) else { return false };
    let width = usize::from(width).max(1);
    let plain = anstream::adapter::strip_str(text).to_string();
    let lines: usize = plain.lines().map(|line| line.width().div_ceil(width).max(1)).sum();
    lines >= usize::from(height)
}

/// The pager that a person wants; `None` for no pager.
fn wanted() -> Option<Command> {
    match std::env::var("PAGER") {
        Err(_) => {
            let mut command = Command::new(USUAL);
            let (name, options) = USUAL_OPTIONS;
            if std::env::var_os(name).is_none() {
                command.env(name, options);
            }
            Some(command)
        }
        Ok(words) if ["", "cat"].contains(&words.trim()) => None,
        Ok(words) => Some(shell(&words)),
    }
}

/// The command line of a shell, which the variable is for.
fn shell(words: &str) -> Command {
    let (program, option) = if cfg!(windows) { ("cmd", "/C") } else { ("sh", "-c") };
    let mut command = Command::new(program);
    command.args([option, words]);
    command
}

fn paged(text: &str) -> bool {
    let Some(mut pager) = wanted() else { return false };
    // Ctrl-C is for the pager while it runs.
    let _ = signal_hook::flag::register(SIGINT, Arc::new(AtomicBool::new(false)));
    let Ok(mut pager) = pager.stdin(Stdio::piped()).spawn() else { return false };
    feed(&mut pager, text);
    // How it ended is the person's business.
    pager.wait().is_ok()
}

fn feed(pager: &mut Child, text: &str) {
    let Some(mut input) = pager.stdin.take() else { return };
    let choice = anstream::AutoStream::choice(&io::stdout());
    // A person who leaves the pager early has seen enough.
    let _ = if choice == anstream::ColorChoice::Never {
        input.write_all(anstream::adapter::strip_str(text).to_string().as_bytes())
    } else {
        input.write_all(text.as_bytes())
    };
}

/// Whether results may go through a pager at all.
pub fn is_possible() -> bool {
    io::stdout().is_terminal() && io::stdin().is_terminal()
}
