//! Manifests while needs are being declared in them.

use std::collections::BTreeMap;

use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::{self, ManifestText};
use bibliotax_core::name::{ComponentName, PackageName, PartName, Purpose, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::workspace::{Member, Workspace};

use super::sources::{Place, Said};
use super::words::Wanted;
use crate::failure::Failure;
use crate::project::{Edits, Project, file_name};
use crate::ui::{Ui, style, styled};

/// What is said of all packages that are needed at once.
#[derive(Debug, Default)]
pub struct Wishes {
    pub registry: Option<RegistryName>,
    pub without: Vec<PackageName>,
    pub components: Vec<ComponentName>,
    pub parts: Vec<PartName>,
    pub targets: Vec<String>,
    pub prereleases: bool,
    pub bare: bool,
    /// Whether versions are taken exactly.
    pub exactly: bool,
    /// Whether ranges are written once for the workspace.
    pub shared: bool,
    /// Where the packages come from that are in no registry.
    pub source: Option<Said>,
}

/// The manifests of some members while needs are being declared in them.
pub struct Declaring<'p> {
    project: &'p Project,
    members: Vec<&'p Member>,
    purpose: Option<&'p Purpose>,
    wishes: &'p Wishes,
    /// The texts by folder.
    texts: BTreeMap<String, ManifestText>,
}

impl<'p> Declaring<'p> {
    pub fn open(
        project: &'p Project,
        members: Vec<&'p Member>,
        purpose: Option<&'p Purpose>,
        wishes: &'p Wishes,
    ) -> Result<Self, Failure> {
        let root = wishes.shared.then_some("");
        let folders = members.iter().map(|member| member.folder.as_str()).chain(root);
        let texts = folders.map(|folder| Ok((folder.to_owned(), project.editable(folder)?)));
        let texts = texts.collect::<Result<_, Failure>>()?;
        Ok(Self { project, members, purpose, wishes, texts })
    }

    /// The texts as they are now.
    pub fn edits(&self) -> Edits {
        self.texts.iter().map(|(folder, text)| (folder.clone(), text.to_string())).collect()
    }

    /// What all manifests say together now.
    pub fn workspace(&self) -> Result<Workspace, Failure> {
        self.project.edited(&self.edits())
    }

    /// Declares what is wanted in every member.
    pub fn declare(&mut self, wanted: &Wanted) {
        for member in self.members.clone() {
            self.declare_range(member, wanted);
            self.declare_wishes(member, &wanted.package);
        }
    }

    /// Declares which versions are wanted; where no range is given and none was declared, any version for now.
    fn declare_range(&mut self, member: &Member, wanted: &Wanted) {
        let package = &wanted.package;
        let is_declared = self.declared(member, package).is_some();
        let is_shared = self.wishes.shared || self.project.workspace.shared.contains_key(package);
        let purpose = self.purpose;
        if let Some(Said { key, place, more }) = &self.wishes.source {
            let place = match place {
                Place::Url(url) => url.clone(),
                Place::Local(path) => way_to(&member.folder, path),
            };
            let said: Vec<_> = [(*key, place)].into_iter().chain(more.iter().cloned()).collect();
            self.edit(member, |text| text.set_need_source(purpose, package, &said));
            if let Some(range) = &wanted.range {
                self.edit(member, |text| text.set_need(purpose, package, range));
            }
            return;
        }
        match &wanted.range {
            Some(range) if self.wishes.shared => self.share(member, package, Some(range)),
            Some(range) => self.edit(member, |text| text.set_need(purpose, package, range)),
            None if self.wishes.shared => self.share(member, package, None),
            None if is_declared => {}
            None if is_shared => self.edit(member, |text| text.set_need_shared(purpose, package)),
            None if member.manifest.family_of(package).is_some() => {
                self.edit(member, |text| text.set_need_of_family(purpose, package));
            }
            None => self.edit(member, |text| text.set_need(purpose, package, &Range::any())),
        }
    }

    /// Lets a member take the workspace's range, which is this one, or what it was, or any for now.
    fn share(&mut self, member: &Member, package: &PackageName, range: Option<&Range>) {
        let there = self.project.workspace.shared.get(package);
        let range = range.or(there).cloned().unwrap_or_else(Range::any);
        if let Some(root) = self.texts.get_mut("") {
            root.set_shared(package, &range);
        }
        let purpose = self.purpose;
        self.edit(member, |text| text.set_need_shared(purpose, package));
    }

