//! The JSON Schemas that `schema` prints: of files, and of what each command prints.

use bibliotax_core::schema;
use bibliotax_registry::model::description::Description as Registry;
use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema};

use super::error::ErrorOutput;
use super::{Document, Output};
use super::{
    check, compare, declare, describe, explain, export, find, fit, follow, graph, history, install, links,
    machine, merge, newer, publish, ready, registry, report, step, store, survey, task, verify,
};

/// A schema by its name.
pub struct Named {
    /// Its name: of a file, or a command with `-` between its words.
    pub name: String,
    /// What it describes.
    pub about: String,
    make: fn() -> Schema,
}

impl Named {
    /// The schema.
    pub fn schema(&self) -> Schema {
        (self.make)()
    }

    fn of_file(name: &str, about: &str, make: fn() -> Schema) -> Self {
        Self { name: name.to_owned(), about: about.to_owned(), make }
    }

    fn of_command<D: Document>() -> Self {
        let about = format!("what `{} --format json` prints", D::COMMAND);
        Self { name: D::COMMAND.replace(' ', "-"), about, make: command_schema::<D> }
    }
}

/// The schemas of files.
pub fn of_files() -> Vec<Named> {
    vec![
        Named::of_file("manifest", "`bibliotax.toml`", schema::manifest),
        Named::of_file("lock", "`bibliotax.lock`", schema::lock),
        Named::of_file("links-file", "links for build tools, in the shelf", schema::links),
        Named::of_file("card", "a release's card in a registry", schema::card),
        Named::of_file("event", "a line of a package's history in a registry", schema::event),
        Named::of_file("registry", "`registry.json`, a registry's description", || {
            output_schema::<Registry>("registry.json: what a registry says about itself")
        }),
    ]
}

/// The schemas of what commands print.
pub fn of_commands() -> Vec<Named> {
    let mut commands = vec![
        Named::of_command::<declare::Init>(),
        Named::of_command::<find::Found>(),
        Named::of_command::<declare::Need>(),
        Named::of_command::<declare::Drop>(),
        Named::of_command::<declare::Accept>(),
        Named::of_command::<declare::Resolve>(),
        Named::of_command::<merge::Merge>(),
        Named::of_command::<install::Install>(),
        Named::of_command::<install::Update>(),
        Named::of_command::<verify::Verify>(),
        Named::of_command::<task::Tasks>(),
        Named::of_command::<graph::DependencyGraph>(),
        Named::of_command::<explain::Explanation>(),
        Named::of_command::<export::ExportedDocument>(),
        Named::of_command::<newer::Newer>(),
        Named::of_command::<report::WrittenReport>(),
        Named::of_command::<compare::Comparison>(),
        Named::of_command::<history::History>(),
        Named::of_command::<survey::Survey>(),
        Named::of_command::<describe::Description>(),
        Named::of_command::<fit::FitReport>(),
        Named::of_command::<links::Links>(),
        Named::of_command::<step::Steps>(),
        Named::of_command::<step::NotedStep>(),
        Named::of_command::<step::CheckedSteps>(),
        Named::of_command::<ready::Ready>(),
        Named::of_command::<check::Check>(),
        Named::of_command::<check::Explained>(),
        Named::of_command::<publish::Publish>(),
        Named::of_command::<publish::Withdraw>(),
        Named::of_command::<publish::Deprecate>(),
        Named::of_command::<registry::Created>(),
        Named::of_command::<registry::Serving>(),
        Named::of_command::<registry::LoadedEvents>(),
        Named::of_command::<follow::FollowedRegistry>(),
        Named::of_command::<registry::MirroredRegistry>(),
        Named::of_command::<registry::CheckedRegistry>(),
        Named::of_command::<registry::IssuedToken>(),
        Named::of_command::<registry::Tokens>(),
        Named::of_command::<registry::EndedToken>(),
        Named::of_command::<registry::SignedIn>(),
        Named::of_command::<registry::SignedOut>(),
        Named::of_command::<store::MadeKit>(),
        Named::of_command::<store::OpenedKit>(),
        Named::of_command::<store::StoreContents>(),
        Named::of_command::<store::Trimmed>(),
        Named::of_command::<store::CheckedStore>(),
        Named::of_command::<machine::Completions>(),
        Named::of_command::<machine::ExplainedTopic>(),
        Named::of_command::<machine::Manual>(),
        Named::of_command::<machine::Schemas>(),
        Named::of_command::<machine::Demo>(),
    ];
    commands.push(Named::of_file("error", "what every command prints that fails", || {
        output_schema::<ErrorOutput>("What a command prints that fails")
    }));
    commands
}

fn command_schema<D: Document>() -> Schema {
    output_schema::<Output<D>>(&format!("What `bibliotax {} --format json` prints", D::COMMAND))
}

/// The schema of what is written, where every key that may be null is there.
fn output_schema<T: JsonSchema>(title: &str) -> Schema {
    let mut schema = SchemaSettings::default().for_serialize().into_generator().into_root_schema_for::<T>();
    schema.insert("title".to_owned(), title.into());
    schema
}
