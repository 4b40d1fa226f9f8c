//! What packages have inside: their files, and the licence texts among them.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bibliotax_bill::Bill;
use bibliotax_bill::bill::{BillComponent, LicenseText};
use bibliotax_disk::read::read_text;
use bibliotax_store::store::Store;
use rayon::prelude::*;

use super::Request;
use crate::context::Context;
use crate::failure::Failure;
use crate::license_text::{MAX_TEXT, identify, may_be_license};

/// Most licence texts that are taken of a package.
const MAX_TEXTS: usize = 200;

/// Adds to a bill what its packages have inside, as far as the store has them; what is to be known of the rest.
pub fn add(bill: &mut Bill, request: &Request, context: &Context<'_>) -> Result<Vec<String>, Failure> {
    let store = context.environment.open_store()?;
    let add = |component: &mut BillComponent| of_component(component, request, &store);
    let unknown = bill.components.par_iter_mut().map(add).collect::<Result<Vec<_>, Failure>>()?;
    Ok(unknown.into_iter().flatten().collect())
}

fn of_component(
    component: &mut BillComponent,
    request: &Request,
    store: &Store,
) -> Result<Option<String>, Failure> {
    let mut files: BTreeMap<String, PathBuf> = BTreeMap::new();
    let mut missing = component.package.files.is_empty();
    for file in &component.package.files {
        let tree = file.tree();
        let Some(listing) = store.listing(&tree)? else {
            missing = true;
            continue;
        };
        let place = |path: &str| store.tree(&tree).join(path);
        files.extend(listing.files.iter().map(|file| (file.path.to_string(), place(file.path.as_str()))));
    }
    if request.with_license_texts {
        component.license_texts = license_texts(&files);
    }
    if request.with_files {
        component.files = files.into_keys().collect();
    }
    let name = &component.package.name;
    Ok(missing.then(|| match component.package.files.as_slice() {
        [] => format!("{name} is no archive; its files aren't looked at"),
        _ => format!("{name} has archives that are for other machines; their files aren't looked at"),
    }))
}

/// The licence texts among files, by their names.
fn license_texts(files: &BTreeMap<String, PathBuf>) -> Vec<LicenseText> {
    let limit = usize::try_from(MAX_TEXT).unwrap_or(usize::MAX);
    let text = |(path, place): (&String, &PathBuf)| {
        // What is no text, or too large for one, is no licence text.
        let text = read_text(place, limit).ok().flatten()?;
        let ids = identify(&text).map(|identified| identified.ids).unwrap_or_default();
        Some(LicenseText { path: path.clone(), text, ids })
    };
    let licenses = files.iter().filter(|(path, _)| may_be_license(path));
    licenses.take(MAX_TEXTS).filter_map(text).collect()
}
