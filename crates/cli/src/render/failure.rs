//! Shows why a command failed.

use bibliotax_app::failure::{Failure, Source, Way};
use bibliotax_disk::DiskError;
use bibliotax_present::excerpt::excerpt;
use bibliotax_present::passwords::without_passwords;
use bibliotax_present::words::count;

use crate::exit_status::Exit;
use crate::json::error::ErrorOutput;
use crate::ui::{self, Ui, clean, for_terminal, print_err, style, styled};

/// From so many lines on, an error is repeated in one line below them.
const LONG: usize = 20;

/// How wide lines of a text are shown where there is no terminal.
const PIPE_WIDTH: usize = 160;

impl Ui {
    /// Shows why a command failed; how the program ends.
    pub fn fail(&self, failure: &Failure) -> Exit {
        ui::show_collected(false);
        if self.is_json() {
            self.print_json(&ErrorOutput::of(self.command(), failure, failure.reasons(), self.warnings()));
        } else {
            let width = ui::error_width();
            lines(failure, width).iter().for_each(|line| print_err(&for_terminal(&line.wrapped(width))));
        }
        Exit::of_code(failure.code)
    }

    /// Ways out that were asked for.
    pub fn answer_ways(&self, found: &[Way]) {
        if !found.is_empty() {
            self.answer(styled(style::STRONG, "ways out, each tried:"));
        }
        ways(found).iter().for_each(|line| self.answer_as_is(line));
    }
}

/// A line of an error.
struct Line {
    text: String,
    /// Whether it is broken between words where the terminal is narrower, and how far its other lines are indented then.
    indent: Option<usize>,
}

impl Line {
    fn of_words(text: impl Into<String>, indent: usize) -> Self {
        Self { text: text.into(), indent: Some(indent) }
    }

    /// A line to paste, or one whose columns mean something.
    fn whole(text: impl Into<String>) -> Self {
        Self { text: text.into(), indent: None }
    }

    fn wrapped(&self, width: Option<usize>) -> String {
        let (Some(width), Some(indent)) = (width, self.indent) else { return self.text.clone() };
        let indent = " ".repeat(indent);
        let options = textwrap::Options::new(width)
            .subsequent_indent(&indent)
            .break_words(false)
            .word_splitter(textwrap::WordSplitter::NoHyphenation)
            .word_separator(textwrap::WordSeparator::AsciiSpace);
        textwrap::fill(&self.text, options)
    }
}

/// How the program ends that was to end so: otherwise where its results could not be written.
pub fn end(exit: Exit) -> Exit {
    let Some(error) = ui::take_lost() else { return exit };
    let failure = Failure::from(DiskError::new("write", "the standard output", error));
    let failure = Failure::new("output.lost", failure.message)
        .advice("the command did its work; run it again where its output has room");
    Ui::on_stderr().fail(&failure)
}

/// An error as people read it: what is wrong, why or where, and what to do.
fn lines(failure: &Failure, width: Option<usize>) -> Vec<Line> {
    if let Some(source) = &failure.source {
        return faults(failure, source, width.unwrap_or(PIPE_WIDTH));
    }
    let head = head(&failure.message, failure.code);
    let mut lines = vec![Line::of_words(head.clone(), 2)];
    lines.extend(failure.reasons().iter().map(|reason| Line::of_words(format!("  {}", clean(reason)), 4)));
    lines.extend(failure.advice.as_deref().map(advice));
    lines.extend(ways(failure.ways()).into_iter().map(Line::whole));
    if lines.len() >= LONG {
        lines.push(Line::of_words(head, 2));
    }
    lines
}

/// The faults of a text, each where it is.
fn faults(failure: &Failure, source: &Source, width: usize) -> Vec<Line> {
    let text = without_passwords(&source.text);
    let mut lines = Vec::new();
    for fault in &source.faults {
        if !lines.is_empty() {
            lines.push(Line::whole(""));
        }
        lines.push(Line::of_words(head(&fault.message, fault.code), 2));
        lines.extend(excerpt(&source.name, &text, fault, width).into_iter().map(Line::whole));
        lines.extend(fault.advice.as_deref().or(failure.advice.as_deref()).map(advice));
    }
    if source.more > 0 {
        lines.push(Line::whole(""));
        lines.push(Line::of_words(format!("and {} not shown", count(source.more, "more fault")), 2));
    }
    lines
}

fn head(message: &str, code: &str) -> String {
    let code = styled(style::FAINT, format!("({code})"));
    format!("{} {}  {code}", styled(style::BAD, "error:"), clean(message))
}

fn advice(advice: &str) -> Line {
    Line::of_words(format!("{} {}", styled(style::STRONG, "try:"), clean(advice)), 5)
}

/// Ways out, one command a line with what it does as a comment: whole lines, never broken, to be pasted.
fn ways(found: &[Way]) -> Vec<String> {
    let width = found.iter().map(|way| way.command.len()).max().unwrap_or(0);
    let line =
        |way: &Way| format!("  {:width$}   {}", way.command, styled(style::FAINT, format!("# {}", way.note)));
    found.iter().map(line).collect()
}
