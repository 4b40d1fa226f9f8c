//! `drop`: the reverse of `need`; says what left and what stayed.

use std::path::Path;

use bibliotax_core::manifest::{self, Need};
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::workspace::Member;
use serde_json::json;

use super::settle::Settled;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Edits, In, Project, Texts};
use crate::searching::Searching;
use crate::ui::Ui;

/// Take packages out of the manifest and off the shelf
///
/// What only they needed leaves with them; what something else needs stays, and it is said why.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax drop moss-map")]
pub struct Drop {
    /// Packages that the manifest declares
    #[arg(required = true, value_name = "PACKAGE")]
    packages: Vec<String>,
    #[command(flatten)]
    members: In,
    /// Take them out of the needs for this purpose only
    #[arg(long = "for", value_name = "PURPOSE")]
    purpose: Option<String>,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    searching: Searching,
}

impl Drop {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, self.dry_run, &progress)?;
        let project = project.searching(self.searching.clone());
        project.sound_lock()?;
        let members = self.members.to_change(&project)?;
        let words = self.packages.iter().map(|word| self.declared(&project, &members, word));
        let packages = words.collect::<Result<Vec<_>, _>>()?;
        let edits = without(&project, packages.iter().flatten())?;
        let workspace = project.edited(&edits)?;
        let (lock, warnings) = project.resolve(&workspace, &project.registries(&workspace)?)?;
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(&project, &workspace, lock);
        settled.show(ui);
        let stayed: Vec<&PackageName> =
            packages.iter().filter_map(|needs| Some(&needs.first()?.1.package)).collect();
        stayed.iter().for_each(|package| say_stayed(ui, &settled, package));
        settled.conclude(ui, "drop", self.dry_run, &edits, || json!({ "warnings": warnings }))?;
        Ok(Exit::Done)
    }

    /// The needs that a word means: of this purpose if one is given, else of all.
    fn declared<'p>(
        &self,
        project: &Project,
        members: &[&'p Member],
        word: &str,
    ) -> Result<Vec<(&'p Member, &'p Need)>, Failure> {
        let of_purpose = |need: &&Need| {
            self.purpose
                .as_ref()
                .is_none_or(|wanted| need.purpose.as_ref().is_some_and(|p| p.as_str() == wanted))
        };
        let all =
            members.iter().flat_map(|member| member.manifest.needs.iter().map(move |need| (*member, need)));
        let needs: Vec<(&Member, &Need)> = all.filter(|(_, need)| of_purpose(need)).collect();
        let is_meant = |(_, need): &(&Member, &Need)| need.package.as_str() == word;
        let found: Vec<(&Member, &Need)> = needs.iter().copied().filter(is_meant).collect();
        if !found.is_empty() {
            return Ok(found);
        }
        let failure =
            Failure::new("need.not-declared", format!("{} doesn't declare {word}", manifest::FILE_NAME));
        let near = nearest(word, needs.iter().map(|(_, need)| need.package.as_str()), 2);
        let locked = project.sound_lock()?.zip(word.parse::<PackageName>().ok());
        let needed_by = locked.map(|(lock, name)| lock.needed_by(&name)).unwrap_or_default();
        Err(match (needed_by.first(), near.as_slice()) {
            (Some(other), _) => {
                failure.mend(format!("it is here because {other} needs it; drop that, if you can do without"))
            }
            (None, []) => failure.mend("see `[needs]` in the manifest"),
            (None, near) => failure.mend(format!("perhaps {} was meant", either(near))),
        })
    }
}

/// The manifests without these needs.
fn without<'n>(
    project: &Project,
    needs: impl Iterator<Item = &'n (&'n Member, &'n Need)>,
) -> Result<Edits, Failure> {
    let mut texts = Texts::of(project);
    for (member, need) in needs {
        texts.open(&member.folder)?.remove_need(need.purpose.as_ref(), &need.package);
    }
    Ok(texts.edits())
}

/// Says why a dropped package is still in the lock.
fn say_stayed(ui: &Ui, settled: &Settled<'_>, package: &PackageName) {
    if settled.lock.package(package).is_some() {
        let others = settled.lock.needed_by(package);
        let others: Vec<&str> = others.iter().map(|name| name.as_str()).collect();
        let why = if others.is_empty() { "another purpose".to_owned() } else { others.join(", ") };
        ui.say(format!("  {package} stays: it is needed by {why}"));
    }
}
