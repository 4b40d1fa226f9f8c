//! Manifests while needs are being declared in them.

use bibliotax_core::manifest;
use bibliotax_core::name::{ComponentName, PackageName, PartName, Purpose, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::Resolution;
use bibliotax_core::workspace::{Member, Workspace};

use super::sources::Said;
use super::words::Wanted;
use crate::failure::Failure;
use crate::project::{Edits, Project, Texts, file_name};
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
    texts: Texts<'p>,
}

impl<'p> Declaring<'p> {
    pub fn new(
        project: &'p Project,
        members: Vec<&'p Member>,
        purpose: Option<&'p Purpose>,
        wishes: &'p Wishes,
    ) -> Self {
        Self { project, members, purpose, wishes, texts: Texts::of(project) }
    }

    /// The texts as they are now.
    pub fn edits(&self) -> Edits {
        self.texts.edits()
    }

    /// What all manifests say together now.
    pub fn workspace(&self) -> Result<Workspace, Failure> {
        self.project.edited(&self.edits())
    }

    /// Declares what is wanted in every member.
    pub fn declare(&mut self, wanted: &Wanted) -> Result<(), Failure> {
        for member in self.members.clone() {
            self.declare_range(member, wanted)?;
            self.declare_wishes(member, &wanted.package)?;
        }
        Ok(())
    }

    /// Declares which versions are wanted; where no range is given and none was declared, any version for now.
    fn declare_range(&mut self, member: &Member, wanted: &Wanted) -> Result<(), Failure> {
        let (package, purpose) = (&wanted.package, self.purpose);
        let is_declared = self.declared(member, package).is_some();
        let is_shared = self.project.workspace.shared.contains_key(package);
        if let Some(said) = &self.wishes.source {
            let said = said.seen_from(&member.folder);
            self.texts.open(&member.folder)?.set_need_source(purpose, package, &said);
        }
        let text = self.texts.open(&member.folder)?;
        match &wanted.range {
            range if self.wishes.shared => return self.share(member, package, range.as_ref()),
            Some(range) => text.set_need(purpose, package, range),
            None if is_declared || self.wishes.source.is_some() => {}
            None if is_shared => text.set_need_shared(purpose, package),
            None if member.manifest.family_of(package).is_some() => text.set_need_of_family(purpose, package),
            None => text.set_need(purpose, package, &Range::any()),
        }
        Ok(())
    }

    /// Lets a member take the workspace's range, which is this one, or what it was, or any for now.
    fn share(
        &mut self,
        member: &Member,
        package: &PackageName,
        range: Option<&Range>,
    ) -> Result<(), Failure> {
        let there = self.project.workspace.shared.get(package);
        let range = range.or(there).cloned().unwrap_or_else(Range::any);
        self.texts.open("")?.set_shared(package, &range);
        self.texts.open(&member.folder)?.set_need_shared(self.purpose, package);
        Ok(())
    }

    fn declare_wishes(&mut self, member: &Member, package: &PackageName) -> Result<(), Failure> {
        let (purpose, wishes, text) = (self.purpose, self.wishes, self.texts.open(&member.folder)?);
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
        Ok(())
    }

    /// Puts the ranges in place that follow from what was chosen.
    pub fn settle_ranges(&mut self, wanted: &[Wanted], chosen: &Resolution) -> Result<(), Failure> {
        if self.wishes.source.is_some() {
            return Ok(());
        }
        for wanted in wanted.iter().filter(|wanted| wanted.range.is_none()) {
            let package = &wanted.package;
            let Some(chosen) = chosen.package(package).map(|chosen| &chosen.release.entry.version) else {
                continue;
            };
            let exactly = self.wishes.exactly;
            let range = if exactly { Range::exactly(chosen) } else { Range::from_version(chosen) };
            for member in self.members.clone() {
                let is_new =
                    self.declared(member, package).is_none() && member.manifest.family_of(package).is_none();
                let is_known = self.project.workspace.shared.contains_key(package);
                let purpose = self.purpose;
                match (self.wishes.shared, is_known) {
                    (true, false) => self.share(member, package, Some(&range))?,
                    (true, true) if exactly => self.share(member, package, Some(&range))?,
                    (_, true) if !exactly => {}
                    _ if is_new || exactly => {
                        self.texts.open(&member.folder)?.set_need(purpose, package, &range);
                    }
                    _ => {}
                }
            }
        }
        Ok(())
    }

    /// What the manifest on disk says of a package and this purpose.
    fn declared<'m>(&self, member: &'m Member, package: &PackageName) -> Option<&'m manifest::Need> {
        let needs = member.manifest.needs.iter();
        needs.into_iter().find(|need| need.package == *package && need.purpose.as_ref() == self.purpose)
    }

    /// Says what stands in the manifests now.
    pub fn say(&mut self, ui: &Ui, workspace: &Workspace, wanted: &Wanted) -> Result<(), Failure> {
        let part = self.purpose.map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
        for member in self.members.clone() {
            let text = self.texts.open(&member.folder)?;
            let Some(line) = text.need_line(self.purpose, &wanted.package) else { continue };
            let beside = workspace.member(&member.project.name).map(|member| self.beside(member, wanted));
            let file =
                if workspace.members.len() == 1 { "manifest".to_owned() } else { file_name(&member.folder) };
            ui.say(format!("{}: {part} {line}{}", styled(style::STRONG, file), beside.unwrap_or_default()));
        }
        let is_shared = self.wishes.shared || workspace.shared.contains_key(&wanted.package);
        if !is_shared && self.members.len() > 1 && self.wishes.source.is_none() {
            ui.say(format!(
                "the range stands in {} manifests; `--shared` writes it once, for the whole workspace",
                self.members.len()
            ));
        }
        Ok(())
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
