//! Options of `graph`.

use bibliotax_app::failure::Failure;
use bibliotax_app::graph::{Request, Shown};
use bibliotax_app::resolving::known_warnings;
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_core::name::Purpose;
use bibliotax_present::graph as drawn;

use super::members::MemberArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Show who needs whom
///
/// Each package stands under what needs it; what it needs itself stands under it once, where it is nearest to a project. Only
/// the lock is read.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax graph\n  bibliotax graph --to dew-point\n  bibliotax graph --in hand-unit --leave-out test --depth 2\n  bibliotax graph --as svg > packages.svg"
)]
pub struct Graph {
    /// Only the ways to this package
    #[arg(long, value_name = "PACKAGE")]
    to: Option<String>,
    /// Only so many steps from a project
    #[arg(long, value_name = "STEPS")]
    depth: Option<usize>,
    #[command(flatten)]
    members: MemberArgs,
    /// What is needed on this target only; may be given several times
    #[arg(long = "target", value_name = "TARGET")]
    targets: Vec<String>,
    /// Leave out what is needed for this purpose only, such as test; may be given several times
    #[arg(long, value_name = "PURPOSE")]
    leave_out: Vec<Purpose>,
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
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let (ui, workspace) = (run.ui, WorkspaceFolder::find(run.folder())?);
        let request = Request {
            to: self.to.clone(),
            depth: self.depth,
            members: self.members.words(),
            targets: self.targets.clone(),
            without: self.leave_out.clone(),
        };
        let shown = Shown::of(&workspace, &request)?;
        if !workspace.is_locked() {
            ui.warn("manifests were changed since the lock was made from them; this is the lock");
        }
        let graph = shown.graph();
        match self.form {
            Some(Form::Dot) => ui.answer(drawn::dot(&graph).trim_end()),
            Some(Form::Mermaid) => ui.answer(drawn::mermaid(&graph).trim_end()),
            Some(Form::Svg) => ui.answer(drawn::svg(&graph).trim_end()),
            None => render::graph::show(ui, &graph),
        }
        render::warnings(ui, &known_warnings(&workspace, shown.lock(), &run.environment));
        ui.report("graph", || render::graph::as_json(&graph));
        Ok(Exit::Done)
    }
}
