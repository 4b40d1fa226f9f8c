//! Ways out of a conflict, as commands to paste.

pub mod as_edits;

use bibliotax_core::charter::DeclaredCharter;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{ProblemNeed, Raised, Relaxation, WayOut};
use bibliotax_core::workspace::{Project, Workspace};
use bibliotax_present::words::manifest_key;

use crate::failure::Way;
use crate::workspace::{WorkspaceFolder, called, file_name};

/// Most ways that are offered.
const MAX_WAYS: usize = 3;

/// The first three ways as commands, where `wanted` was to be resolved and the workspace is what is on disk.
///
/// Where commands one after the other would fail in the middle, the lines to write in the manifests instead.
pub fn as_commands(ways: &[WayOut], workspace: &WorkspaceFolder, wanted: &Workspace) -> Vec<Way> {
    let shown = |way: &WayOut| match (&way.raised, &way.excepted) {
        (Some(raised), _) => Some(Way { command: raised_line(raised), note: raised_note(raised) }),
        (None, Some((charter, package))) => excepted(charter, package, wanted),
        (None, None) => Some(Steps::of(way, workspace, wanted)?.shown()),
    };
    ways.iter().filter_map(shown).take(MAX_WAYS).collect()
}

/// The line of the manifest that puts a place at another level.
fn raised_line(raised: &Raised) -> String {
    let Raised { place, facet, level } = raised;
    let table = if place.is_promise { "[fits]".to_owned() } else { format!("[targets.{}]", place.name) };
    format!("{table} {facet} = \"{level}\"")
}

fn raised_note(raised: &Raised) -> String {
    if raised.place.is_promise {
        "in the manifest; this is a weaker promise".to_owned()
    } else {
        format!("in the manifest, if {} can be raised", raised.place.name)
    }
}

/// The line of the manifest that excepts a package from a charter.
fn excepted(charter: &PackageName, package: &PackageName, wanted: &Workspace) -> Option<Way> {
    let declared = wanted.declared_charter(charter)?;
    let others = declared.except.iter().map(|exception| exception.package.to_string());
    let exception = |name| format!("{{ package = \"{name}\", reason = \"…\" }}");
    let all: Vec<String> = others.chain([package.to_string()]).map(exception).collect();
    let command = format!(
        "[charters] {} = {{ range = \"{}\", except = [{}] }}",
        manifest_key(charter),
        declared.range,
        all.join(", ")
    );
    Some(Way { command, note: "in the manifest, if there is a reason".to_owned() })
}

/// A need with the project whose it is.
type Of<'m> = (&'m Project, &'m Need);

/// What has to be done for a way, in its order.
struct Steps<'m> {
    /// What is on disk.
    workspace: &'m WorkspaceFolder,
    drops: Vec<Of<'m>>,
    /// Needs that change, each with its new range.
    changes: Vec<(Of<'m>, Range, bool)>,
    /// The targets that a changed need is for from then on.
    targets: Vec<String>,
    /// Whether the changed needs are without components from then on.
    are_bare: bool,
    /// Needs that were to be declared, or declared otherwise, and stay as they were to be.
    wanted: Vec<Of<'m>>,
    /// Whether some of those are on disk with another range.
    rewrites: bool,
    /// Charters that were to be taken on, or in another range.
    charters: Vec<&'m DeclaredCharter>,
    note: String,
}

/// What is on disk of a need.
fn on_disk<'m>(workspace: &'m WorkspaceFolder, (project, need): Of<'_>) -> Option<&'m Need> {
    let mut there = workspace.declared.needs();
    there.find(|other| is_of(*other, (project, need))).map(|(_, need)| need)
}

