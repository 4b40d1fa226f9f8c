//! The one way to the terminal: results to stdout, all else to stderr.

use std::io::{self, IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use bibliotax_present::table;
use serde::Serialize;
use terminal_size::{Height, Width};

use crate::exit_status::Exit;
use crate::global::{Format, Global};
use crate::json::{self, Document, Output};
pub use bibliotax_present::terminal::{clean, for_terminal, json_for_terminal, on_one_line, style, styled};

/// Narrowest terminal that tables and messages are laid out for.
const NARROWEST: usize = 40;

/// How this run talks.
#[derive(Debug)]
pub struct Ui {
    format: Format,
    quiet: bool,
    verbose: u8,
    /// Whether results go beside those of a program that is started.
    is_aside: bool,
    /// The command, with its subcommands; none where the command line is wrong.
    command: Option<String>,
    /// The warnings that were shown, for the JSON.
    warnings: Mutex<Vec<String>>,
}

impl Ui {
    /// For messages alone.
    pub(crate) fn on_stderr() -> Self {
        Self {
            format: Format::Text,
            quiet: false,
            verbose: 0,
            is_aside: true,
            command: None,
            warnings: Mutex::default(),
        }
    }

    /// For what is wrong with a command line.
    pub fn for_usage(is_json: bool) -> Self {
        let format = if is_json { Format::Json } else { Format::Text };
        Self { format, ..Self::on_stderr() }
    }

    pub fn new(global: &Global, command: &str) -> Self {
        Self {
            format: global.format,
            quiet: global.quiet,
            verbose: global.verbose,
            is_aside: false,
            command: Some(command.to_owned()),
            warnings: Mutex::default(),
        }
    }

    /// The same, but with results for people where messages go, because stdout belongs to another program.
    pub fn aside(&self) -> Self {
        Self {
            format: Format::Text,
            quiet: self.quiet,
            verbose: self.verbose,
            is_aside: true,
            command: self.command.clone(),
            warnings: Mutex::default(),
        }
    }

    /// Whether results go beside those of another program, so that only what changed is worth a word.
    pub fn is_aside(&self) -> bool {
        self.is_aside
    }

    /// The form of the results.
    pub fn format(&self) -> Format {
        self.format
    }

    pub fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether progress may be drawn.
    pub fn shows_progress(&self) -> bool {
        !self.quiet && self.verbose == 0 && io::stderr().is_terminal()
    }

    /// A line of the result, for people; with `--quiet` or JSON not shown.
    pub fn say(&self, line: impl AsRef<str>) {
        if !self.quiet {
            self.answer(line);
        }
    }

    /// A line that was asked for: shown even with `--quiet`.
    pub fn answer(&self, line: impl AsRef<str>) {
        match (self.is_json(), self.is_aside) {
            (true, _) => {}
            (false, true) => print_err(&for_terminal(line.as_ref())),
            (false, false) => print_out(&for_terminal(line.as_ref())),
        }
    }

    /// The result as JSON, where that was asked for, with the warnings that were shown.
    pub fn report<D: Document>(&self, result: impl FnOnce() -> D) {
        if !self.is_json() {
            return;
        }
        let (format, command) = (json::FORMAT, D::COMMAND.to_owned());
        self.print_json(&Output { format, command, result: result(), warnings: self.warnings() });
    }

    /// Prints JSON in a line.
    pub fn print_json<T: Serialize>(&self, value: &T) {
        // Texts, lists and maps with names for keys: nothing that is printed can fail to be JSON.
        let text = serde_json::to_string(value).unwrap_or_default();
        print_out(&json_for_terminal(&text));
    }

    /// The command, with its subcommands; none where the command line is wrong.
    pub fn command(&self) -> Option<&str> {
        self.command.as_deref()
    }

    /// The warnings that were shown.
    pub fn warnings(&self) -> Vec<String> {
        self.warnings.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// A line beside the results about what goes on just now; from several threads at once.
    pub fn aside_line(line: &str) {
        print_err(&for_terminal(line));
    }

    /// A line of a log in JSON, which goes beside the results; from several threads at once.
    pub fn log(line: &str) {
        print_err(&json_for_terminal(line));
    }

    /// A warning; also part of the JSON.
    pub fn warn(&self, text: impl AsRef<str>) {
        self.warnings.lock().unwrap_or_else(PoisonError::into_inner).push(text.as_ref().to_owned());
        if !self.quiet {
            print_err(&for_terminal(&format!(
                "{} {}",
                styled(style::WARNING, "warning:"),
                on_one_line(text.as_ref())
            )));
        }
    }

    /// What is being done, for those who asked with `-v` (1) or `-vv` (2).
    pub fn tell(&self, level: u8, text: impl AsRef<str>) {
        if self.verbose >= level {
            print_err(&for_terminal(&styled(style::FAINT, on_one_line(text.as_ref()))));
        }
    }

    /// Rows in columns, no wider than the terminal.
    pub fn table(&self, rows: impl IntoIterator<Item = Vec<String>>) -> String {
        table::table(rows, self.terminal_width())
    }

    /// The columns of the terminal that results go to; `None` where they go elsewhere.
    pub fn terminal_width(&self) -> Option<usize> {
        output_width()
    }
}

/// Whether nothing can be written to stdout any more.
static IS_CLOSED: AtomicBool = AtomicBool::new(false);

/// Why results are lost.
static LOST: Mutex<Option<io::Error>> = Mutex::new(None);

/// Writes a line that a terminal may have to stdout.
pub(crate) fn print_out(line: &str) {
    write_out(&format!("{line}\n"));
}

/// Writes to stdout. That its reader went away changes nothing of what is done; any other error is reported at the end.
fn write_out(text: &str) {
    if IS_CLOSED.load(Ordering::Relaxed) {
        return;
    }
    let mut out = anstream::stdout().lock();
    if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        IS_CLOSED.store(true, Ordering::Relaxed);
        if error.kind() != io::ErrorKind::BrokenPipe {
            *LOST.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
        }
    }
}

/// Why results are lost, where they are; said once.
pub fn take_lost() -> Option<io::Error> {
    LOST.lock().unwrap_or_else(PoisonError::into_inner).take()
}

/// Shows the help or the version.
pub fn show_help(help: &clap::Error) -> Exit {
    write_out(&help.render().ansi().to_string());
    Exit::Done
}

/// The columns of the terminal that results go to; `None` where they go elsewhere.
pub fn output_width() -> Option<usize> {
    columns(terminal_size::terminal_size_of(io::stdout()))
}

/// The columns of the terminal that messages go to; `None` where they go elsewhere, and are not broken.
pub fn error_width() -> Option<usize> {
    columns(terminal_size::terminal_size_of(io::stderr()))
}

/// The columns of a terminal of this size, at least those that everything is laid out for; `None` where there is none.
fn columns(size: Option<(Width, Height)>) -> Option<usize> {
    size.map(|(width, _)| usize::from(width.0).max(NARROWEST))
}

pub(crate) fn print_err(line: &str) {
    let _ = writeln!(anstream::stderr().lock(), "{line}");
}
