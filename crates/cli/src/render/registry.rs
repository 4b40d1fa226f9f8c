//! What `registry` shows.

use std::time::Duration;

use bibliotax_app::credentials::TOKENS;
use bibliotax_app::registry::check::Report;
use bibliotax_app::registry::create::Made;
use bibliotax_app::registry::sign_in::Saved;
use bibliotax_core::name::RegistryName;
use bibliotax_present::words::{count, size};
use bibliotax_registry::client::origin::Origin;
use bibliotax_registry::publish::audit::Flaw;
use bibliotax_registry::publish::load::Loaded;
use bibliotax_registry::publish::mirror::Mirrored;
use bibliotax_registry::storage::tokens::{Action, Token};
use jiff::Timestamp;

use crate::json::registry::{
    CheckedRegistry, Created, EndedToken, IssuedToken, LoadedEvents, MirroredRegistry, SignedIn, SignedOut,
    TokenAbout, Tokens,
};
use crate::ui::{Ui, clean, style, styled};

/// Shows what was made, or that nothing was.
pub fn show_created(ui: &Ui, name: &RegistryName, place: &str, made: Option<&Made>) {
    match made {
        None => ui.say("nothing was written"),
        Some(Made::ToServe) => {
            ui.say(format!("made the registry {name}; `bibliotax registry serve {place}` serves it"));
        }
        Some(Made::Named(value)) => {
            let by = if value.contains("://") { "place" } else { "folder" };
            ui.say(format!(
                "made the registry {name}; a manifest names it by its {by}:\n  [registries]\n  {name} = {value}"
            ));
        }
    }
    let (name, registry) = (name.clone(), place.to_owned());
    ui.report(|| Created { dry_run: made.is_none(), name, registry });
}

/// Shows what was loaded, or would be.
pub fn show_loaded(ui: &Ui, loaded: &Loaded, registry: &str, is_dry_run: bool) {
    let already =
        if loaded.already > 0 { format!(", {} there already", loaded.already) } else { String::new() };
    let archives = if loaded.archives > 0 {
        format!(", with {}", count(loaded.archives, "archive"))
    } else {
        String::new()
    };
    let verb = if is_dry_run { "would load" } else { "loaded" };
    ui.say(format!("{verb} {} into {registry}{archives}{already}", count(loaded.added, "event")));
    ui.report(|| LoadedEvents::of(*loaded, registry, is_dry_run));
}

/// Shows what is wrong in a registry, after what was put right.
pub fn show_checked(ui: &Ui, report: &Report, registry: &str) {
    let audit = &report.audit;
    show_repaired(ui, report);
    if !audit.flaws.is_empty() {
        ui.answer(ui.table(audit.flaws.iter().map(flaw_row)));
    }
    let read = format!(
        "{}, {}, {} ({})",
        count(audit.packages, "package"),
        count(audit.releases, "release"),
        count(audit.files, "file"),
        size(audit.bytes)
    );
    ui.answer(match audit.flaws.len() {
        0 => format!("all is as it should be: {read}"),
        some => format!("{} in {read}", count(some, "flaw")),
    });
    if audit.unnamed > 0 {
        ui.answer(format!("{} of no release", count(audit.unnamed, "file")));
    }
    show_leftovers(ui, report);
    ui.report(|| CheckedRegistry::of(report, registry));
}

fn flaw_row(flaw: &Flaw) -> Vec<String> {
    let package = flaw.package.as_ref().map_or("of no package".to_owned(), ToString::to_string);
    let version = flaw.version.clone().unwrap_or_default();
    vec![format!(" {}", styled(style::BAD, &package)), version, clean(&flaw.what)]
}

fn show_repaired(ui: &Ui, report: &Report) {
    let Some(repaired) = &report.repaired else { return };
    ui.say(format!("rebuilt the list of {}", count(repaired.names, "name")));
    let cleared = [(repaired.cleared.uploads, "old upload"), (repaired.cleared.remains, "temporary file")];
    for (number, what) in cleared.into_iter().filter(|(number, _)| *number > 0) {
        ui.say(format!("took out {}", count(number, what)));
    }
}

