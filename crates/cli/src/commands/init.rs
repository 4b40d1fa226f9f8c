//! `init`: a commented manifest in this folder.

use std::path::Path;

use bibliotax_core::manifest::{self, RegistryLine, new_manifest};
use bibliotax_core::name::{PackageName, nearest_package_name};
use bibliotax_disk::write::write_whole;
use serde_json::json;

use crate::codes::Exit;
use crate::failure::Failure;
use crate::ui::Ui;

/// Write a commented manifest in this folder
///
/// The project is named after the folder unless --name says otherwise. A manifest that is there is never
/// overwritten.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax init --registry seedhouse=../registry")]
pub struct Init {
    /// The project's name
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// A registry to declare: its name and the folder that it is in; can be given several times
    #[arg(long, value_name = "NAME=FOLDER")]
    registry: Vec<String>,
    /// Print the manifest instead of writing it
    #[arg(long)]
    dry_run: bool,
}

impl Init {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let path = here.join(manifest::FILE_NAME);
        if path.exists() {
            let message = format!("there is a {} here already", manifest::FILE_NAME);
            return Err(Failure::new("init.exists", message).mend("open it: it is a text to read and edit"));
        }
        let name = self.project_name(here)?;
        let registries = self.registries()?;
        let text = new_manifest(&name, &registries);
        if let Some(outer) =
            here.ancestors().skip(1).find(|folder| folder.join(manifest::FILE_NAME).is_file())
        {
            ui.warn(format!(
                "the project in {} is around this one; commands run here act on this one",
                outer.display()
            ));
        }
        if self.dry_run {
            ui.answer(text.trim_end());
        } else {
            write_whole(&path, text.as_bytes())?;
            ui.say(format!("wrote {} for the project {name}", manifest::FILE_NAME));
            ui.say(if registries.is_empty() {
                "next: name a registry in it, then `bibliotax need PACKAGE`"
            } else {
                "next: `bibliotax need PACKAGE`"
            });
        }
        ui.report(
            "init",
            json!({ "project": name, "manifest": manifest::FILE_NAME, "written": !self.dry_run }),
        );
        Ok(Exit::Done)
    }

    fn project_name(&self, here: &Path) -> Result<PackageName, Failure> {
        if let Some(name) = &self.name {
            return name.parse().map_err(|fault| Failure::in_words("--name", name, fault));
        }
        let folder = here.file_name().unwrap_or_default().to_string_lossy();
        let nearest = nearest_package_name(&folder);
        nearest.ok_or_else(|| {
            let message = format!("the folder's name `{folder}` can't name a project");
            Failure::new("name.invalid", message).mend("give one: `bibliotax init --name NAME`")
        })
    }

    fn registries(&self) -> Result<Vec<RegistryLine>, Failure> {
        let line = |text: &String| {
            let (name, url) = text.split_once('=').ok_or_else(|| {
                let fault = bibliotax_core::fault::Fault::new(
                    "name.invalid",
                    "a registry needs a name",
                    0..text.len(),
                );
                Failure::in_words("--registry", text, fault.mend(format!("write `NAME={text}`")))
            })?;
            let name = name.parse().map_err(|fault| Failure::in_words("--registry", text, fault))?;
            Ok(RegistryLine { name, url: url.to_owned() })
        };
        self.registry.iter().map(line).collect()
    }
}
