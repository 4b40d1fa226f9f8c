//! Completes command lines for shells: commands and options, and the names that manifests, locks and registries have.
//!
//! A shell runs the program with a variable that says so and the words that are typed. What is written has to be quick: nobody is asked
//! over a network.

use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

use bibliotax_app::context::Context;
use bibliotax_app::suggest::{Named, suggest};
use bibliotax_core::progress::NoProgress;
use clap::builder::StyledStr;
use clap::{Arg, Command, CommandFactory};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::CompleteEnv;

use crate::args::Arguments;
use crate::completion_script::{ASKED_BY, PROGRAM};
use crate::environment;

/// Answers a shell that asks for words; whether one did.
pub fn answer() -> Result<bool, clap::Error> {
    let completing = CompleteEnv::with_factory(command).var(ASKED_BY).bin(PROGRAM).completer(PROGRAM);
    completing.try_complete(std::env::args_os(), std::env::current_dir().ok().as_deref())
}

/// The command line, each value of which knows what it could be.
fn command() -> Command {
    with_values(Arguments::command(), &[])
}

/// The same for a command with those below it; `words` lead to it.
fn with_values(command: Command, words: &[&str]) -> Command {
    let names: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    let command = command.mut_args(|arg| {
        let named = value_of(&arg).and_then(|value| named(&value, words));
        match named {
            Some(named) => arg.add(ArgValueCompleter::new(move |current: &OsStr| candidates(named, current))),
            None => arg,
        }
    });
    names.iter().fold(command, |command, name| {
        let words: Vec<&str> = words.iter().copied().chain([name.as_str()]).collect();
        command.mut_subcommand(name, |sub| with_values(sub, &words))
    })
}

/// What the help calls a value: `PACKAGE`.
fn value_of(arg: &Arg) -> Option<String> {
    let listed = arg.get_value_names().and_then(|names| names.first()).map(ToString::to_string);
    Some(listed.unwrap_or_else(|| arg.get_id().as_str().to_uppercase()))
}

/// What a value of a command names.
fn named(value: &str, words: &[&str]) -> Option<Named> {
    Some(match (value, words) {
        (
            "PACKAGE" | "PACKAGE [RANGE]",
            ["need" | "find" | "describe" | "fit" | "survey" | "registry", ..],
        ) => Named::KnownPackage,
        ("PACKAGE" | "PACKAGE [RANGE]", ["drop"]) => Named::NeededPackage,
        ("PACKAGE" | "PACKAGE [RANGE]", _) => Named::LockedPackage,
        ("PROJECT", _) => Named::Project,
        ("TARGET", _) => Named::Target,
        ("PURPOSE", _) => Named::Purpose,
        ("REGISTRY", _) => Named::Registry,
        ("REVISION" | "OLD" | "NEW", _) => Named::Revision,
        ("TASK", _) => Named::Task,
        ("STEP", _) => Named::Step,
        ("DEVICE", _) => Named::Device,
        _ => return None,
    })
}

fn candidates(named: Named, current: &OsStr) -> Vec<CompletionCandidate> {
    let (Some(current), Ok(environment)) = (current.to_str(), environment::read()) else { return Vec::new() };
    let Some(folder) = folder() else { return Vec::new() };
    let context = Context { environment: &environment, folder: &folder, listener: &NoProgress };
    let candidate = |one: bibliotax_app::suggest::Suggestion| {
        let about = one.about.map(|about| StyledStr::from(bibliotax_present::terminal::clean(&about)));
        CompletionCandidate::new(one.word).help(about)
    };
    suggest(named, current, &context).into_iter().map(candidate).collect()
}

/// The folder that the command line is about: the one that `--directory` names in it, else the current one.
fn folder() -> Option<PathBuf> {
    let current = std::env::current_dir().ok()?;
    let words: Vec<OsString> = std::env::args_os().skip_while(|word| word != "--").skip(1).collect();
    let named = words.windows(2).find(|pair| pair[0] == "--directory").map(|pair| &pair[1]);
    Some(named.map_or(current.clone(), |folder| current.join(folder)))
}