    fn declare_wishes(&mut self, member: &Member, package: &PackageName) {
        let (purpose, wishes) = (self.purpose, self.wishes);
        self.edit(member, |text| {
            if wishes.prereleases {
                text.accept_prereleases(purpose, package);
            }
            if let Some(registry) = &wishes.registry {
                text.take_from(purpose, package, registry);
            }
            if !wishes.targets.is_empty() {
                text.only_for(purpose, package, &wishes.targets);
            }
            text.do_without(purpose, package, &wishes.without);
            text.want_components(purpose, package, &wishes.components);
            text.ask_for_parts(purpose, package, &wishes.parts);
            if wishes.bare {
                text.take_bare(purpose, package);
            }
        });
    }

    /// Puts the ranges in place that follow from what was chosen.
    pub fn settle_ranges(&mut self, wanted: &[Wanted], lock: &Lock) {
        if self.wishes.source.is_some() {
            return;
        }
        for wanted in wanted.iter().filter(|wanted| wanted.range.is_none()) {
            let package = &wanted.package;
            let Some(chosen) = lock.package(package).map(|package| &package.version) else { continue };
            let exactly = self.wishes.exactly;
            let range = if exactly { Range::exactly(chosen) } else { Range::from_version(chosen) };
            for member in self.members.clone() {
                let is_new =
                    self.declared(member, package).is_none() && member.manifest.family_of(package).is_none();
                let is_known = self.project.workspace.shared.contains_key(package);
                let purpose = self.purpose;
                match (self.wishes.shared, is_known) {
                    (true, false) => self.share(member, package, Some(&range)),
                    (true, true) if exactly => self.share(member, package, Some(&range)),
                    (_, true) if !exactly => {}
                    _ if is_new || exactly => {
                        self.edit(member, |text| text.set_need(purpose, package, &range));
                    }
                    _ => {}
                }
            }
        }
    }

    fn edit(&mut self, member: &Member, change: impl FnOnce(&mut ManifestText)) {
        if let Some(text) = self.texts.get_mut(&member.folder) {
            change(text);
        }
    }

    /// What the manifest on disk says of a package and this purpose.
    fn declared<'m>(&self, member: &'m Member, package: &PackageName) -> Option<&'m manifest::Need> {
        let needs = member.manifest.needs.iter();
        needs.into_iter().find(|need| need.package == *package && need.purpose.as_ref() == self.purpose)
    }

    /// Says what stands in the manifests now.
    pub fn say(&self, ui: &Ui, workspace: &Workspace, wanted: &Wanted) {
        let part = self.purpose.map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
        for member in &self.members {
            let text = self.texts.get(&member.folder);
            let Some(line) = text.and_then(|text| text.need_line(self.purpose, &wanted.package)) else {
                continue;
            };
            let beside = workspace.member(&member.project.name).map(|member| self.beside(member, wanted));
            let file =
                if workspace.members.len() == 1 { "manifest".to_owned() } else { file_name(&member.folder) };
            ui.say(format!("{}: {part} {line}{}", styled(style::STRONG, file), beside.unwrap_or_default()));
        }
        if !self.wishes.shared && self.members.len() > 1 && self.wishes.source.is_none() {
            ui.say(format!(
                "the range stands in {} manifests; `--shared` writes it once, for the whole workspace",
                self.members.len()
            ));
        }
    }

    /// Which range a need has that is not its own.
    fn beside(&self, member: &Member, wanted: &Wanted) -> String {
        match self.declared(member, &wanted.package) {
            Some(need) if need.is_shared => format!(", the workspace having \"{}\"", need.range),
            Some(manifest::Need { family: Some(family), range, .. }) => {
                format!(", {family} being kept at \"{range}\"")
            }
            _ => String::new(),
        }
    }
}

/// The way from one folder to another, both from the workspace's.
fn way_to(from: &str, to: &str) -> String {
    let parts = |folder: &str| -> Vec<String> {
        folder.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect()
    };
    let (from, to) = (parts(from), parts(to));
    let common = from.iter().zip(&to).take_while(|(one, other)| one == other && *one != "..").count();
    let up = std::iter::repeat_n("..", from.len() - common);
    let way: Vec<&str> = up.chain(to[common..].iter().map(String::as_str)).collect();
    if way.is_empty() { ".".to_owned() } else { way.join("/") }
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_way_leads_up_to_what_is_common_and_down_again() {
        for (from, to, way) in [
            ("gate-kiosk", "valve-core", "../valve-core"),
            ("", "valve-core", "valve-core"),
            ("parts/gate", "parts/valve", "../valve"),
            ("gate-kiosk", "../rain/core", "../../rain/core"),
            ("gate-kiosk", "", ".."),
        ] {
            assert_eq!(super::way_to(from, to), way, "{from} {to}");
        }
    }
}
