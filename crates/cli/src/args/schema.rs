//! Options of `schema`.

use bibliotax_app::failure::Failure;

use crate::exit_status::Exit;
use crate::global::Format;
use crate::json::machine::{SchemaName, Schemas};
use crate::json::reference;
use crate::json::schemas::{Named, of_commands, of_files};
use crate::run::Run;
use crate::ui::{Ui, style, styled};

/// Print a JSON Schema: of a file, or of what a command prints
///
/// The schemas are for editors, validators and programs that read the JSON. Without a name, all names are listed. The schema of a
/// command has the command's name, with a hyphen between its words.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax schema\n  bibliotax schema manifest > bibliotax.schema.json\n  bibliotax schema registry-check"
)]
pub struct Schema {
    /// The schema's name [default: list all]
    name: Option<String>,
}

impl Schema {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match (&self.name, run.ui.format()) {
            (None, Format::Markdown) => run.ui.answer_as_is(reference::markdown().trim_end()),
            (None, _) => list(run.ui),
            (Some(name), _) => print(&named(name)?, run.ui),
        }
        Ok(Exit::Done)
    }
}

fn list(ui: &Ui) {
    let groups = [("files", of_files()), ("commands", of_commands())];
    for (title, schemas) in &groups {
        ui.answer(styled(style::STRONG, title));
        ui.answer(
            ui.table(schemas.iter().map(|schema| vec![format!("  {}", schema.name), schema.about.clone()])),
        );
    }
    ui.report(|| {
        let schemas = groups.iter().flat_map(|(_, schemas)| schemas);
        let names =
            schemas.map(|schema| SchemaName { name: schema.name.clone(), about: schema.about.clone() });
        Schemas { schemas: names.collect() }
    });
}

/// Prints a schema: on one line with `--format json`.
fn print(named: &Named, ui: &Ui) {
    let schema = named.schema();
    if ui.is_json() {
        ui.print_json(&schema);
    } else {
        // What was just made from types is JSON.
        ui.answer_as_is(serde_json::to_string_pretty(&schema).unwrap_or_default());
    }
}

fn named(name: &str) -> Result<Named, Failure> {
    let all = || of_files().into_iter().chain(of_commands());
    all().find(|schema| schema.name == name).ok_or_else(|| {
        let names: Vec<String> = all().map(|schema| schema.name).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        Failure::new("usage.value", format!("there is no schema `{name}`")).suggest(name, &names, "none")
    })
}
