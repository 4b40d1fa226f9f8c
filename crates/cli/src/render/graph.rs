//! What `graph` shows.

use bibliotax_core::graph::{Graph, GraphCharter, Line, Node, outline};
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::source::Source;
use bibliotax_present::words::count;

use crate::ui::{Ui, clean, style, styled};

/// Shows a graph in lines, each further in the further it is from a project.
pub fn show(ui: &Ui, needs: &Graph<'_>) {
    let lines = outline(needs);
    lines.iter().for_each(|line| ui.answer(shown(needs, line)));
    for GraphCharter { charter, binds } in &needs.charters {
        let bound: Vec<String> =
            binds.iter().map(|(node, range)| format!("{} {range}", needs.nodes[*node].name())).collect();
        let bound = if bound.is_empty() { "nothing here".to_owned() } else { bound.join(", ") };
        let name = styled(style::STRONG, charter.release());
        ui.answer(format!("charter {name} binds {bound}"));
    }
    let packages: Vec<&LockedPackage> = needs.nodes.iter().filter_map(Node::package).collect();
    let deepest = needs.depths().into_iter().flatten().max().unwrap_or(0);
    let mut about =
        format!("{}, at most {} from a project", count(packages.len(), "package"), count(deepest, "step"));
    if lines.iter().any(|line| line.is_folded) {
        about += "; … marks what is listed where it is nearest to one";
    }
    ui.say(styled(style::FAINT, about));
}

/// A line: further in the further from a project it is.
fn shown(needs: &Graph<'_>, line: &Line) -> String {
    let node = &needs.nodes[line.node];
    let purpose = line.purpose.as_ref().map(|purpose| format!("  for {purpose}")).unwrap_or_default();
    let folded = if line.is_folded { " …" } else { "" };
    let rest = styled(style::FAINT, format!("{purpose}{folded}"));
    let name = match node {
        Node::Project(project) if line.depth == 0 => {
            let targets = if project.targets.is_empty() {
                String::new()
            } else {
                format!("  on {}", project.targets.join(", "))
            };
            format!("{}{}", styled(style::STRONG, &project.name), styled(style::FAINT, targets))
        }
        Node::Project(project) => format!("{}, in {}", project.name, project.path),
        Node::Package(package) => format!("{} {}", package.name, clean(&version(package))),
    };
    format!("{}{name}{rest}", "  ".repeat(line.depth))
}

/// A package's version, with where it comes from if that is no registry.
fn version(package: &LockedPackage) -> String {
    let source = match &package.source {
        Source::Registry(_) => String::new(),
        _ if package.stood_in => String::new(),
        Source::Path(_) => format!(", {}", package.source),
        source => format!(", from {source}"),
    };
    format!("{}{source}", package.shown_version())
}
