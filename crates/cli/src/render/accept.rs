//! What `accept` shows, and what asks a person to accept a licence.

use bibliotax_app::accept::{LicenseFile, Plan, Unaccepted};
use bibliotax_core::manifest;

use crate::ui::{Ui, clean, style, styled};

/// Most lines of a licence that are shown before anybody asks for all of it.
const FIRST_LINES: usize = 8;

/// Shows what was accepted.
pub fn show(ui: &Ui, plan: &Plan, is_dry_run: bool) {
    if plan.accepted.is_empty() {
        ui.say("nothing to accept: no licence waits for it");
        return;
    }
    show_accepted(ui, &plan.accepted);
    if is_dry_run {
        ui.say("nothing was written");
    }
}

/// Shows which licences the manifest says to be accepted now.
pub fn show_accepted(ui: &Ui, accepted: &[Unaccepted]) {
    let head = styled(style::STRONG, manifest::FILE_NAME);
    for accepted in accepted {
        ui.say(format!(
            "{head}: {} accepted for {} {} and later",
            accepted.license_text(),
            accepted.package,
            accepted.version
        ));
    }
}

/// Warns of licences that nobody accepted yet.
pub fn warn(ui: &Ui, unaccepted: &[Unaccepted]) {
    let warnings: Vec<String> = unaccepted
        .iter()
        .map(|one| {
            let (package, version, license) = (&one.package, &one.version, one.license_text());
            format!("{package} {version} has the licence {license}, which nobody accepted yet; `bibliotax accept {package}` does")
        })
        .collect();
    super::warnings(ui, &warnings);
}

/// Shows a licence that is to be accepted, and the beginning of its text.
pub fn show_question(ui: &Ui, asked: &Unaccepted, file: Option<&LicenseFile>) {
    let Unaccepted { package, version, .. } = asked;
    let license = styled(style::STRONG, asked.license_text());
    ui.say(format!(
        "{package} {version} has the licence {license}, which a person has to accept for the team."
    ));
    match file {
        None => ui.say("The package contains no licence text."),
        Some(file) => {
            ui.say(styled(style::FAINT, format!("{}:", clean(&file.path))));
            file.text.lines().take(FIRST_LINES).for_each(|line| ui.say(format!("  {}", clean(line))));
            let more = file.text.lines().count().saturating_sub(FIRST_LINES);
            if more > 0 {
                ui.say(styled(style::FAINT, format!("  … {more} more lines")));
            }
        }
    }
}

/// Shows all of a licence's text.
pub fn show_all(ui: &Ui, file: &LicenseFile) {
    file.text.lines().for_each(|line| ui.say(format!("  {}", clean(line))));
}
