//! The help: commands grouped by stages of work, and topics.

pub mod topics;

use std::ffi::OsString;

use clap::Command;

use self::topics::Topic;

use crate::ui::{for_terminal, output_width, style, styled};

const STAGES: [(&str, &[&str]); 7] = [
    ("Declare dependencies", &["init", "find", "describe", "fit", "need", "drop"]),
    ("Resolve and install", &["resolve", "install", "update", "verify", "task", "with"]),
    (
        "Understand the result",
        &["graph", "links", "explain", "newer", "compare", "history", "steps", "ready", "report"],
    ),
    ("Work in a team", &["merge", "check", "survey", "accept", "kit", "export"]),
    ("Publish packages", &["publish", "withdraw", "deprecate", "registry"]),
    ("Maintain this machine", &["store", "completions", "manual", "schema", "language-server"]),
    ("Learn more", &["demo", "help"]),
];

/// The words of a command line, with `help COMMAND` as `COMMAND --help`; `help TOPIC` stays as it is.
pub fn with_help_as_option(mut words: Vec<OsString>) -> Vec<OsString> {
    let is_about_topic = words.get(2).and_then(|word| Topic::of(word.to_str()?)).is_some();
    if words.get(1).is_some_and(|word| word == "help") && !is_about_topic {
        words.remove(1);
        words.push("--help".into());
    }
    words
}

/// The options that every command has, as the help of the program lists them: short, and once.
const COMMON_OPTIONS: [(&str, &str); 8] = [
    ("    --directory DIR", "Run as if started in this folder"),
    ("    --format FORM", "Print results as text (default), json, or a form that the command has"),
    ("    --color WHEN", "Use colours: auto (default), always or never"),
    ("    --no-pager", "Don't use a pager for long output"),
    ("-q, --quiet", "Print only errors and requested values"),
    ("-v, --verbose", "Show what is done; twice: each request, too"),
    ("-h, --help", "Show the help of a command"),
    ("-V, --version", "Show the version"),
];

/// Widest lines of help.
pub const MAX_HELP_WIDTH: usize = 100;

/// The end of the help of each command.
const COMMON_LINE: &str =
    "Common options: --directory DIR, --format FORM, --color WHEN, -q, -v (`bibliotax --help` explains them)";

/// The command with its subcommands listed by stage, and the same end for the help of each.
pub fn laid_out(command: Command) -> Command {
    let mut listed = String::new();
    for (stage, names) in STAGES {
        listed.push_str(&format!("\n{}\n", styled(style::STRONG, stage)));
        for name in names {
            let about = command.find_subcommand(name).and_then(Command::get_about);
            let about = about.map(ToString::to_string).unwrap_or_default();
            listed.push_str(&format!("  {name:<16} {about}\n"));
        }
    }
    let options = COMMON_OPTIONS.map(|(option, what)| format!("  {option:<22}{what}\n")).concat();
    let template = format!(
        "{{about}}\n\nUsage: bibliotax COMMAND [OPTIONS]\n{listed}\n{}\n{options}\n`bibliotax COMMAND --help` shows details and examples.",
        styled(style::STRONG, "Options of every command")
    );
    with_own_help(command).help_template(for_terminal(&template))
}

/// All commands below this one, with help of one shape: what the command is for, its usage, an option per line, examples.
fn with_own_help(command: Command) -> Command {
    let names: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_owned()).collect();
    names.iter().fold(command, |command, name| {
        command.mut_subcommand(name, |sub| {
            let about = sub.get_long_about().or(sub.get_about()).map(ToString::to_string);
            let about = textwrap::fill(&about.unwrap_or_default(), help_width());
            let template = format!(
                "{about}\n\n{{usage-heading}} {{usage}}\n\n{{all-args}}{{after-help}}\n\n{COMMON_LINE}"
            );
            with_own_help(sub).help_template(template)
        })
    })
}

/// The columns that help is laid out for.
fn help_width() -> usize {
    output_width().map_or(MAX_HELP_WIDTH, |width| width.min(MAX_HELP_WIDTH))
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn every_command_is_in_one_stage_and_has_an_example() {
        let command = crate::args::Arguments::command();
        for sub in command.get_subcommands() {
            let stages = STAGES.iter().filter(|(_, names)| names.contains(&sub.get_name())).count();
            assert_eq!(stages, 1, "{}", sub.get_name());
            let after = sub.get_after_help().map(ToString::to_string).unwrap_or_default();
            assert!(after.contains("Example"), "{} has no example", sub.get_name());
        }
    }

    #[test]
    fn the_options_of_every_command_are_those_that_are_listed() {
        let mut command = crate::args::Arguments::command();
        command.build();
        let known: Vec<String> = command
            .get_arguments()
            .filter_map(|arg| arg.get_long().map(|long| format!("--{long}")))
            .collect();
        let listed =
            COMMON_OPTIONS.map(|(option, _)| option.split("--").nth(1).unwrap().split(' ').next().unwrap());
        assert_eq!(known.len(), listed.len(), "{known:?}");
        assert!(listed.iter().all(|listed| known.contains(&format!("--{listed}"))), "{known:?}");
    }
}
