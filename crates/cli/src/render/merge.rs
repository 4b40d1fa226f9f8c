//! What `merge` shows.

use bibliotax_app::merge::driver;
use bibliotax_app::merge::set_up::SetUp;
use bibliotax_app::merge::{Merged, Report, Settled};
use bibliotax_core::lock::FILE_NAME as LOCK;
use bibliotax_core::merge::Side;
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use bibliotax_present::words::count;

use super::{changes, warnings};
use crate::json::merge::{Merge, MergeSetUp};
use crate::ui::{Ui, clean};

/// Shows what was merged, or would be.
pub fn show(ui: &Ui, report: &Report, is_dry_run: bool) {
    if report.is_empty() {
        ui.answer("nothing to merge: git stopped at no manifest and no lock, and the lock is up to date");
    }
    let verb = if is_dry_run { "would merge" } else { "merged" };
    report.joined.iter().for_each(|file| ui.answer(format!("{verb} {}", clean(file))));
    for (file, keys) in &report.conflicts {
        ui.answer(format!("{}: both sides changed {}", clean(file), clean(&keys.join(", "))));
    }
    let sides = report.sides.each_ref().map(String::as_str);
    report.locks.iter().for_each(|lock| show_lock(ui, lock, sides, is_dry_run));
    if !report.conflicts.is_empty() && !is_dry_run {
        ui.say("next: edit the lines between the markers, and run `bibliotax merge` again");
    } else if !report.locks.is_empty() && !is_dry_run {
        ui.say("next: `bibliotax install`, and commit the merge");
    } else if is_dry_run && !report.is_empty() {
        ui.say("nothing was written");
    }
    ui.report(|| Merge::of(report, is_dry_run));
}

fn show_lock(ui: &Ui, lock: &Merged, sides: [&str; 2], is_dry_run: bool) {
    let change = lock.change.report();
    warnings(ui, change.warnings);
    if lock.change.old_lock().is_some() {
        changes::show_all(ui, &change);
    }
    for line in lines(&lock.settled, &lock.moved, sides) {
        ui.answer(line);
    }
    let packages = count(change.lock.packages.len(), "package");
    let verb = if is_dry_run { "would merge" } else { "merged" };
    ui.answer(format!("{verb} {} ({packages})", clean(&lock.path)));
}

/// What became of packages that both sides moved, and of those that neither side's release will do for.
fn lines(settled: &[Settled], moved: &[(PackageName, Version)], [ours, theirs]: [&str; 2]) -> Vec<String> {
    let settled = settled.iter().map(|one| {
        let Settled { name, ours: our, theirs: their, taken, version } = one;
        let (ours, theirs) = (clean(ours), clean(theirs));
        match taken {
            Some(Side::Ours) if our > their => {
                format!("{name} {our} of {ours}: newer than {their} of {theirs}")
            }
            Some(Side::Theirs) if their > our => {
                format!("{name} {their} of {theirs}: newer than {our} of {ours}")
            }
            Some(Side::Ours) => {
                format!("{name} {our} of {ours}: {their} of {theirs} doesn't go with the rest")
            }
            Some(Side::Theirs) => {
                format!("{name} {their} of {theirs}: {our} of {ours} doesn't go with the rest")
            }
            None => format!(
                "{name} {version}: neither {our} of {ours} nor {their} of {theirs} goes with the rest"
            ),
        }
    });
    let moved = moved.iter().map(|(name, version)| {
        format!("{name} {version}: the release that was chosen doesn't go with the rest")
    });
    settled.chain(moved).collect()
}

/// Shows what became of a file that git gave.
pub fn show_file(ui: &Ui, path: &str, report: &driver::Report) {
    let path = clean(path);
    match report {
        driver::Report::Locked { settled, moved } => {
            lines(settled, moved, ["ours", "theirs"]).iter().for_each(|line| ui.say(format!("{path}: {line}")));
        }
        driver::Report::Unfinished(why) => ui.warn(format!(
            "{path} has what both sides chose, but isn't resolved yet: {}; `bibliotax merge` or the next `bibliotax install` completes it",
            clean(why)
        )),
        driver::Report::Joined => {}
        driver::Report::Conflicts(keys) if path.ends_with(LOCK) => {
            ui.warn(format!("{} can't be merged here; `bibliotax merge` does it", clean(&keys.join(", "))));
        }
        driver::Report::Conflicts(keys) => {
            ui.warn(format!("{path}: both sides changed {}", clean(&keys.join(", "))));
        }
    }
}

/// Shows what is done so that git merges by meaning, before it is done.
pub fn show_set_up(ui: &Ui, plan: &SetUp, undoes: bool, is_dry_run: bool) {
    if plan.is_done() {
        ui.say(if undoes {
            "nothing to undo: git merges as usual"
        } else {
            "nothing to do: git merges this way already"
        });
    }
    let (adds, sets) = match (undoes, is_dry_run) {
        (false, false) => ("adding to", "setting"),
        (false, true) => ("would add to", "would set"),
        (true, false) => ("removing from", "unsetting"),
        (true, true) => ("would remove from", "would unset"),
    };
    if !plan.lines.is_empty() {
        ui.say(format!("{adds} {}:\n  {}", clean(&plan.attributes), plan.lines.join("\n  ")));
    }
    for (key, value) in &plan.settings {
        let value = if undoes { String::new() } else { format!(" = {}", clean(value)) };
        ui.say(format!("{sets} in this repository: {key}{value}"));
    }
    if !undoes && !plan.lines.is_empty() && !is_dry_run {
        ui.say(format!(
            "next: commit {}; each colleague runs `bibliotax merge --set-up` once",
            clean(&plan.attributes)
        ));
    }
    ui.report(|| MergeSetUp::of(plan, is_dry_run));
}
