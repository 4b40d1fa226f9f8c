//! The help: commands grouped by stages of work.

use std::ffi::OsString;

use clap::Command;

use crate::ui::{for_terminal, style, styled};

const STAGES: [(&str, &[&str]); 7] = [
    ("Declare what is needed", &["init", "find", "describe", "fit", "need", "drop"]),
    ("Bring it here", &["resolve", "install", "update", "verify", "task", "with"]),
    ("Understand it", &["graph", "explain", "newer", "compare", "steps", "ready"]),
    ("Keep the team together", &["check", "kit"]),
    ("Supply packages", &["publish", "withdraw", "deprecate", "registry"]),
    ("Look after this machine", &["store"]),
    ("See it at work", &["demo"]),
];

/// The words of a command line, with `help COMMAND` as `COMMAND --help`.
pub fn with_help_as_option(mut words: Vec<OsString>) -> Vec<OsString> {
    if words.get(1).is_some_and(|word| word == "help") {
        words.remove(1);
        words.push("--help".into());
    }
    words
}

/// The command with its subcommands listed by stage.
pub fn grouped(command: Command) -> Command {
    let mut listed = String::new();
    for (stage, names) in STAGES {
        listed.push_str(&format!("\n{}\n", styled(style::STRONG, stage)));
        for name in names {
            let about = command.find_subcommand(name).and_then(Command::get_about);
            let about = about.map(ToString::to_string).unwrap_or_default();
            listed.push_str(&format!("  {name:<11}{about}\n"));
        }
    }
    let template = format!(
        "{{about}}\n\nUsage: {{usage}}\n{listed}\n{}\n{{options}}\n\n`bibliotax COMMAND --help` tells more, with an example.",
        styled(style::STRONG, "Options of every command")
    );
    command.help_template(for_terminal(&template))
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
}
