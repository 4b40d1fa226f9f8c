//! What packages have inside: their files, and the licence texts among them.

use bibliotax_bill::Bill;
use bibliotax_bill::bill::BillComponent;
use bibliotax_store::store::Store;
use rayon::prelude::*;

use super::Request;
use crate::context::Context;
use crate::failure::Failure;
use crate::license_text::in_packages::license_texts;
use crate::license_text::known_texts::KnownTexts;
use crate::stored_files::StoredFiles;

/// Adds to a bill what its packages have inside, as far as the store has them; what is to be known of the rest.
pub fn add(bill: &mut Bill, request: &Request, context: &Context<'_>) -> Result<Vec<String>, Failure> {
    let store = context.environment.open_store()?;
    let known = KnownTexts::in_folder(&context.environment.registries_folder()?);
    let add = |component: &mut BillComponent| of_component(component, request, &store, &known);
    let unknown = bill.components.par_iter_mut().map(add).collect::<Result<Vec<_>, Failure>>()?;
    known.remember();
    Ok(unknown.into_iter().flatten().collect())
}

fn of_component(
    component: &mut BillComponent,
    request: &Request,
    store: &Store,
    known: &KnownTexts,
) -> Result<Option<String>, Failure> {
    let files = StoredFiles::of(&component.package, store)?;
    if request.with_license_texts {
        component.license_texts = license_texts(&files, known);
    }
    let name = &component.package.name;
    let unknown = (!files.is_whole).then(|| match component.package.files.as_slice() {
        [] => format!("{name} is no archive; its files aren't looked at"),
        _ => format!("{name} has archives that are for other machines; their files aren't looked at"),
    });
    if request.with_files {
        component.files = files.files.into_keys().collect();
    }
    Ok(unknown)
}
