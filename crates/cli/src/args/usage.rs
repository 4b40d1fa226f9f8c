//! What is wrong with a command line, in the shape of all other errors.

use std::num::ParseIntError;

use bibliotax_app::failure::Failure;
use bibliotax_core::nearest::nearest;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use super::meanings::instead_of;

/// The failure of a command line that the parser refused; `None` where it only asked for help or the version.
pub fn failure_of(error: &clap::Error, words: &[String]) -> Option<Failure> {
    let read = Read { error, words };
    Some(match error.kind() {
        ErrorKind::DisplayHelp
        | ErrorKind::DisplayVersion
        | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand
        | ErrorKind::MissingSubcommand => return None,
        ErrorKind::InvalidSubcommand => read.unknown_command(),
        ErrorKind::UnknownArgument => read.unknown_argument(),
        ErrorKind::InvalidValue if read.text(ContextKind::InvalidValue).is_empty() => read.no_value(),
        ErrorKind::InvalidValue | ErrorKind::ValueValidation => read.wrong_value(),
        ErrorKind::MissingRequiredArgument => read.missing(),
        ErrorKind::ArgumentConflict => read.conflict(),
        ErrorKind::NoEquals
        | ErrorKind::TooManyValues
        | ErrorKind::TooFewValues
        | ErrorKind::WrongNumberOfValues => read.no_value(),
        ErrorKind::InvalidUtf8 => Failure::new("usage.value", "an argument isn't UTF-8"),
        _ => Failure::new("usage.value", "this command line can't be understood").advice(read.see_help()),
    })
}

struct Read<'e> {
    error: &'e clap::Error,
    words: &'e [String],
}

impl Read<'_> {
    fn text(&self, kind: ContextKind) -> String {
        self.texts(kind).join(", ")
    }

    fn texts(&self, kind: ContextKind) -> Vec<String> {
        match self.error.get(kind) {
            Some(ContextValue::String(text)) => vec![text.clone()],
            Some(ContextValue::Strings(texts)) => texts.clone(),
            Some(ContextValue::Number(number)) => vec![number.to_string()],
            _ => Vec::new(),
        }
    }

    /// The option or argument that this is about, without the value that it takes: `--in`, `PACKAGE`.
    fn argument(&self) -> String {
        self.arguments().first().cloned().unwrap_or_default()
    }

    fn arguments(&self) -> Vec<String> {
        self.texts(ContextKind::InvalidArg).iter().map(|text| name_of(text)).collect()
    }

    /// The command that was meant, and its name with those of the commands above it.
    fn command(&self) -> (clap::Command, String) {
        let mut command = <super::Arguments as clap::CommandFactory>::command();
        let mut path = "bibliotax".to_owned();
        for word in self.words.iter().skip(1).filter(|word| !word.starts_with('-')) {
            let Some(found) = command.find_subcommand(word).cloned() else { break };
            path = format!("{path} {word}");
            command = found;
        }
        (command, path)
    }

    fn path(&self) -> String {
        self.command().1
    }

    fn see_help(&self) -> String {
        format!("`{} --help` shows its options", self.path())
    }

    fn unknown_command(&self) -> Failure {
        let word = self.text(ContextKind::InvalidSubcommand);
        let failure = Failure::new("usage.unknown-command", format!("there is no command `{word}`"));
        let (command, path) = self.command();
        let names: Vec<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        let instead = if path == "bibliotax" { instead_of(&word) } else { None };
        let near = nearest(&word, names, 1);
        match (instead, near.first()) {
            (Some(instead), _) => failure.advice(format!("`bibliotax {instead}`")),
            (None, Some(near)) => failure.advice(format!("`{path} {near}`")),
            (None, None) => failure.advice(format!("`{path} --help` lists the commands")),
        }
    }

    fn unknown_argument(&self) -> Failure {
        let argument = self.argument();
        let command = self.path();
        if !argument.starts_with('-') {
            let message = format!("`{command}` takes no further argument, but got `{argument}`");
            return Failure::new("usage.unexpected", message).advice(self.see_help());
        }
        let failure = Failure::new("usage.unknown-option", format!("`{command}` has no option `{argument}`"));
        match self.texts(ContextKind::SuggestedArg).first() {
            Some(near) => failure.advice(format!("`{}`", name_of(near))),
            None => failure.advice(self.see_help()),
        }
    }

    fn wrong_value(&self) -> Failure {
        let (argument, value) = (self.argument(), self.text(ContextKind::InvalidValue));
        let why =
            std::error::Error::source(self.error).map(|why| match why.downcast_ref::<ParseIntError>() {
                Some(_) => ": it isn't a whole number".to_owned(),
                None => format!(": {why}"),
            });
        let why = why.unwrap_or_default();
        let failure =
            Failure::new("usage.value", format!("`{value}` isn't a valid value for `{argument}`{why}"));
        match self.possible() {
            Some(possible) => failure.advice(possible),
            None => failure,
        }
    }

    /// The values that an option can have, where these are a few words.
    fn possible(&self) -> Option<String> {
        let possible = self.texts(ContextKind::ValidValue);
        (!possible.is_empty()).then(|| format!("one of {}", possible.join(", ")))
    }

    fn no_value(&self) -> Failure {
        let message = format!("`{}` needs a value", self.argument());
        Failure::new("usage.value", message).advice(self.possible().unwrap_or_else(|| self.see_help()))
    }

    fn missing(&self) -> Failure {
        let missing: Vec<String> = self.arguments().iter().map(|name| format!("`{name}`")).collect();
        let message = format!("`{}` needs {}", self.path(), missing.join(" and "));
        Failure::new("usage.missing", message).advice(self.see_help())
    }

    fn conflict(&self) -> Failure {
        let others = self.texts(ContextKind::PriorArg);
        let others: Vec<String> = others.iter().map(|other| format!("`{}`", name_of(other))).collect();
        let argument = self.argument();
        let message = if others.is_empty() || others == [format!("`{argument}`")] {
            format!("`{argument}` can be given only once")
        } else {
            format!("`{argument}` can't be combined with {}", others.join(" and "))
        };
        Failure::new("usage.conflict", message).advice(self.see_help())
    }
}

/// The name of an option or argument as the parser shows it: `--in <PROJECT>` is `--in`, `<PACKAGE>...` is `PACKAGE`.
fn name_of(shown: &str) -> String {
    let shown = shown.trim_end_matches("...");
    if shown.starts_with('-') {
        return shown.split([' ', '=']).next().unwrap_or_default().to_owned();
    }
    let inner = shown.strip_prefix(['<', '[']).and_then(|inner| inner.strip_suffix(['>', ']']));
    inner.unwrap_or(shown).to_owned()
}
