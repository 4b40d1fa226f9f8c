//! The command line: options as plain values, one file per command, and the use case that each command runs.

mod accept;
mod check;
mod compare;
mod completions;
mod deprecate;
mod describe;
mod drop;
mod explain;
mod export;
mod find;
mod fit;
mod graph;
mod help_topic;
mod history;
mod init;
mod install;
mod kit;
mod language_server;
mod links;
mod lookup;
mod manual;
mod meanings;
mod merge;
mod need;
mod newer;
mod offline;
mod projects;
mod publish;
mod ready;
mod registry;
mod report;
mod resolve;
mod schema;
mod search;
mod shelf;
mod size;
mod standard;
mod steps;
mod store;
mod survey;
mod task;
mod update;
mod usage;
mod verify;
mod with;
mod withdraw;

use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use bibliotax_app::failure::Failure;
use bibliotax_core::escape::escaped;
use clap::error::ErrorKind;
use clap::{ArgMatches, CommandFactory, FromArgMatches, Parser, Subcommand};

use crate::demo;
use crate::exit_status::Exit;
use crate::global::{Format, Global};
use crate::help;
use crate::run::Run;

/// Declare, resolve and install third-party packages for a team, in any language
#[derive(Debug, Parser)]
#[command(
    name = "bibliotax",
    version,
    disable_help_subcommand = true,
    disable_help_flag = true,
    arg_required_else_help = true,
    max_term_width = help::MAX_HELP_WIDTH
)]
pub struct Arguments {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
    /// The command, with its subcommands.
    #[arg(skip)]
    pub words: String,
}

/// Why there are no arguments to run.
pub enum Refused {
    /// Only help or the version is to be shown.
    Help(Box<clap::Error>),
    /// The command line is wrong.
    Usage(Failure),
}

/// The command line of this process.
pub fn parse() -> Result<Arguments, Refused> {
    let words: Vec<OsString> = help::with_help_as_option(std::env::args_os().collect());
    parsed(&words).map_err(|error| {
        // A script may have passed on foreign text: the message shows the words without what a terminal would act on.
        let shown: Vec<String> =
            words.iter().map(|word| escaped(&word.to_string_lossy()).into_owned()).collect();
        let error = parsed(&shown).err().unwrap_or(error);
        usage::failure_of(&error, &shown).map_or_else(|| Refused::Help(Box::new(error)), Refused::Usage)
    })
}

/// Whether an option of every command is given in a command line that can't be read.
pub fn is_given(option: &str) -> bool {
    std::env::args_os().take_while(|word| word != "--").any(|word| word == option)
}

/// The value of an option of every command in a command line that can't be read.
pub fn value_of(option: &str) -> Option<OsString> {
    let words: Vec<OsString> = std::env::args_os().take_while(|word| word != "--").collect();
    let pair = words.windows(2).find(|pair| pair[0] == option).map(|pair| pair[1].clone());
    pair.or_else(|| {
        let values = words.iter().filter_map(|word| word.to_str()?.strip_prefix(option)?.strip_prefix('='));
        values.map(OsString::from).next()
    })
}

fn parsed<T: AsRef<OsStr>>(words: &[T]) -> Result<Arguments, clap::Error> {
    let words = || words.iter().map(AsRef::as_ref);
    let matches = Arguments::command().try_get_matches_from(words()).or_else(|error| {
        // Laying the help out takes longer than most commands do.
        if error.use_stderr() && error.kind() != ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand {
            return Err(error);
        }
        help::laid_out(Arguments::command()).try_get_matches_from(words())
    })?;
    let arguments = Arguments::from_arg_matches(&matches)?;
    Ok(Arguments { words: command_words(&matches), ..arguments })
}

/// The command, with its subcommands.
fn command_words(matches: &ArgMatches) -> String {
    let (mut words, mut matches) = (Vec::new(), matches);
    while let Some((word, of_command)) = matches.subcommand() {
        words.push(word);
        matches = of_command;
    }
    words.join(" ")
}

#[derive(Debug, Subcommand)]
pub enum Command {
    Init(init::Init),
    Find(find::Find),
    Need(Box<need::Need>),
    Accept(accept::Accept),
    Drop(drop::Drop),
    Resolve(resolve::Resolve),
    Merge(merge::Merge),
    Install(install::Install),
    Update(update::Update),
    Verify(verify::Verify),
    Task(task::Task),
    With(with::With),
    Links(links::Links),
    Graph(graph::Graph),
    Explain(explain::Explain),
    Export(export::Export),
    Newer(newer::Newer),
    Report(report::Report),
    Compare(compare::Compare),
    History(history::History),
    Survey(survey::Survey),
    Describe(describe::Describe),
    Fit(fit::Fit),
    Steps(steps::Steps),
    Ready(ready::Ready),
    Check(check::Check),
    Publish(publish::Publish),
    Withdraw(withdraw::Withdraw),
    Deprecate(deprecate::Deprecate),
    Registry(registry::Registry),
    Kit(kit::Kit),
    Store(store::Store),
    Completions(completions::Completions),
    LanguageServer(language_server::LanguageServer),
    Manual(manual::Manual),
    Schema(schema::Schema),
    Demo(demo::Demo),
    Help(help_topic::HelpTopic),
}

