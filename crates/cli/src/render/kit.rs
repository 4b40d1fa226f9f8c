//! What `kit` shows.

use std::path::Path;

use bibliotax_present::words::{count, size};
use bibliotax_store::kit::{KitHeader, OpenedKit};

use crate::json;
use crate::json::store::{Kit, MadeKit};
use crate::ui::{Ui, style, styled};

/// Shows what a kit holds, or would hold.
pub fn show_made(ui: &Ui, file: &Path, head: &KitHeader, is_dry_run: bool) {
    let verb = if is_dry_run { "would hold" } else { "holds" };
    let what = format!("{}, {}", count(head.archives, "archive"), size(head.bytes));
    ui.say(format!("{}: {} {verb} {what}", styled(style::STRONG, "kit"), file.display()));
    if !is_dry_run {
        ui.say(format!(
            "on the other machine: `bibliotax kit open {}`, then `bibliotax install --offline`",
            file.display()
        ));
    }
    ui.report(|| MadeKit(Kit::of(file, head, is_dry_run)));
}

/// Shows what came out of a kit; whether it is for the workspace here, where there is one.
pub fn show_opened(ui: &Ui, file: &Path, opened: &OpenedKit, is_for_here: Option<bool>, is_dry_run: bool) {
    let head = &opened.head;
    let (all, known) = (count(head.archives, "archive"), head.archives - opened.new);
    let known = if known > 0 { format!(", {known} of them already there") } else { String::new() };
    let verb = if is_dry_run { "would be" } else { "are" };
    ui.say(format!(
        "{}: {all} ({}) {verb} in the store{known}",
        styled(style::STRONG, "kit"),
        size(head.bytes)
    ));
    if is_dry_run {
        ui.say("nothing was written");
    }
    match is_for_here {
        None => {}
        Some(true) if is_dry_run => {}
        Some(true) => ui.say("next: `bibliotax install --offline`"),
        Some(false) => ui.warn(
            "this project's lock differs from the kit's; `bibliotax install --offline` lists what is missing",
        ),
    }
    ui.report(|| json::store::OpenedKit { kit: Kit::of(file, head, is_dry_run), new: opened.new });
}
