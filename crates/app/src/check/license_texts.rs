//! Packages whose licence texts are those of other licences than they declare.

use bibliotax_bill::bill::problems_of_texts;
use bibliotax_core::license::TextProblem;
use bibliotax_core::lock::{Lock, LockedPackage};
use rayon::prelude::*;

use super::{Finding, Level, Place, Subject};
use crate::context::Context;
use crate::failure::Failure;
use crate::license_text::in_packages::license_texts;
use crate::license_text::known_texts::KnownTexts;
use crate::stored_files::StoredFiles;

const ADVICE: &str =
    "read the text; then correct the card, or tell its publisher: `bibliotax export notices` has all texts";

/// What texts say against what is declared, of the packages that the store has: nothing is fetched for it.
pub(super) fn findings(lock: &Lock, context: &Context<'_>) -> Result<Vec<Finding>, Failure> {
    let store = context.environment.open_store()?;
    let known = KnownTexts::in_folder(&context.environment.registries_folder()?);
    let of_package = |package: &LockedPackage| -> Result<Vec<Finding>, Failure> {
        let texts = license_texts(&StoredFiles::of(package, &store)?, &known);
        let problems = problems_of_texts(package.license.as_ref(), &texts);
        Ok(problems
            .into_iter()
            .filter(TextProblem::is_mismatch)
            .map(|one| of_problem(package, one))
            .collect())
    };
    let found = lock.packages.par_iter().map(of_package).collect::<Result<Vec<_>, Failure>>()?;
    known.remember();
    Ok(found.into_iter().flatten().collect())
}

fn of_problem(package: &LockedPackage, problem: TextProblem) -> Finding {
    let message = format!("{} {} {problem}", package.name, package.version);
    let (TextProblem::Other { path, ids, .. } | TextProblem::Undeclared { path, ids }) = problem else {
        unreachable!("only mismatches are findings")
    };
    let place = (Place::Lock(Some(package.name.clone())), Subject::LicenseText { path, ids });
    Finding::new("license-text", Level::Warning, message, ADVICE, place).about(&package.name)
}
