//! What `install` shows.

use bibliotax_app::change::{Applied, ChangeReport};
use bibliotax_app::install::{Built, ShelfChanges};

use super::changes;
use crate::json::change::Changes;
use crate::json::install::Install;
use crate::ui::Ui;

/// Shows that the lock was right, and what was done on the shelf.
pub fn show_locked(ui: &Ui, applied: &Applied, warnings: &[String]) {
    super::warnings(ui, warnings);
    changes::show_installed(ui, applied);
    ui.report(|| Install::done(Changes::of_shelf(Some(applied))));
    changes::show_build_files(ui, &applied.build_files);
    changes::show_open_steps(ui, &applied.open_steps);
}

/// Shows what would be done on the shelf, after how the lock would change, where it would.
pub fn show_plan(ui: &Ui, shelf: &ShelfChanges, change: Option<&ChangeReport<'_>>) {
    for Built { package, shown_version, target, .. } in &shelf.build {
        let target = target.as_ref().map(|target| format!(" for {target}")).unwrap_or_default();
        ui.say(format!("  would put {package} {shown_version} on the shelf{target}"));
    }
    for name in &shelf.remove {
        ui.say(format!("  would remove {name}"));
    }
    ui.say("nothing was written");
    ui.report(|| {
        let changes = change.map_or_else(|| Changes::of_shelf(None), |change| Changes::of(change, None));
        Install::planned(changes, shelf)
    });
}
