//! Edits manifests so that they declare new needs.

use std::collections::BTreeSet;

use bibliotax_core::manifest;
use bibliotax_core::name::{ComponentName, Family, PackageName, PartName, Purpose, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::Resolution;
use bibliotax_core::workspace::{Project, Workspace};

use super::card_scaffold::Scaffold;
use super::sources::NeedSource;
use super::words::Wanted;
use toml_edit::Value;

use crate::failure::Failure;
use crate::workspace::edits::Edits;
use crate::workspace::{ManifestEdits, Manifests, WorkspaceFolder, file_name};

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
    pub source: Option<NeedSource>,
    /// The card of a package that doesn't say itself what it is.
    pub card: Option<Scaffold>,
}

/// The manifests of some projects while needs are being declared in them.
pub struct Declaring<'w> {
    workspace: &'w WorkspaceFolder,
    projects: Vec<&'w Project>,
    purpose: Option<&'w Purpose>,
    wishes: &'w Wishes,
    texts: ManifestEdits<'w>,
    /// The manifests as they were last parsed with edits.
    parsed: Option<Manifests>,
    /// The packages whose range is a charter's.
    chartered: BTreeSet<PackageName>,
}

impl<'w> Declaring<'w> {
    pub fn new(
        workspace: &'w WorkspaceFolder,
        projects: Vec<&'w Project>,
        purpose: Option<&'w Purpose>,
        wishes: &'w Wishes,
    ) -> Self {
        let (texts, parsed) = (ManifestEdits::of(workspace), None);
        Self { workspace, projects, purpose, wishes, texts, parsed, chartered: BTreeSet::new() }
    }

    /// The texts as they are now.
    pub fn edits(&self) -> Edits {
        self.texts.edits()
    }

    /// What all manifests say together now.
    pub fn workspace(&mut self) -> Result<Workspace, Failure> {
        let before = self.parsed.as_ref().unwrap_or(&self.workspace.manifests);
        let mut manifests = before.edited(&self.edits())?;
        let declared = manifests.read()?;
        self.parsed = Some(manifests);
        Ok(declared)
    }

    /// The manifests as they are on disk again.
    pub fn again(&self) -> Self {
        Self::new(self.workspace, self.projects.clone(), self.purpose, self.wishes)
    }

    /// Declares all packages that are wanted.
    pub fn declare_all(&mut self, wanted: &[Wanted]) -> Result<(), Failure> {
        wanted.iter().try_for_each(|wanted| self.declare(wanted))
    }

    /// What the manifests say of each package, then of each charter.
    pub fn lines(
        &mut self,
        declared: &Workspace,
        wanted: &[Wanted],
        charters: &[(PackageName, Range)],
    ) -> Result<Vec<DeclaredPackage>, Failure> {
        let mut lines = Vec::new();
        for wanted in wanted {
            lines.push(self.declared_package(declared, wanted)?);
        }
        for (charter, _) in charters {
            lines.push(self.declared_charter(charter)?);
        }
        Ok(lines)
    }

    /// Has the workspace take on a charter.
    pub fn take_on(&mut self, charter: &PackageName, range: &Range) -> Result<(), Failure> {
        self.texts.open("")?.set_charter(charter, range);
        Ok(())
    }

    /// Takes a charter's range for what was declared without one, where `bound` has one for it.
    pub fn take_ranges_of_charters(&mut self, wanted: &[Wanted], bound: &Workspace) -> Result<(), Failure> {
        if self.wishes.shared || self.wishes.exactly || self.wishes.source.is_some() {
            return Ok(());
        }
        let is_free =
            |wanted: &&Wanted| wanted.range.is_none() && bound.chartered_range(&wanted.package).is_some();
        for package in wanted.iter().filter(is_free).map(|wanted| &wanted.package) {
            for project in self.projects.clone() {
                let is_elsewhere = self.workspace.declared.shared.contains_key(package)
                    || project.manifest.family_of(package).is_some();
                if self.declared(project, package).is_none() && !is_elsewhere {
                    self.texts.open(&project.folder)?.set_need_chartered(self.purpose, package);
                    self.chartered.insert(package.clone());
                }
            }
        }
        Ok(())
    }

