//! `ready`: whether this machine has what the project asks for.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::facet::{FitValue, Target};
use bibliotax_core::manifest::RegistryDeclaration;
use bibliotax_core::name::{FacetName, ToolName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::version::Version;
use bibliotax_present::words;
use bibliotax_registry::catalogue::registry::Registry;
use rayon::prelude::*;
use serde_json::{Value, json};

use crate::codes::Exit;
use crate::failure::Failure;
use crate::machine::this_machine;
use crate::project::{Project, ask_for_locked, declared_target, open_store};
use crate::show::table;
use crate::tools;
use crate::ui::{Ui, style, styled};

/// Tell whether this machine is ready for the project
///
/// Each program that the manifest or a locked package asks for is looked for and asked for its version; the
/// machine is held against the targets; registries and store are opened. Ends with status 1 if something is amiss.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax ready\n  bibliotax ready --target hand-unit")]
pub struct Ready {
    /// This machine is meant to be this target: something is amiss if it can't be
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
}

/// One thing that was looked at.
struct Finding {
    what: String,
    fine: bool,
    /// What was found, or what to do.
    told: String,
    data: Value,
}

/// A program, with who wants it and in which versions.
type Wishes = BTreeMap<ToolName, Vec<(String, Range)>>;

impl Ready {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::find(here)?;
        let mut findings = Vec::new();
        findings.extend(registries(&project));
        findings.push(store());
        if let Some(target) = &self.target {
            declared_target(&project.workspace.targets, target)?;
        }
        let is_meant = |target: &Target| self.target.as_ref() == Some(&target.name);
        findings.extend(project.workspace.targets.iter().map(|target| machine(target, is_meant(target))));
        findings.extend(wishes(&project)?.iter().map(|(tool, wishes)| look_for(tool, wishes)));
        let row = |finding: &Finding| {
            let word = if finding.fine { styled(style::GOOD, "fine") } else { styled(style::BAD, "amiss") };
            vec![format!(" {word}"), finding.what.clone(), finding.told.clone()]
        };
        ui.answer(table(ui, findings.iter().map(row)));
        let warnings = project.sound_lock()?.map(|lock| project.known_warnings(lock)).unwrap_or_default();
        warnings.iter().for_each(|warning| ui.warn(warning));
        let amiss = findings.iter().filter(|finding| !finding.fine).count();
        ui.answer(match amiss {
            0 => "this machine is ready".to_owned(),
            1 => "one thing is amiss".to_owned(),
            many => format!("{many} things are amiss"),
        });
        let data = |finding: &Finding| json!({ "what": finding.what, "fine": finding.fine, "told": finding.told, "data": finding.data });
        ui.report(
            "ready",
            || json!({ "findings": findings.iter().map(data).collect::<Vec<_>>(), "warnings": warnings }),
        );
        Ok(if amiss == 0 { Exit::Done } else { Exit::Differs })
    }
}

/// What the manifest and the locked packages ask for, as far as the registries can be asked.
fn wishes(project: &Project) -> Result<Wishes, Failure> {
    let mut wishes = Wishes::new();
    let members = &project.workspace.members;
    let of_members =
        members.iter().flat_map(|member| member.manifest.tools.iter().map(move |tool| (member, tool)));
    for (member, (tool, range)) in of_members {
        let who = if members.len() == 1 { "the manifest" } else { member.project.name.as_str() };
        wishes.entry(tool.clone()).or_default().push((who.to_owned(), range.clone()));
    }
    let Some(lock) = project.sound_lock()? else { return Ok(wishes) };
    let Ok(registries) = project.registries(&project.workspace) else { return Ok(wishes) };
    ask_for_locked(&registries, lock.packages.iter());
    for package in &lock.packages {
        let listing = registries.listing(&package.name).ok().flatten();
        let release = listing.as_ref().and_then(|listing| listing.history.release(&package.version));
        for (tool, range) in release.iter().flat_map(|release| &release.entry.tools) {
            wishes.entry(tool.clone()).or_default().push((package.name.to_string(), range.clone()));
        }
    }
    Ok(wishes)
}