impl<'m> Steps<'m> {
    fn of(way: &WayOut, workspace: &'m WorkspaceFolder, all: &'m Workspace) -> Option<Self> {
        let is_written = |of: Of<'_>| on_disk(workspace, of).map(|there| &there.range) == Some(&of.1.range);
        let (mut drops, mut changes, mut targets) = (Vec::new(), Vec::new(), Vec::new());
        let mut are_bare = false;
        for (problem_need, change) in &way.changes {
            let project = all.projects.get(problem_need.by)?;
            let need = project.manifest.needs.iter().find(|need| is_same(need, problem_need))?;
            let of = (project, need);
            match change {
                // To do without what was just asked for is no way out.
                Relaxation::Drop if !is_written(of) => return None,
                Relaxation::Drop => drops.push(of),
                Relaxation::Range(range, _) => changes.push((of, range.clone(), need.prereleases)),
                Relaxation::Prereleases => changes.push((of, need.range.clone(), true)),
                Relaxation::WithoutComponents => {
                    changes.push((of, need.range.clone(), need.prereleases));
                    are_bare = true;
                }
                Relaxation::Targets(others) => {
                    targets.clone_from(others);
                    changes.push((of, need.range.clone(), need.prereleases));
                }
            }
        }
        let is_changed =
            |of: Of<'_>| drops.iter().chain(changes.iter().map(|(of, ..)| of)).any(|one| is_of(*one, of));
        let wanted: Vec<Of<'_>> = all.needs().filter(|of| !is_changed(*of) && !is_written(*of)).collect();
        let rewrites = wanted.iter().any(|of| on_disk(workspace, *of).is_some());
        let note =
            way.changes.iter().map(|(need, change)| note(need, change)).collect::<Vec<_>>().join(" and ");
        let is_there = |charter: &&DeclaredCharter| {
            let there = workspace.declared.declared_charter(&charter.name);
            there.is_some_and(|there| there.range == charter.range)
        };
        let charters = all.charters.iter().filter(|charter| !is_there(charter)).collect();
        Some(Self { workspace, drops, changes, targets, are_bare, wanted, rewrites, charters, note })
    }

    fn shown(&self) -> Way {
        let changes = self.changes.iter().map(|((project, need), range, pre)| {
            let is_chartered = need.is_chartered && *range == need.range;
            let need = Need { range: range.clone(), prereleases: *pre, is_chartered, ..(*need).clone() };
            let targets = if self.targets.is_empty() { need.targets } else { Some(self.targets.clone()) };
            Declaration::new(project, &Need { targets, ..need }, self.workspace)
        });
        let wanted =
            self.wanted.iter().map(|(project, need)| Declaration::new(project, need, self.workspace));
        let charters = self.charters.iter().map(|charter| Declaration::of_charter(charter));
        let declared: Vec<Declaration> = charters.chain(changes).chain(wanted).collect();
        let needs = in_commands(&declared);
        let is_of_many = |need: &Need| need.family.is_some() || need.is_shared;
        if self.are_bare || self.changes.iter().any(|((_, need), ..)| is_of_many(need)) {
            return self.as_lines();
        }
        // A command for part of what changes resolves only if the rest is new and can come after it.
        if needs.len() > 1 && (self.changes.len() > 1 || self.rewrites) {
            return self.as_lines();
        }
        let drop = |(project, need): &Of<'_>| {
            let of = in_project(self.workspace, project);
            format!("bibliotax drop {}{}{of}", need.package, for_purpose(need))
        };
        let commands: Vec<String> = self.drops.iter().map(drop).chain(needs).collect();
        Way { command: commands.join(" && "), note: self.note.clone() }
    }

    /// What to write in the manifests.
    fn as_lines(&self) -> Way {
        let is_alone = self.workspace.declared.projects.len() == 1;
        let line = |(project, need): &Of<'_>, range: &Range| {
            if need.is_shared {
                return format!("[shared] {} = \"{range}\"", need.package);
            }
            if let Some(family) = &need.family {
                return format!("[families] {family} = \"{range}\"");
            }
            let table = need
                .purpose
                .as_ref()
                .map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
            let file = if is_alone { String::new() } else { format!("{} ", file_name(&project.folder)) };
            format!("{file}{table} {} = \"{range}\"", need.package)
        };
        let changes = self.changes.iter().map(|(of, range, _)| line(of, range));
        let charters = self.charters.iter();
        let charters = charters
            .map(|charter| format!("[charters] {} = \"{}\"", manifest_key(&charter.name), charter.range));
        let mut lines: Vec<String> =
            charters.chain(changes).chain(self.wanted.iter().map(|of| line(of, &of.1.range))).collect();
        lines.dedup();
        Way { command: lines.join("; "), note: format!("in the manifest: {}", self.note) }
    }
}