    /// The line of the root's manifest that takes on a charter.
    fn declared_charter(&mut self, charter: &PackageName) -> Result<DeclaredPackage, Failure> {
        let line = self.texts.open("")?.charter_line(charter);
        let file = (self.workspace.declared.projects.len() > 1).then(|| file_name(""));
        let declared = |line| DeclaredLine { file, table: "[charters]".to_owned(), line, inherited: None };
        Ok(DeclaredPackage { lines: line.map(declared).into_iter().collect(), repeated_in: None })
    }

    /// Declares what is wanted in every project.
    fn declare(&mut self, wanted: &Wanted) -> Result<(), Failure> {
        for project in self.projects.clone() {
            self.declare_range(project, wanted)?;
            self.declare_wishes(project, &wanted.package)?;
        }
        Ok(())
    }

    /// Declares which versions are wanted; where no range is given and none was declared, any version for now.
    fn declare_range(&mut self, project: &Project, wanted: &Wanted) -> Result<(), Failure> {
        let (package, purpose) = (&wanted.package, self.purpose);
        let is_declared = self.declared(project, package).is_some();
        let is_shared = self.workspace.declared.shared.contains_key(package);
        if let Some(said) = &self.wishes.source {
            let mut said = said.seen_from(&project.folder);
            said.extend(self.declare_card(project, package)?);
            self.texts.open(&project.folder)?.set_need_source(purpose, package, &said);
        }
        let text = self.texts.open(&project.folder)?;
        if self.wishes.registry.is_some() {
            text.leave_source(purpose, package);
        }
        match &wanted.range {
            range if self.wishes.shared => return self.share(project, package, range.as_ref()),
            Some(range) => text.set_need(purpose, package, range),
            None if is_declared || self.wishes.source.is_some() => {}
            None if is_shared => text.set_need_shared(purpose, package),
            None if project.manifest.family_of(package).is_some() => {
                text.set_need_of_family(purpose, package);
            }
            None => text.set_need(purpose, package, &Range::any()),
        }
        Ok(())
    }

    /// Writes the card of a package without a manifest, or the new version into the one that is there; the key that names it.
    fn declare_card(
        &mut self,
        project: &Project,
        package: &PackageName,
    ) -> Result<Option<(&'static str, Value)>, Failure> {
        let Some(card) = &self.wishes.card else { return Ok(None) };
        let text = self.texts.open(&project.folder)?;
        let path = match text.card_of_need(self.purpose, package) {
            Some(Some(path)) => path,
            Some(None) => {
                let upstream = card.upstream.as_ref();
                let version = card.version.iter();
                version
                    .for_each(|version| text.set_version_in_card(self.purpose, package, version, upstream));
                return Ok(None);
            }
            None => card_path(package),
        };
        let text = match self.texts.card(&project.folder, &path) {
            Some(text) => card.updated(&text).ok_or_else(|| {
                Failure::new("manifest.unreadable", format!("{path} isn't a card")).advice("move it away")
            })?,
            None => card.text(package),
        };
        self.texts.set_card(&project.folder, &path, text);
        Ok(Some(("card", Value::from(path))))
    }

    /// Lets a project take the workspace's range, which is this one, or what it was, or any for now.
    fn share(
        &mut self,
        project: &Project,
        package: &PackageName,
        range: Option<&Range>,
    ) -> Result<(), Failure> {
        let there = self.workspace.declared.shared.get(package);
        let range = range.or(there).cloned().unwrap_or_else(Range::any);
        self.texts.open("")?.set_shared(package, &range);
        self.texts.open(&project.folder)?.set_need_shared(self.purpose, package);
        Ok(())
    }

