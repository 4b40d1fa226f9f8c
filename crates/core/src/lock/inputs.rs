//! What a lock is made from, as one digest: whether it is still what the manifests lead to.

use serde_json::{Value, json};

use crate::digest::Digest;
use crate::manifest::{NamePattern, Need};
use crate::workspace::{Member, Workspace};

/// The digest of all in a workspace's manifests that a resolution depends on: needs, families, capabilities and registries, in
/// one form whatever the layout; comments and what a project says of itself don't count, unless it is used where it lies.
pub fn inputs(workspace: &Workspace) -> Digest {
    let mut registries: Vec<_> = workspace.registries.iter().collect();
    registries.sort_by(|a, b| a.name.cmp(&b.name));
    let registries: Vec<_> = registries
        .iter()
        .map(|registry| {
            let mut owns: Vec<&str> = registry.owns.iter().map(NamePattern::as_str).collect();
            owns.sort_unstable();
            (&registry.name, &registry.url, owns)
        })
        .collect();
    // What lies in folders, as packages that others need.
    let in_folders: Vec<Value> = workspace
        .listings()
        .values()
        .map(|listing| {
            let releases = listing.history.releases().iter().map(|release| &release.entry);
            json!([listing.source, releases.collect::<Vec<_>>()])
        })
        .collect();
    let text = json!({ "registries": registries, "in-folders": in_folders, "replaced": workspace.replaced,
        "members": workspace.members.iter().map(of_member).collect::<Vec<_>>(),
        "families": workspace.families, "capabilities": workspace.capabilities,
        "facets": workspace.facets, "unstated": workspace.unstated,
        "targets": workspace.targets.iter().map(|target| (&target.name, &target.values)).collect::<Vec<_>>() });
    Digest::of(text.to_string().as_bytes())
}

fn of_member(member: &Member) -> Value {
    let targets: Vec<&str> = member.targets.iter().map(|target| target.name.as_str()).collect();
    let needs: Vec<Value> = member.manifest.needs.iter().map(of_need).collect();
    json!([member.folder, member.project.name, targets, member.manifest.fits, needs])
}

fn of_need(need: &Need) -> Value {
    let who = (&need.package, &need.range, &need.registry, &need.source, need.prereleases);
    let what = (&need.without, &need.targets, &need.components, need.bare, &need.parts);
    json!([who, need.purpose, what])
}
