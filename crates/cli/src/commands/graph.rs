//! `graph`: who needs whom in the lock.

use std::path::Path;

use bibliotax_core::graph::{Graph as Needs, Line, Node, View, outline};
use bibliotax_core::lock::{LockedMember, LockedPackage, Scope};
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::source::Source;
use bibliotax_present::graph as drawn;
use serde_json::{Value, json};

use super::explain::locked_name;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::machine::this_machine;
use crate::project::{In, Project};
use crate::show::count;
use crate::ui::{Ui, clean, style, styled};

/// Show who needs whom
///
/// Each package stands under what needs it; what it needs itself stands under it once, where it is nearest to a project. Only
/// the lock is read.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax graph\n  bibliotax graph --to dew-point\n  bibliotax graph --in hand-unit --without test --depth 2\n  bibliotax graph --as svg > packages.svg"
)]
pub struct Graph {
    /// Only the ways to this package
    #[arg(long, value_name = "PACKAGE")]
    to: Option<String>,
    /// Only so many steps from a project
    #[arg(long, value_name = "STEPS")]
    depth: Option<usize>,
    #[command(flatten)]
    members: In,
    /// What is needed on this target only; may be given several times
    #[arg(long = "target", value_name = "TARGET")]
    targets: Vec<String>,
    /// Leave out what is needed for this purpose only, such as test; may be given several times
    #[arg(long, value_name = "PURPOSE")]
    without: Vec<Purpose>,
    /// Print it for other programs: in the languages DOT or Mermaid, or as a picture
    #[arg(long = "as", value_name = "FORM")]
    form: Option<Form>,
}

#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum Form {
    Dot,
    Mermaid,
    Svg,
}

impl Graph {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::find(here)?;
        let lock = project.needed_lock()?;
        if !project.is_locked() {
            ui.warn("manifests were changed since the lock was made from them; this is the lock");
        }
        let targets = project.targets_named(&self.targets)?;
        project.check_purposes(&self.without)?;
        let to = self.to.as_ref().map(|word| locked_name(lock, word)).transpose()?;
        let (members, machine) = (self.shown(&project)?, this_machine());
        let scope = Scope { members: &members, targets: &targets, without: &self.without, machine: &machine };
        let needs = Needs::of(lock, &View { scope, to: to.as_ref(), depth: self.depth });
        match self.form {
            Some(Form::Dot) => ui.answer(drawn::dot(&needs).trim_end()),
            Some(Form::Mermaid) => ui.answer(drawn::mermaid(&needs).trim_end()),
            Some(Form::Svg) => ui.answer(drawn::svg(&needs).trim_end()),
            None => show(ui, &needs),
        }
        project.known_warnings(lock).iter().for_each(|warning| ui.warn(warning));
        ui.report("graph", || as_json(&needs));
        Ok(Exit::Done)
    }

    /// The members whose needs are shown: those that are named, else the one that was stood in, else all.
    fn shown(&self, project: &Project) -> Result<Vec<PackageName>, Failure> {
        let chosen = self.members.chosen(project)?;
        Ok(chosen.into_iter().map(|member| member.project.name.clone()).collect())
    }
}

fn show(ui: &Ui, needs: &Needs<'_>) {
    let lines = outline(needs);
    lines.iter().for_each(|line| ui.answer(told(needs, line)));
    let packages: Vec<&LockedPackage> = needs.nodes.iter().filter_map(Node::package).collect();
    let deepest = needs.depths().into_iter().flatten().max().unwrap_or(0);
    let mut about =
        format!("{}, at most {} from a project", count(packages.len(), "package"), count(deepest, "step"));
    if lines.iter().any(|line| line.is_folded) {
        about += "; … is told where it is nearest to one";
    }
    ui.say(styled(style::FAINT, about));
}

/// A line: further in the further from a project it is.
fn told(needs: &Needs<'_>, line: &Line) -> String {
    let node = &needs.nodes[line.node];
    let purpose = line.purpose.as_ref().map(|purpose| format!("  for {purpose}")).unwrap_or_default();
    let folded = if line.is_folded { " …" } else { "" };
    let rest = styled(style::FAINT, format!("{purpose}{folded}"));
    let name = match node {
        Node::Member(member) if line.depth == 0 => {
            let targets = if member.targets.is_empty() {
                String::new()
            } else {
                format!("  on {}", member.targets.join(", "))
            };
            format!("{}{}", styled(style::STRONG, &member.name), styled(style::FAINT, targets))
        }
        Node::Member(member) => format!("{}, in {}", member.name, member.path),
        Node::Package(package) => format!("{} {}", package.name, clean(&version(package))),
    };
    format!("{}{name}{rest}", "  ".repeat(line.depth))
}

/// A package's version, with where it comes from if that is no registry.
fn version(package: &LockedPackage) -> String {
    let source = match &package.source {
        Source::Registry(_) => String::new(),
        _ if package.replaced => String::new(),
        Source::Path(_) => format!(", {}", package.source),
        source => format!(", from {source}"),
    };
    format!("{}{source}", package.told_version())
}

fn as_json(needs: &Needs<'_>) -> Value {
    let depths = needs.depths();
    let node = |(number, node): (usize, &Node<'_>)| match node {
        Node::Member(LockedMember { name, path, targets, .. }) => {
            json!({ "name": name, "member": path, "targets": targets, "depth": depths[number] })
        }
        Node::Package(package) => {
            json!({ "name": package.name, "version": package.version, "source": package.source,
            "replaced": package.replaced, "license": package.license, "targets": package.targets,
            "size": package.size(), "depth": depths[number] })
        }
    };
    let name = |number: usize| needs.nodes[number].name();
    let edges = needs.edges.iter();
    let edges =
        edges.map(|edge| json!({ "from": name(edge.from), "to": name(edge.to), "purpose": edge.purpose }));
    json!({ "nodes": needs.nodes.iter().enumerate().map(node).collect::<Vec<_>>(), "needs": edges.collect::<Vec<_>>() })
}
