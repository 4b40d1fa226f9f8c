//! The one way to the terminal: results to stdout, all else to stderr.

use std::borrow::Cow;
use std::io::{self, IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{LazyLock, Mutex, PoisonError};

use bibliotax_present::table::Table;
use serde::Serialize;
use terminal_size::{Height, Width};

use crate::exit_status::Exit;
use crate::global::{Format, Global};
use crate::json::{self, Document, Output};
use crate::pager;
pub use bibliotax_present::terminal::{
    ascii, clean, for_terminal, json_for_terminal, on_one_line, style, styled, wrapped,
};

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

    /// Whether each request is shown.
    pub fn shows_requests(&self) -> bool {
        self.verbose > 1
    }

    /// A line of the result, for people; with `--quiet` or JSON not shown.
    pub fn say(&self, line: impl AsRef<str>) {
        if !self.quiet {
            self.answer(line);
        }
    }

    /// A line of the answer, shown even with `--quiet`: on a terminal broken between words.
    pub fn answer(&self, line: impl AsRef<str>) {
        let width = if self.is_aside { error_width() } else { output_width() };
        self.print(&lines_within(line.as_ref(), width));
    }

    /// A text for another program or for pasting, whose lines are never broken.
    pub fn answer_as_is(&self, text: impl AsRef<str>) {
        self.print(text.as_ref());
    }

    fn print(&self, text: &str) {
        match (self.is_json(), self.is_aside) {
            (true, _) => {}
            (false, true) => print_err(&for_terminal(text)),
            (false, false) => print_out(&for_terminal(text)),
        }
    }

    /// The result as JSON with `--format json`, with the warnings that were shown.
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

    /// Prints a JSON document of an open standard, on several lines.
    pub fn print_document<T: Serialize>(&self, value: &T) {
        // Texts, lists and maps with names for keys: nothing that is printed can fail to be JSON.
        let text = serde_json::to_string_pretty(value).unwrap_or_default();
        text.lines().for_each(|line| print_out(&json_for_terminal(line)));
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
            let line = format!("{} {}", styled(style::WARNING, "warning:"), on_one_line(text.as_ref()));
            print_err(&for_terminal(&lines_within(&line, error_width())));
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
        self.lines_of(&Table::of(rows))
    }

    /// The lines of a table, no wider than the terminal.
    pub fn lines_of(&self, table: &Table) -> String {
        table.lines(self.terminal_width())
    }

    /// The columns of the terminal that results go to; `None` where they go elsewhere.
    pub fn terminal_width(&self) -> Option<usize> {
        output_width()
    }
}

/// How much further in the lines are that a line goes on with.
const FURTHER: usize = 2;

/// Lines that are no wider than a terminal, where there is one.
fn lines_within(text: &str, width: Option<usize>) -> String {
    let Some(width) = width else { return text.to_owned() };
    let lines: Vec<String> = text.split('\n').map(|line| wrapped(line, width, FURTHER)).collect();
    lines.join("\n")
}

/// Whether nothing can be written to stdout any more.
static IS_CLOSED: AtomicBool = AtomicBool::new(false);

/// Why results are lost.
static LOST: Mutex<Option<io::Error>> = Mutex::new(None);

/// Writes a line that a terminal may have to stdout.
pub(crate) fn print_out(line: &str) {
    write_out(&format!("{line}\n"));
}

/// Results that are collected for a pager; `None` where they are written at once.
static COLLECTED: Mutex<Option<String>> = Mutex::new(None);

/// Collects results from now on, to be shown in a pager where they are long.
pub fn collect_for_pager() {
    *COLLECTED.lock().unwrap_or_else(PoisonError::into_inner) = Some(String::new());
}

/// Shows what was collected: in a pager where it is long, unless something else has to be shown as well.
pub fn show_collected(may_page: bool) {
    let collected = COLLECTED.lock().unwrap_or_else(PoisonError::into_inner).take();
    let Some(text) = collected.filter(|text| !text.is_empty()) else { return };
    if !may_page || !pager::show(&text) {
        write_out(&text);
    }
}

/// Whether a text is to be plain ASCII because the terminal's locale isn't UTF-8 (POSIX, "Internationalization Variables").
pub fn is_ascii() -> bool {
    static IS_ASCII: LazyLock<bool> = LazyLock::new(|| {
        let set = |name| std::env::var(name).ok().filter(|value: &String| !value.is_empty());
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().find_map(set).unwrap_or_default();
        let locale = locale.to_ascii_lowercase();
        cfg!(unix) && !locale.contains("utf-8") && !locale.contains("utf8")
    });
    *IS_ASCII
}

/// A text as a stream shows it.
fn shown_on(is_terminal: bool, text: &str) -> Cow<'_, str> {
    if is_terminal && is_ascii() { ascii(text) } else { text.into() }
}

/// Writes to stdout. That its reader went away changes nothing of what is done; any other error is reported at the end.
fn write_out(text: &str) {
    if IS_CLOSED.load(Ordering::Relaxed) {
        return;
    }
    if let Some(collected) = &mut *COLLECTED.lock().unwrap_or_else(PoisonError::into_inner) {
        collected.push_str(text);
        return;
    }
    let text = shown_on(io::stdout().is_terminal(), text);
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
    let line = shown_on(io::stderr().is_terminal(), line);
    let _ = writeln!(anstream::stderr().lock(), "{line}");
}
