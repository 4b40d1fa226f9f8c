//! What `links` shows.

use bibliotax_app::links::{LinkedFile, Report};

use crate::json;
use crate::ui::{Ui, clean, style, styled};

/// Shows the files of links, each with the line that it needs.
pub fn show(ui: &Ui, report: &Report) {
    if report.files.is_empty() && report.undeclared.is_empty() {
        ui.answer("no files for build tools; write `[links]` and `for = [\"make\"]` in the manifest");
    }
    for (number, file) in report.files.iter().enumerate() {
        show_file(ui, file, number > 0);
    }
    for tool in &report.undeclared {
        ui.warn(format!(
            "there are no files for {tool}; write `for = [\"{tool}\"]` under `[links]` in the manifest"
        ));
    }
    ui.report(|| json::links::Links::from(report));
}

fn show_file(ui: &Ui, file: &LinkedFile, follows: bool) {
    let LinkedFile { project, target, tool, path, is_there, line } = file;
    let tool = tool.map_or_else(|| "template".to_owned(), |tool| tool.to_string());
    let target = target.iter().map(|target| format!(" on {}", clean(target))).collect::<String>();
    let missing = if *is_there { "" } else { "  not there yet; run `bibliotax install`" };
    let between = if follows { "\n" } else { "" };
    ui.answer(format!(
        "{between}{} of {project}{target}: {}{missing}",
        styled(style::STRONG, tool),
        clean(path)
    ));
    line.iter().for_each(|line| ui.answer(format!("  {}", clean(line))));
}