    fn declare_wishes(&mut self, project: &Project, package: &PackageName) -> Result<(), Failure> {
        let (purpose, wishes, text) = (self.purpose, self.wishes, self.texts.open(&project.folder)?);
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
            for project in self.projects.clone() {
                let is_new = self.declared(project, package).is_none()
                    && (exactly || !self.chartered.contains(package))
                    && project.manifest.family_of(package).is_none();
                let is_known = self.workspace.declared.shared.contains_key(package);
                let purpose = self.purpose;
                match (self.wishes.shared, is_known) {
                    (true, false) => self.share(project, package, Some(&range))?,
                    (true, true) if exactly => self.share(project, package, Some(&range))?,
                    (_, true) if !exactly => {}
                    _ if is_new || exactly => {
                        self.texts.open(&project.folder)?.set_need(purpose, package, &range);
                    }
                    _ => {}
                }
            }
        }
        Ok(())
    }

    /// What the manifest on disk says of a package and this purpose.
    fn declared<'m>(&self, project: &'m Project, package: &PackageName) -> Option<&'m manifest::Need> {
        let needs = project.manifest.needs.iter();
        needs.into_iter().find(|need| need.package == *package && need.purpose.as_ref() == self.purpose)
    }

    /// What stands in the manifests now of a package.
    fn declared_package(
        &mut self,
        declared: &Workspace,
        wanted: &Wanted,
    ) -> Result<DeclaredPackage, Failure> {
        let table = self.purpose.map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
        let mut lines = Vec::new();
        for project in self.projects.clone() {
            let text = self.texts.open(&project.folder)?;
            let Some(line) = text.need_line(self.purpose, &wanted.package) else { continue };
            let inherited = declared.project(project.name());
            let inherited = inherited.and_then(|project| self.inherited(project, wanted));
            let file = (declared.projects.len() > 1).then(|| file_name(&project.folder));
            lines.push(DeclaredLine { file, table: table.clone(), line, inherited });
        }
        let is_shared = self.wishes.shared || declared.shared.contains_key(&wanted.package);
        let is_chartered = self.chartered.contains(&wanted.package);
        let is_repeated =
            !is_shared && !is_chartered && self.projects.len() > 1 && self.wishes.source.is_none();
        Ok(DeclaredPackage { lines, repeated_in: is_repeated.then_some(self.projects.len()) })
    }

    /// The range of a need that is not its own.
    fn inherited(&self, project: &Project, wanted: &Wanted) -> Option<Inherited> {
        match self.declared(project, &wanted.package)? {
            need if need.is_shared => Some(Inherited::OfWorkspace(need.range.clone())),
            need if need.is_chartered => Some(Inherited::OfCharter(need.range.clone())),
            manifest::Need { family: Some(family), range, .. } => {
                Some(Inherited::OfFamily(family.clone(), range.clone()))
            }
            _ => None,
        }
    }
}

/// Where the card of a package is that `need` writes, from the manifest's folder.
fn card_path(package: &PackageName) -> String {
    format!("cards/{}.toml", package.folder())
}

/// What the manifests say of a package that is needed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeclaredPackage {
    /// A line of each project's manifest.
    pub lines: Vec<DeclaredLine>,
    /// In how many manifests the same range stands, where it could be written once.
    pub repeated_in: Option<usize>,
}

/// A line of a manifest that declares a need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeclaredLine {
    /// The manifest, from the workspace's folder; none where there is only one.
    pub file: Option<String>,
    /// The table that it stands in.
    pub table: String,
    /// The line.
    pub line: String,
    /// The range that it has from elsewhere.
    pub inherited: Option<Inherited>,
}

/// A range that a need has from elsewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Inherited {
    /// The workspace's.
    OfWorkspace(Range),
    /// A charter's.
    OfCharter(Range),
    /// That of a family.
    OfFamily(Family, Range),
}
