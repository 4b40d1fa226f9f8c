//! What `export` tells beside its documents.

use bibliotax_bill::Bill;
use bibliotax_core::license::TextProblem;
use bibliotax_present::words::count;

use crate::ui::Ui;

/// Most packages that are named in one line.
const MAX_NAMED: usize = 5;

/// Warns of licence texts that are missing, or are those of other licences than the declared ones.
pub fn warn_of_texts(ui: &Ui, bill: &Bill) {
    let mut without = Vec::new();
    for component in &bill.components {
        let package = &component.package;
        for problem in component.text_problems() {
            match problem {
                TextProblem::NoText => without.push(package.name.to_string()),
                problem => ui.warn(format!("{} {} {problem}", package.name, package.version)),
            }
        }
    }
    match without.as_slice() {
        [] => {}
        few if few.len() <= MAX_NAMED => ui.warn(format!("no licence text is in {}", few.join(", "))),
        many => {
            let named = many[..MAX_NAMED].join(", ");
            let packages = count(many.len(), "package");
            ui.warn(format!("no licence text is in {packages}: {named} and {} more", many.len() - MAX_NAMED));
        }
    }
}
