//! Reads a manifest: from TOML to meaning, with every fault found in one pass.

mod card;
mod charters;
mod fits;
mod fixes;
mod links;
mod needs;
mod rules;
mod settings;
mod sources;
mod tasks;
#[cfg(test)]
mod tests;
mod values;

use std::collections::BTreeMap;
use std::ops;
use std::str::FromStr;
use std::sync::Arc;

use toml_edit::{Document, Item, Key, TableLike};

use self::fixes::add_key;
use self::needs::Ranges;
pub use self::settings::read_settings;
pub use self::sources::{SOURCE_KEYS, read_stated};
use self::values::{key_span, span};
use super::{
    Allowed, Device, LinkWay, Manifest, ProjectDeclaration, ProjectFolders, RegistryDeclaration,
    ShelfSettings, StatedCard, syntax,
};
use crate::facet::Target;
use crate::fault::Fault;
use crate::name::{NamePattern, RegistryName};
use crate::nearest::WordAt;
use crate::range::Range;
use crate::source::{names_user, without_user};

const TOP_KEYS: [&str; 23] = [
    "project",
    "workspace",
    "shared",
    "stand-ins",
    "registries",
    "charters",
    "charter",
    "targets",
    "devices",
    "needs",
    "needs-for",
    "families",
    "capabilities",
    "facets",
    "fits",
    "rules",
    "shelf",
    "tasks",
    "programs",
    "card",
    "links",
    "tools",
    "environment",
];
const PROJECT_KEYS: [&str; 3] = ["name", "version", "license"];
const WORKSPACE_KEYS: [&str; 2] = ["folders", "apart"];
const LINKS_KEYS: [&str; 1] = ["for"];
const VARIABLE_KEYS: [&str; 3] = ["role", "prefix", "separator"];
const SHELF_KEYS: [&str; 2] = ["link", "absolute"];
const REGISTRY_KEYS: [&str; 6] = ["url", "mirrors", "owns", "plain", "service", "realm"];

/// Keys that hold for all projects of a workspace, so that its root alone may say them.
const ROOT_KEYS: [&str; 6] = ["workspace", "shared", "stand-ins", "charters", "rules", "shelf"];

/// Reads a manifest, of a project with what its workspace's root says, and with the cards beside it; on failure all
/// faults that were found.
pub fn read(
    text: &str,
    root: Option<&Manifest>,
    cards: Option<&BTreeMap<String, StatedCard>>,
) -> Result<Manifest, Vec<Fault>> {
    if text.trim().is_empty() {
        let fault = Fault::new("manifest.empty", "the manifest is empty", 0..text.len());
        let fault = fault.advice("delete it and run `bibliotax init`, or begin it with `[project]`");
        return Err(vec![fault.fix(0..0, "[project]\nname = \"\"\n")]);
    }
    let document = Document::parse(text).map_err(|error| vec![syntax::fault(text, &error)])?;
    let mut reader = Reader { faults: Vec::new(), root, cards };
    let manifest = reader.manifest(document.as_table());
    match manifest {
        Some(manifest) if reader.faults.is_empty() => Ok(manifest),
        _ => Err(reader.faults),
    }
}

#[derive(Default)]
struct Reader<'r> {
    faults: Vec<Fault>,
    /// What the root of the workspace says, for a project.
    root: Option<&'r Manifest>,
    /// The cards beside the manifest, by the way to them.
    cards: Option<&'r BTreeMap<String, StatedCard>>,
}

