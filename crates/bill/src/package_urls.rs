//! Package URLs (purl, ECMA-427): a name of each component that others understand, with its origin and checksums.
//!
//! No type of the standard means our registries, so that the type is `generic`: where the bytes come from is in the qualifiers.

use bibliotax_core::name::PackageName;
use bibliotax_core::source::Source;
use packageurl::PackageUrl;

use crate::bill::{Bill, BillComponent, BillProject};

/// The type of packages that are in no ecosystem that the standard knows.
const GENERIC: &str = "generic";

/// What a second package URL of a package means.
pub(crate) const UPSTREAM: &str = "the upstream software that it is made from";

/// The package URL of a project.
pub fn project_url(project: &BillProject) -> String {
    let mut url = named_url(&project.name);
    if let Some(version) = &project.version {
        // A version has only letters that any package URL takes.
        let _ = url.with_version(version.as_str());
    }
    url.to_string()
}

fn named_url(name: &PackageName) -> PackageUrl<'_> {
    let mut url = PackageUrl::new(GENERIC, name.without_scope()).expect("a package's name isn't empty");
    if let Some(scope) = name.scope() {
        url.with_namespace(scope).expect("a scope has only letters that any package URL takes");
    }
    url
}

/// The package URL of a component.
pub fn package_url(component: &BillComponent) -> String {
    let package = &component.package;
    let mut url = named_url(&package.name);
    let mut made = || {
        url.with_version(package.version.as_str()).ok()?;
        let checksums: Vec<String> =
            component.archives().iter().map(|file| format!("sha256:{}", file.sha256)).collect();
        if !checksums.is_empty() {
            url.add_qualifier("checksum", checksums.join(",")).ok()?;
        }
        if let Some((key, value)) = origin(component) {
            url.add_qualifier(key, value).ok()?;
        }
        Some(url.to_string())
    };
    // A name, a version and digests have only letters that any package URL takes.
    made().unwrap_or_default()
}

/// Where a component comes from, as a qualifier.
fn origin(component: &BillComponent) -> Option<(&'static str, String)> {
    let location = download_location(component);
    match &component.package.source {
        Source::Registry(_) => match location {
            Some(url) => Some(("download_url", url)),
            None => Some(("repository_url", component.registry.clone()?)),
        },
        Source::Git(_) => Some(("vcs_url", location?)),
        Source::Archive(_) => Some(("download_url", location?)),
        Source::Path(_) => None,
    }
}

/// Where anybody can get a component from, where that is one place: the URL of its only archive, or `git+URL@COMMIT`.
pub(crate) fn download_location(component: &BillComponent) -> Option<String> {
    match &component.package.source {
        Source::Registry(_) => component.only_archive()?.url.clone(),
        Source::Git(git) => {
            let url = git_url(&git.git)?;
            let prefix = if url.starts_with("git://") { "" } else { "git+" };
            Some(format!("{prefix}{url}@{}", git.commit))
        }
        Source::Archive(archive) => Some(archive.archive.clone()).filter(|url| url.contains("://")),
        Source::Path(_) => None,
    }
}

/// The URL of a git repository, also where it is written `user@host:path`; nothing of one on this machine.
fn git_url(repository: &str) -> Option<String> {
    if repository.contains("://") {
        return Some(repository.to_owned()).filter(|url| !url.starts_with("file://"));
    }
    let (host, path) = repository.split_once(':')?;
    // One letter is a drive.
    (host.len() > 1 && !host.contains(['/', '\\']))
        .then(|| format!("ssh://{host}/{}", path.trim_start_matches('/')))
}

/// The name and the version that a package URL of ours has; nothing of one of an ecosystem.
pub(crate) fn named(text: &str) -> Option<(String, Option<String>)> {
    let url: PackageUrl<'_> = text.parse().ok().filter(|url: &PackageUrl<'_>| url.ty() == GENERIC)?;
    let scope = url.namespace().map(|scope| format!("{scope}/")).unwrap_or_default();
    Some((format!("{scope}{}", url.name()), url.version().map(str::to_owned)))
}

/// All of a bill, a line each.
pub fn lines(bill: &Bill) -> String {
    bill.components.iter().map(|component| package_url(component) + "\n").collect()
}
