//! Lists on a terminal in which a person searches and marks. Nothing needs them: every answer can be given on the command line.

use std::fmt;
use std::io::{self, IsTerminal};
use std::rc::Rc;

use bibliotax_app::failure::Failure;
use bibliotax_app::find::while_typing::{Finder, FoundPackage};
use bibliotax_core::name::PackageName;
use bibliotax_present::table::Table;
use bibliotax_present::words::license_words;
use inquire::autocompletion::Replacement;
use inquire::{Autocomplete, CustomUserError, InquireError, MultiSelect, Text};

use crate::run::Run;
use crate::ui::clean;

/// Most rows that are shown at once.
const MAX_ROWS: usize = 12;

/// Widest rows of packages, in letters.
const MAX_WIDTH: usize = 78;

/// A row with what it stands for.
pub struct Row<T> {
    /// What is shown.
    pub label: String,
    /// What it stands for.
    pub value: T,
}

impl<T> fmt::Display for Row<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.label)
    }
}

/// Whether somebody can be asked.
pub fn can_ask(run: &Run<'_>) -> bool {
    io::stdin().is_terminal() && io::stderr().is_terminal() && !run.ui.is_json() && !run.ui.is_quiet()
}

/// What a person marks of some rows; nothing where they leave without.
pub fn marked<T>(title: &str, rows: Vec<Row<T>>) -> Result<Vec<T>, Failure> {
    let help = "space marks, letters narrow the list, enter goes on, escape leaves";
    let asked =
        MultiSelect::new(title, rows).with_page_size(MAX_ROWS).with_help_message(help).prompt_skippable();
    Ok(answered(asked)?.unwrap_or_default().into_iter().map(|row| row.value).collect())
}

/// The packages that a person searches and takes, one after the other; nothing where they leave without.
pub fn searched(finder: Finder) -> Result<Vec<PackageName>, Failure> {
    let mut taken: Vec<PackageName> = Vec::new();
    let suggested = Suggested { finder: Rc::new(finder) };
    loop {
        let title = if taken.is_empty() { "Package:" } else { "Another package, or enter to go on:" };
        let help = "type words; arrow keys and Tab choose, enter goes on, escape leaves";
        let asked = Text::new(title)
            .with_autocomplete(suggested.clone())
            .with_page_size(MAX_ROWS)
            .with_help_message(help);
        let Some(line) = answered(asked.prompt_skippable())? else { return Ok(Vec::new()) };
        match line.split_whitespace().next() {
            None => return Ok(taken),
            Some(word) => taken.push(Failure::read_word(word)?),
        }
    }
}

/// An answer; nothing where the person left.
fn answered<T>(asked: Result<Option<T>, InquireError>) -> Result<Option<T>, Failure> {
    match asked {
        Ok(answer) => Ok(answer),
        Err(InquireError::OperationCanceled | InquireError::OperationInterrupted) => Ok(None),
        Err(error) => {
            let failure = Failure::new("usage.missing", format!("this terminal can't show a list: {error}"));
            Err(failure.advice("name what you mean on the command line"))
        }
    }
}

/// Packages by what is typed.
#[derive(Clone)]
struct Suggested {
    finder: Rc<Finder>,
}

impl Autocomplete for Suggested {
    fn get_suggestions(&mut self, input: &str) -> Result<Vec<String>, CustomUserError> {
        if input.trim().is_empty() || is_taken(input) {
            return Ok(Vec::new());
        }
        let table = Table::of(self.finder.find(input).iter().map(row));
        Ok(table.lines(Some(MAX_WIDTH)).lines().map(|row| row.trim_start().to_owned()).collect())
    }

    fn get_completion(&mut self, _: &str, chosen: Option<String>) -> Result<Replacement, CustomUserError> {
        Ok(chosen.and_then(|row| Some(row.split_whitespace().next()?.to_owned() + " ")))
    }
}

/// Whether a package was chosen already: its name with a blank behind it.
fn is_taken(input: &str) -> bool {
    input.ends_with(' ') && !input.trim().contains(' ')
}

/// A package: name, version, licence, whether it fits, summary.
fn row(found: &FoundPackage) -> Vec<String> {
    let version = found.version.as_ref().map(ToString::to_string).unwrap_or_default();
    let license = license_words(found.license.as_ref());
    let fits = match found.fits {
        Some(true) => "fits",
        Some(false) => "doesn't fit",
        None => "fit not declared",
    };
    let summary = clean(found.summary.as_deref().unwrap_or_default());
    vec![found.name.to_string(), version, clean(&license), fits.to_owned(), summary]
}