/// A package with its range, as words behind `need`, and the options that they go with.
struct Declaration {
    words: String,
    options: String,
}

impl Declaration {
    /// The arguments with which `need` takes on a charter.
    fn of_charter(charter: &DeclaredCharter) -> Self {
        Self { words: format!("{} {}", charter.name, quoted(&charter.range)), options: String::new() }
    }

    /// The arguments with which `need` declares this, without those that the manifest on disk already has.
    fn new(project: &Project, need: &Need, workspace: &WorkspaceFolder) -> Self {
        let words = if need.is_chartered {
            need.package.to_string()
        } else {
            format!("{} {}", need.package, quoted(&need.range))
        };
        let there = on_disk(workspace, (project, need));
        let flags = [
            (" --prereleases", need.prereleases),
            (" --bare", need.bare && !there.is_some_and(|there| there.bare)),
        ];
        let flags: String = flags.iter().filter(|(_, is_on)| *is_on).map(|(flag, _)| *flag).collect();
        let targets = need
            .targets
            .iter()
            .filter(|targets| there.and_then(|there| there.targets.as_ref()) != Some(targets));
        let targets: String = targets.flatten().map(|target| format!(" --target {target}")).collect();
        let new = |said: fn(&Need) -> Vec<String>| -> Vec<String> {
            let there = there.map(said).unwrap_or_default();
            said(need).into_iter().filter(|name| !there.contains(name)).collect()
        };
        let components = new(|need| need.components.iter().map(ToString::to_string).collect());
        let components = if components.is_empty() {
            String::new()
        } else {
            format!(" --component {}", components.join(","))
        };
        let parts = new(|need| need.parts.iter().map(ToString::to_string).collect());
        let parts: String = parts.iter().map(|part| format!(" --part {part}")).collect();
        let without = new(|need| need.without.iter().map(ToString::to_string).collect());
        let without: String = without.iter().map(|name| format!(" --without {name}")).collect();
        let of = in_project(workspace, project);
        Self {
            words,
            options: format!("{}{flags}{components}{parts}{without}{targets}{of}", for_purpose(need)),
        }
    }
}

/// A range as a word of a command line.
fn quoted(range: &Range) -> String {
    let range = range.to_string();
    let is_plain = range.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '+'));
    if is_plain { range } else { format!("\"{range}\"") }
}

/// What says on the command line that a project is meant; nothing for the one that was stood in.
fn in_project(workspace: &WorkspaceFolder, project: &Project) -> String {
    let is_here = workspace.here().is_some_and(|here| here.folder == project.folder);
    if is_here { String::new() } else { format!(" --in {}", called(project)) }
}

/// One `need` for all that go with the same options, in their order.
fn in_commands(declared: &[Declaration]) -> Vec<String> {
    let together = declared.chunk_by(|a, b| a.options == b.options);
    let words = |group: &[Declaration]| group.iter().map(|d| d.words.as_str()).collect::<Vec<_>>().join(" ");
    together.map(|group| format!("bibliotax need {}{}", words(group), group[0].options)).collect()
}

fn is_same(need: &Need, other: &ProblemNeed) -> bool {
    let is_same_range = need.is_chartered || need.range == other.range;
    let same = need.package == other.package && is_same_range;
    same && need.prereleases == other.prereleases && need.components == other.components
}

/// Whether two needs are one line of a manifest, before and after.
fn is_of((project, need): Of<'_>, (other_project, other): Of<'_>) -> bool {
    project.folder == other_project.folder && need.package == other.package && need.purpose == other.purpose
}

fn for_purpose(need: &Need) -> String {
    need.purpose.as_ref().map(|purpose| format!(" --for {purpose}")).unwrap_or_default()
}

fn note(need: &ProblemNeed, change: &Relaxation) -> String {
    match change {
        Relaxation::Prereleases => format!("accepts pre-releases of {}", need.package),
        Relaxation::Range(_, version) => format!("changes {} to {version}", need.package),
        Relaxation::WithoutComponents => format!("uses {} without components", need.package),
        Relaxation::Targets(targets) => format!("uses {} only on {}", need.package, targets.join(" and ")),
        Relaxation::Drop => format!("removes {}", need.package),
    }
}