fn show_leftovers(ui: &Ui, report: &Report) {
    if !report.pending.is_empty() {
        let bytes = size(report.pending.iter().map(|pending| pending.bytes).sum());
        let uploads = count(report.pending.len(), "upload");
        ui.answer(format!("{uploads} without a release yet ({bytes}); each goes after two days"));
    }
    if report.remains > 0 {
        let what =
            format!("{} left behind by processes that were killed", count(report.remains, "temporary file"));
        ui.answer(format!("{what} ({}); `--repair` deletes them", size(report.remaining_bytes)));
    }
}

/// Shows what came of mirroring a registry.
pub fn show_mirrored(ui: &Ui, mirrored: &Mirrored, registry: &str, took: Duration) {
    ui.say(match mirrored.events {
        0 => format!("nothing is new in {registry} ({})", count(mirrored.packages, "package")),
        some => format!(
            "brought {} and {} ({}) of {registry} ({:.2} s)",
            count(some, "event"),
            count(mirrored.files, "file"),
            size(mirrored.bytes),
            took.as_secs_f64()
        ),
    });
    ui.report(|| MirroredRegistry::of(*mirrored, registry, false));
}

/// Shows a new token.
pub fn show_token(ui: &Ui, token: &Token, text: &str) {
    ui.answer(text);
    ui.say(format!("this is token {}; it is shown only now", token.id));
    ui.say(format!(
        "publishers save it with `bibliotax registry sign-in`, or set {TOKENS}=\"https://HOST TOKEN\""
    ));
    ui.report(|| IssuedToken {
        dry_run: false,
        id: Some(token.id.clone()),
        token: Some(text.to_owned()),
        expires: token.expires,
    });
}

/// Lists tokens as they are at a time.
pub fn show_tokens(ui: &Ui, tokens: &[Token], now: Timestamp) {
    if tokens.is_empty() {
        ui.answer("there are no tokens, so nobody can publish over the network");
    } else {
        ui.answer(ui.table(tokens.iter().map(|token| token_row(token, now))));
    }
    ui.report(|| Tokens { tokens: tokens.iter().map(TokenAbout::from).collect() });
}

fn token_row(token: &Token, now: Timestamp) -> Vec<String> {
    let actions = Action::ALL.iter().filter(|(_, action)| token.actions.contains(action));
    let actions: Vec<&str> = actions.map(|(word, _)| *word).collect();
    let ends = match token.expires {
        None => "never ends".to_owned(),
        Some(at) if token.is_valid(now) => format!("ends {}", at.strftime("%Y-%m-%d")),
        Some(at) => format!("ended {}", at.strftime("%Y-%m-%d")),
    };
    let packages = clean(&token.packages.join(", "));
    vec![format!(" {}", token.id), clean(&token.name), actions.join(", "), packages, ends]
}

/// Shows that a token was ended.
pub fn show_ended(ui: &Ui, id: &str) {
    ui.say(format!("token {id} is of no use any more"));
    ui.report(|| EndedToken { dry_run: false, id: id.to_owned() });
}

/// Shows where credentials were saved.
pub fn show_signed_in(ui: &Ui, origin: &Origin, saved: &Saved) {
    if let Some(why) = &saved.untried {
        ui.warn(format!("it could not be tried: {why}"));
    }
    ui.say(format!("saved for {origin} in {}", saved.place));
    ui.report(|| SignedIn {
        dry_run: false,
        host: origin.to_string(),
        saved_in: Some(saved.place.clone()),
        accepted: saved.untried.is_none().then_some(true),
    });
}

/// Shows whether there were credentials to delete.
pub fn show_signed_out(ui: &Ui, origin: &Origin, there_were: bool) {
    let done = if there_were { "forgotten" } else { "there was nothing to forget" };
    ui.say(format!("{done} for {origin}"));
    ui.report(|| SignedOut { dry_run: false, host: origin.to_string(), deleted: there_were });
}