impl Reader<'_> {
    fn manifest(&mut self, top: &dyn TableLike) -> Option<Manifest> {
        self.only_known(top, "a manifest", &TOP_KEYS);
        self.only_own(top);
        let workspace = top.get("workspace").and_then(|item| self.workspace(item));
        let shared = self.ranges(top, "shared");
        let project = self.declared_project(top, workspace.is_some());
        let registries = self.each(top, "registries", Self::registry);
        let families = self.ranges(top, "families");
        let ranges = Ranges {
            families: &self.with_root(&families, |root| &root.families),
            shared: &self.with_root(&shared, |root| &root.shared),
        };
        let capabilities = self.each(top, "capabilities", |reader, key, item| {
            Some((reader.name(key)?, reader.parse(item, key.get())?))
        });
        let mut needs = self.each(top, "needs", |reader, key, item| reader.need(key, item, None, ranges));
        for group in self.each(top, "needs-for", |reader, key, item| reader.needs_for(key, item, ranges)) {
            needs.extend(group);
        }
        self.registries_are_declared(&needs, &registries);
        let charters = self.each(top, "charters", Self::declared_charter);
        let of_root = self.root.is_some_and(|root| !root.charters.is_empty());
        self.charters_are_declared(&needs, !charters.is_empty() || of_root);
        let charter = top.get("charter").and_then(|item| self.charter(item));
        if charter.is_some() {
            self.charter_needs_nothing(&needs);
        }
        let targets = self.each(top, "targets", Self::target);
        self.targets_are_declared(&needs, &targets);
        let facets = self.each(top, "facets", Self::facet);
        let fits = top.get("fits").and_then(|item| self.table(item, "fits")).map(|table| self.fits(table));
        let programs = self.ranges(top, "programs");
        let stand_ins = self.each(top, "stand-ins", Self::stand_in).into_iter().collect();
        let rules = top.get("rules").and_then(|item| self.table(item, "rules"));
        let shelf = top.get("shelf").and_then(|item| self.table(item, "shelf"));
        let card = top.get("card").and_then(|item| self.table(item, "card")).map(|table| self.card(table));
        let devices = self.devices(top, &targets, workspace.is_some());
        let tasks = self.tasks(top);
        let links = top.get("links").and_then(|item| self.table(item, "links"));
        let links = links.map(|links| self.links(links)).unwrap_or_default();
        let tools = self.tools(top);
        let environment = self.each(top, "environment", Self::role_variable).into_iter().collect();
        if project.is_none() && workspace.is_none() {
            return None;
        }
        Some(Manifest {
            project,
            workspace,
            stand_ins,
            shared: ranges.shared.clone(),
            registries,
            charters,
            charter,
            needs,
            families,
            capabilities: capabilities.into_iter().collect(),
            targets,
            facets: facets.into_iter().collect(),
            fits: fits.unwrap_or_default(),
            programs,
            devices,
            tasks,
            shelf: shelf.map(|shelf| self.shelf(shelf)).unwrap_or_default(),
            rules: rules.map(|rules| Arc::new(self.rules(rules))).unwrap_or_default(),
            card: card.unwrap_or_default(),
            links,
            tools,
            environment,
        })
    }

    /// What the manifest says of its project, which only the root of a workspace may leave out.
    fn declared_project(&mut self, top: &dyn TableLike, is_root: bool) -> Option<ProjectDeclaration> {
        match top.get("project") {
            Some(item) => self.table(item, "project").and_then(|table| self.project(item, table)),
            None if is_root => None,
            None => {
                let fault = Fault::new("manifest.no-project", "the manifest doesn't name its project", 0..0);
                let fault = fault.advice("begin it with `[project]` and `name = \"…\"`");
                self.faults.push(fault.fix(0..0, "[project]\nname = \"\"\n\n"));
                None
            }
        }
    }

    /// A table of ranges by name.
    fn ranges<K: FromStr<Err = Fault> + Ord>(
        &mut self,
        top: &dyn TableLike,
        key: &str,
    ) -> BTreeMap<K, Range> {
        let all = self
            .each(top, key, |reader, key, item| Some((reader.name(key)?, reader.range(item, key.get())?)));
        all.into_iter().collect()
    }

    fn project(&mut self, item: &Item, table: &dyn TableLike) -> Option<ProjectDeclaration> {
        self.only_known(table, "`[project]`", &PROJECT_KEYS);
        if table.get("name").is_none() {
            let fault = Fault::new("manifest.no-project", "the project has no name", span(item));
            let fault = fault.advice("write `name = \"…\"` under `[project]`");
            self.faults.push(fault.offering([add_key("name", span(item))]));
        }
        let version = self.parsed(table, "version");
        let license = self.parsed(table, "license");
        Some(ProjectDeclaration { name: self.parsed(table, "name")?, version, license, span: span(item) })
    }

    fn workspace(&mut self, item: &Item) -> Option<ProjectFolders> {
        let table = self.table(item, "workspace")?;
        self.only_known(table, "`[workspace]`", &WORKSPACE_KEYS);
        let [folders, apart] = ["folders", "apart"].map(|key| self.texts(table, key).unwrap_or_default());
        Some(ProjectFolders { folders, apart, span: span(item) })
    }

    /// What a project's manifest says may not be for all projects.
    fn only_own(&mut self, top: &dyn TableLike) {
        for key in ROOT_KEYS.iter().filter(|key| self.root.is_some() && top.contains_key(key)) {
            let at = top.get_key_value(key).map_or(0..0, |(key, _)| key_span(key));
            let message = format!("`[{key}]` holds for the whole workspace, and this is one project of it");
            self.faults.push(
                Fault::new("workspace.root-only", message, at).advice("write it in the workspace's root"),
            );
        }
    }

    /// These ranges and, for a project, those that its workspace's root has beside them.
    fn with_root<K: Ord + Clone>(
        &self,
        own: &BTreeMap<K, Range>,
        of_root: impl Fn(&Manifest) -> &BTreeMap<K, Range>,
    ) -> BTreeMap<K, Range> {
        let of_root = self.root.into_iter().flat_map(of_root);
        of_root.chain(own).map(|(name, range)| (name.clone(), range.clone())).collect()
    }

    /// The devices; those of a workspace's root may be of targets that projects declare.
    fn devices(&mut self, top: &dyn TableLike, targets: &[Target], is_root: bool) -> Vec<Device> {
        let devices = self.each(top, "devices", |reader, key, item| {
            Some(Device { name: reader.name(key)?, target: reader.text(item, key.get())?, span: span(item) })
        });
        if !is_root {
            fn word(device: &Device) -> (&str, WordAt) {
                (&device.target, WordAt::Fault)
            }
            let asked = devices.iter().map(|device| (word(device), device.homeless(), device.span.clone()));
            self.targets_are_known(asked, targets);
        }
        devices
    }

    fn shelf(&mut self, table: &dyn TableLike) -> ShelfSettings {
        self.only_known(table, "`[shelf]`", &SHELF_KEYS);
        let what = "way of putting files on the shelf";
        let link = table
            .get("link")
            .and_then(|item| self.one_of(item, "link", "manifest.link", what, &LinkWay::WORDS));
        let absolute = table.get("absolute").is_some_and(|item| self.flag(item, "absolute"));
        ShelfSettings { link: link.unwrap_or_default(), absolute }
    }

    fn registry(&mut self, key: &Key, item: &Item) -> Option<RegistryDeclaration> {
        let name: Option<RegistryName> = self.name(key);
        let (url, mirrors, owns, allowed) = match item.as_table_like() {
            None => (self.text(item, key.get())?, Vec::new(), Vec::new(), Allowed::default()),
            Some(table) => {
                self.only_known(table, "a registry", &REGISTRY_KEYS);
                let Some(url) = table.get("url") else {
                    let fault = Fault::new(
                        "manifest.no-url",
                        format!("registry `{}` has no `url`", key.get()),
                        span(item),
                    );
                    self.faults.push(fault.advice("write where it is: a folder or a URL"));
                    return None;
                };
                let plain = table.get("plain").is_some_and(|item| self.flag(item, "plain"));
                let [mirrors, owns] =
                    ["mirrors", "owns"].map(|key| self.texts(table, key).unwrap_or_default());
                let [service, realm] =
                    ["service", "realm"].map(|key| table.get(key).and_then(|item| self.text(item, key)));
                (self.text(url, "url")?, mirrors, owns, Allowed { plain, service, realm })
            }
        };
        for url in [&url]
            .into_iter()
            .chain(&mirrors)
            .chain(&allowed.service)
            .chain(&allowed.realm)
            .filter(|url| names_user(url))
        {
            self.faults.push(user_in_url(url, span(item)));
        }
        let owns = owns.into_iter().map(NamePattern::new).collect();
        Some(RegistryDeclaration { name: name?, url, mirrors, owns, allowed, span: key_span(key) })
    }
}

/// That a registry's URL says who asks, which everybody would read.
pub fn user_in_url(url: &str, at: ops::Range<usize>) -> Fault {
    let shown = without_user(url);
    let message =
        format!("`{shown}` names a user or a password, which everybody who reads the manifest would see");
    let host = shown
        .split_once("://…@")
        .map_or(shown.as_str(), |(_, rest)| rest)
        .split('/')
        .next()
        .unwrap_or_default();
    Fault::new("manifest.place", message, at)
        .advice(format!("remove it from the URL and save it: `bibliotax registry sign-in {host}`"))
}