impl Command {
    /// The forms of its results beside text and JSON.
    fn more_formats(&self) -> &'static [Format] {
        match self {
            Self::Graph(_) => &[Format::Svg, Format::Dot, Format::Mermaid],
            Self::Compare(_) | Self::Schema(_) => &[Format::Markdown],
            Self::Check(_) => &[Format::Sarif],
            Self::Survey(_) => &[Format::Csv],
            _ => &[],
        }
    }

    /// Whether its results go through a pager where they are long: those of commands that only show something.
    pub fn is_paged(&self) -> bool {
        match self {
            Self::Find(_)
            | Self::Graph(_)
            | Self::Explain(_)
            | Self::Newer(_)
            | Self::Compare(_)
            | Self::History(_)
            | Self::Survey(_)
            | Self::Describe(_)
            | Self::Fit(_)
            | Self::Steps(_)
            | Self::Links(_)
            | Self::Ready(_)
            | Self::Check(_)
            | Self::Schema(_)
            | Self::Help(_) => true,
            Self::Task(task) => task.only_lists(),
            Self::Store(store) => store.only_shows(),
            _ => false,
        }
    }

    /// Refuses a form of results that the command doesn't have.
    pub fn check_format(&self, format: Format) -> Result<(), Failure> {
        let common = [Format::Text, Format::Json];
        if common.contains(&format) || self.more_formats().contains(&format) {
            return Ok(());
        }
        let possible: Vec<&str> =
            common.iter().chain(self.more_formats()).map(|format| format.name()).collect();
        Err(Failure::new("usage.value", format!("this command has no format `{}`", format.name()))
            .advice(format!("one of {}", possible.join(", "))))
    }

    /// Runs the command.
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match self {
            Self::Init(command) => command.run(run),
            Self::Find(command) => command.run(run),
            Self::Need(command) => command.run(run),
            Self::Accept(command) => command.run(run),
            Self::Drop(command) => command.run(run),
            Self::Resolve(command) => command.run(run),
            Self::Merge(command) => command.run(run),
            Self::Install(command) => command.run(run),
            Self::Update(command) => command.run(run),
            Self::Verify(command) => command.run(run),
            Self::Task(command) => command.run(run),
            Self::With(command) => command.run(run),
            Self::Links(command) => command.run(run),
            Self::Graph(command) => command.run(run),
            Self::Explain(command) => command.run(run),
            Self::Export(command) => command.run(run),
            Self::Newer(command) => command.run(run),
            Self::Report(command) => command.run(run),
            Self::Compare(command) => command.run(run),
            Self::History(command) => command.run(run),
            Self::Survey(command) => command.run(run),
            Self::Describe(command) => command.run(run),
            Self::Fit(command) => command.run(run),
            Self::Steps(command) => command.run(run),
            Self::Ready(command) => command.run(run),
            Self::Check(command) => command.run(run),
            Self::Publish(command) => command.run(run),
            Self::Withdraw(command) => command.run(run),
            Self::Deprecate(command) => command.run(run),
            Self::Registry(command) => command.run(run),
            Self::Kit(command) => command.run(run),
            Self::Store(command) => command.run(run),
            Self::Completions(command) => command.run(run),
            Self::LanguageServer(command) => command.run(run),
            Self::Manual(command) => command.run(run),
            Self::Schema(command) => command.run(run),
            Self::Demo(command) => command.run(run),
            Self::Help(command) => command.run(run),
        }
    }
}

/// The folder to run in.
pub fn working_folder(global: &Global) -> Result<PathBuf, Failure> {
    let missing = |folder: &Path| {
        Failure::new("disk.missing", format!("there is no folder {}", folder.display()))
            .advice("check the path")
    };
    let current = std::env::current_dir().map_err(|_| missing(Path::new(".")))?;
    let Some(folder) = &global.directory else { return Ok(current) };
    let folder = current.join(folder);
    // From a folder that is reached by `..` the way up is another one than its text says.
    folder.canonicalize().ok().filter(|folder| folder.is_dir()).ok_or_else(|| missing(&folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_sound() {
        help::laid_out(Arguments::command()).debug_assert();
    }
}
