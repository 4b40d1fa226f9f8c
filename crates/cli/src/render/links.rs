//! What `links` shows.

use std::collections::BTreeSet;

use bibliotax_app::links::{LinkedFile, Report};

use crate::json;
use crate::ui::{Ui, clean, style, styled};

/// Shows the files of links, each with the line that it needs.
pub fn show(ui: &Ui, report: &Report) {
    if report.files.is_empty() && report.undeclared.is_empty() {
        ui.answer("no files for build tools; write `[links]` and `for = [\"make\"]` in the manifest");
    }
    let whose: BTreeSet<_> = report.files.iter().map(|file| (&file.project, &file.target)).collect();
    for (number, file) in report.files.iter().enumerate() {
        show_file(ui, file, number > 0, whose.len() > 1);
    }
    for tool in &report.undeclared {
        ui.warn(format!(
            "there are no files for {tool}; write `for = [\"{tool}\"]` under `[links]` in the manifest"
        ));
    }
    ui.report(|| json::links::Links::from(report));
}

/// Shows a file; with whose it is where others have files, too.
fn show_file(ui: &Ui, file: &LinkedFile, follows: bool, says_whose: bool) {
    let LinkedFile { project, target, tool, path, is_there, line } = file;
    let tool = tool.map_or_else(|| "template".to_owned(), |tool| tool.to_string());
    let target = target.iter().map(|target| format!(" on {}", clean(target))).collect::<String>();
    let whose = if says_whose { format!(" of {project}{target}") } else { String::new() };
    let missing = if *is_there { "" } else { "  not there yet; run `bibliotax install`" };
    let between = if follows { "\n" } else { "" };
    ui.answer(format!("{between}{}{whose}: {}{missing}", styled(style::STRONG, tool), clean(path)));
    // To be pasted.
    line.iter().for_each(|line| ui.answer_as_is(format!("  {}", clean(line))));
}
