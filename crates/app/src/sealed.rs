//! What a sealed install holds a lock against: the rules, as far as manifests, lock and cards decide them, so that the same commit
//! installs or doesn't on every day. What happened to releases since is for `check`.

use bibliotax_core::compliance::{Known, breaches};
use bibliotax_core::history::Release;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::rules::{Rule, whole_sentence};
use bibliotax_present::words::count;
use bibliotax_registry::catalogue::connections::Connections;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;

use crate::environment::Environment;
use crate::failure::Failure;
use crate::workspace::WorkspaceFolder;

/// Most sentences that are shown.
const MAX_SHOWN: usize = 5;

/// Fails where the rules refuse something that is locked, or a licence still waits for a person.
pub fn check_rules(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    allow_stand_ins: bool,
    environment: &Environment,
) -> Result<(), Failure> {
    let rules = &workspace.declared.rules;
    if !rules.can_refuse() {
        return Ok(());
    }
    let asks_more = rules.has_min_age() || rules.feeds.are_sealed;
    let known = if asks_more { known_registries(workspace, lock, environment) } else { None };
    let known = |package: &LockedPackage| {
        let registries = known.as_ref()?;
        let listing = registries.listing(&package.name).ok()??;
        let advisories = if rules.feeds.are_sealed { registries.advisories(&listing).ok() } else { None };
        let known = Known::of_listing(&listing, &package.version, advisories.unwrap_or_default())?;
        let release = Release { withdrawn: None, deprecated: None, ..known.release };
        Some(Known { release, ..known })
    };
    let refused = breaches(lock, rules, known, environment.now).into_iter().filter(|found| {
        let is_allowed = found.breach.rule == Rule::StandIns && allow_stand_ins;
        found.waiver.is_none() && !is_allowed && found.breach.is_forbidden()
    });
    let sentences: Vec<String> = refused
        .map(|found| {
            let who = format!("{} {}", found.package.name, found.package.version);
            whole_sentence(&found.breach.sentence(found.scope, &who, true))
        })
        .collect();
    if sentences.is_empty() {
        return Ok(());
    }
    let message = format!("the rules forbid what is locked: {}", count(sentences.len(), "problem"));
    let more = sentences.len().saturating_sub(MAX_SHOWN);
    let more = (more > 0).then(|| format!("And {more} more."));
    Err(Failure::new("rules.forbidden", message)
        .because(sentences.into_iter().take(MAX_SHOWN).chain(more))
        .advice("`bibliotax check` shows what to do about each"))
}

/// The registries of a workspace, by what this machine knows of them.
fn known_registries(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    environment: &Environment,
) -> Option<Registries> {
    let (network, connections) = (environment.offline_if(true).network(), Connections::default());
    let (declared, root) = (&workspace.declared, &workspace.root);
    Registries::open(declared, root, &lock.packages, Freshness::Locked, &network, &connections).ok()
}