fn look_for(tool: &ToolName, wishes: &[(String, Range)]) -> Finding {
    let path = tools::find(tool);
    let version = path.as_deref().and_then(tools::version);
    let wanted =
        wishes.iter().map(|(who, range)| format!("{range} for {who}")).collect::<Vec<_>>().join(", ");
    let (fine, told) = verdict(path.as_ref(), version.as_ref(), wishes, &wanted);
    let wishes: Vec<Value> = wishes.iter().map(|(who, range)| json!({ "by": who, "range": range })).collect();
    let data = json!({ "tool": tool, "path": path, "version": version, "wanted": wishes });
    Finding { what: tool.as_str().to_owned(), fine, told, data }
}

fn verdict(
    path: Option<&PathBuf>,
    version: Option<&Version>,
    wishes: &[(String, Range)],
    wanted: &str,
) -> (bool, String) {
    let Some(path) = path else {
        return (false, format!("not found in PATH; install it: {wanted}"));
    };
    let any = wishes.iter().all(|(_, range)| *range == Range::any());
    match version {
        None if any => (true, path.display().to_string()),
        None => (false, format!("{} doesn't tell its version; wanted: {wanted}", path.display())),
        Some(version) if wishes.iter().all(|(_, range)| range.accepts(version)) => {
            (true, format!("{version} ({})", path.display()))
        }
        Some(version) => (false, format!("{version} ({}); wanted: {wanted}", path.display())),
    }
}

/// Whether this machine is what a target says, as far as system and processor go; it has to be where it is said to be.
fn machine(target: &Target, is_meant: bool) -> Finding {
    let here = this_machine();
    let differs = |(facet, value): &(&FacetName, &FitValue)| {
        target.values.get(*facet).is_some_and(|wanted| wanted != *value)
    };
    let other = here.values.iter().filter(differs);
    let other: Vec<String> = other.map(|(facet, _)| format!("{facet} {}", target.values[facet])).collect();
    let told = if other.is_empty() {
        format!("this machine could be it ({})", words::fits(&here.values))
    } else {
        format!("another machine: it has {}, and this one {}", other.join(" and "), words::fits(&here.values))
    };
    let data = json!({ "target": target.name, "matches": other.is_empty() });
    Finding { what: format!("target {}", target.name), fine: other.is_empty() || !is_meant, told, data }
}

/// Whether each registry answers, and what would open it for publishing.
fn registries(project: &Project) -> Vec<Finding> {
    let declared = &project.workspace.registries;
    if declared.is_empty() {
        let told = "none declared".to_owned();
        return vec![Finding { what: "registries".to_owned(), fine: true, told, data: Value::Null }];
    }
    let mut found: Vec<Finding> =
        declared.par_iter().map(|declaration| registry(project, declaration)).collect();
    if found.iter().all(|finding| finding.fine)
        && let Err(failure) = project.registries(&project.workspace)
    {
        // Each by itself is well, and together they are not.
        let (what, told) = ("registries".to_owned(), failure.message);
        found.push(Finding { what, fine: false, told, data: Value::Null });
    }
    found
}

fn registry(project: &Project, declaration: &RegistryDeclaration) -> Finding {
    let opened = project.registry(declaration).and_then(|registry| Ok(registry.opening()?));
    let (fine, told, opener) = match opened {
        Ok(_) if project.is_offline() && !Registry::is_local(declaration) => {
            (true, "is not asked, offline; what it answered before is there".to_owned(), Value::Null)
        }
        Ok(None) => (true, "answers".to_owned(), Value::Null),
        Ok(Some((place, true))) => (true, format!("answers, and opens to what {place} has"), json!(place)),
        Ok(Some((place, false))) => {
            (false, format!("answers, and doesn't open to what {place} has"), json!(place))
        }
        Err(failure) => (false, failure.message, Value::Null),
    };
    let data = json!({ "registry": declaration.name, "url": declaration.url, "opened-by": opener });
    Finding { what: format!("registry {}", declaration.name), fine, told, data }
}

fn store() -> Finding {
    let (fine, told) = match open_store() {
        Ok(_) => (true, "can be used".to_owned()),
        Err(failure) => (false, failure.message),
    };
    Finding { what: "store".to_owned(), fine, told, data: Value::Null }
}
