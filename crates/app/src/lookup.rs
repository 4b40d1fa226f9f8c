//! Where packages are looked up: in the registries of a project, in those that are named, or in those of a person's settings.

use bibliotax_core::manifest::RegistryDeclaration;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_words::declaration;
use crate::workspace::WorkspaceFolder;

/// The workspace around the context's folder with the registries to look packages up in: those named by `words` or, without any,
/// those that its manifests declare. Outside of any project, the registries that are named, or those of the person's settings.
pub fn workspace(words: &[String], context: &Context<'_>) -> Result<WorkspaceFolder, Failure> {
    let settings = &context.environment.settings.settings;
    let mut workspace = match WorkspaceFolder::find(context.folder) {
        Err(failure) if failure.code == "manifest.missing" => {
            if words.is_empty() && settings.registries.is_empty() {
                return Err(failure.because([
                    "outside of a project, packages are looked up in the registries that `--registry` names, or in those of \
                     your settings file (`bibliotax ready` shows where it is)"
                        .to_owned(),
                ]));
            }
            WorkspaceFolder::of_registries(context.folder, settings.registries.clone())
        }
        found => found?,
    };
    if !words.is_empty() {
        let declared = &workspace.declared.registries;
        let named = words.iter().map(|word| declaration(word, declared, context));
        workspace.declared.registries = named.collect::<Result<Vec<RegistryDeclaration>, _>>()?;
    }
    Ok(workspace)
}
