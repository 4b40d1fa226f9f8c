//! What `install` shows.

use bibliotax_app::change::{Applied, ChangeReport};
use bibliotax_app::install::{Built, ShelfChanges};
use serde_json::{Value, json};

use super::changes;
use crate::ui::Ui;

/// Shows that the lock was right, and what was done on the shelf.
pub fn show_locked(ui: &Ui, applied: &Applied, warnings: &[String]) {
    super::warnings(ui, warnings);
    changes::show_installed(ui, applied);
    let shelf = changes::installed_to_json(applied.installed);
    ui.report("install", || json!({ "changes": [], "dry-run": false, "warnings": warnings, "shelf": shelf }));
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
    let built =
        |built: &Built| json!({ "package": built.package, "version": built.version, "target": built.target });
    let build: Vec<Value> = shelf.build.iter().map(built).collect();
    let changes = change.map_or_else(|| json!([]), changes::to_json);
    ui.report(
        "install",
        || json!({ "changes": changes, "dry-run": true, "build": build, "remove": shelf.remove }),
    );
}
