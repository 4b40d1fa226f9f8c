//! What `registry` shows.

use std::time::Duration;

use bibliotax_app::credentials::TOKENS;
use bibliotax_app::registry::check::Report;
use bibliotax_app::registry::create::Made;
use bibliotax_app::registry::sign_in::Saved;
use bibliotax_core::name::RegistryName;
use bibliotax_present::dates::dated;
use bibliotax_present::table::Table;
use bibliotax_present::words::{count, size};
use bibliotax_registry::client::origin::Origin;
use bibliotax_registry::publish::audit::Flaw;
use bibliotax_registry::publish::load::Loaded;
use bibliotax_registry::publish::mirror::Mirrored;
use bibliotax_registry::storage::tokens::{Action, NewToken, Token};
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
            ui.say(format!("created the registry {name}; `bibliotax registry serve {place}` serves it"));
        }
        Some(Made::Named(value)) => {
            let by = if value.contains("://") { "place" } else { "folder" };
            ui.say(format!(
                "created the registry {name}; a manifest names it by its {by}:\n  [registries]\n  {name} = {value}"
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
pub fn show_checked(ui: &Ui, report: &Report, registry: &str, is_dry_run: bool) {
    let audit = &report.audit;
    show_repaired(ui, report);
    if !audit.flaws.is_empty() {
        ui.answer(ui.lines_of(&Table::of(audit.flaws.iter().map(flaw_row)).titled(2)));
    }
    let elsewhere = report
        .upstream_archives
        .map(|archives| format!(", {} from elsewhere", count(archives, "archive")))
        .unwrap_or_default();
    let read = format!(
        "{}, {}, {} ({}){elsewhere}",
        count(audit.packages, "package"),
        count(audit.releases, "release"),
        count(audit.files, "file"),
        size(audit.bytes)
    );
    ui.answer(match audit.flaws.len() {
        0 => format!("no problems found: {read}"),
        some => format!("{} in {read}", count(some, "flaw")),
    });
    if audit.unnamed > 0 {
        ui.answer(format!("{} of no release", count(audit.unnamed, "file")));
    }
    show_leftovers(ui, report);
    ui.report(|| CheckedRegistry::of(report, registry, is_dry_run));
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
        ui.say(format!("deleted {}", count(number, what)));
    }
}

fn show_leftovers(ui: &Ui, report: &Report) {
    if !report.pending.is_empty() {
        let bytes = size(report.pending.iter().map(|pending| pending.bytes).sum());
        let uploads = count(report.pending.len(), "upload");
        ui.answer(format!("{uploads} without a release yet ({bytes}); deleted after two days"));
    }
    if report.remains > 0 {
        let what =
            format!("{} left behind by processes that were killed", count(report.remains, "temporary file"));
        ui.answer(format!("{what} ({}); `--repair` deletes them", size(report.remaining_bytes)));
    }
}

/// Shows what came of mirroring a registry.
pub fn show_mirrored(ui: &Ui, mirrored: &Mirrored, registry: &str, took: Duration, is_dry_run: bool) {
    ui.say(match mirrored.events {
        0 => format!("nothing new in {registry} ({})", count(mirrored.packages, "package")),
        some if is_dry_run => format!(
            "would copy {} and {} ({}) of {registry}; nothing was written",
            count(some, "event"),
            count(mirrored.files, "file"),
            size(mirrored.bytes),
        ),
        some => format!(
            "copied {} and {} ({}) of {registry} ({:.2} s)",
            count(some, "event"),
            count(mirrored.files, "file"),
            size(mirrored.bytes),
            took.as_secs_f64()
        ),
    });
    ui.report(|| MirroredRegistry::of(*mirrored, registry, is_dry_run));
}

/// Shows a new token.
pub fn show_token(ui: &Ui, token: &Token, text: &str) {
    ui.answer_as_is(text);
    ui.say(format!("token {}; it is shown only once", token.id));
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

/// Shows a token that would be issued.
pub fn show_wanted_token(ui: &Ui, wish: &NewToken, registry: &str) {
    let actions = in_words(&wish.actions);
    ui.say(format!(
        "a token for {} could {actions} {} in {registry}; nothing was written",
        clean(&wish.name),
        clean(&wish.packages.join(", ")),
    ));
    ui.report(|| IssuedToken { dry_run: true, id: None, token: None, expires: wish.expires });
}

/// Actions in words.
fn in_words(allowed: &[Action]) -> String {
    let actions = Action::ALL.iter().filter(|(_, action)| allowed.contains(action));
    actions.map(|(word, _)| *word).collect::<Vec<_>>().join(", ")
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
    let ends = match token.expires {
        None => "never ends".to_owned(),
        Some(at) if token.is_valid(now) => format!("ends {}", dated(at, now)),
        Some(at) => format!("ended {}", dated(at, now)),
    };
    let packages = clean(&token.packages.join(", "));
    vec![format!(" {}", token.id), clean(&token.name), in_words(&token.actions), packages, ends]
}

/// Shows that a token was ended.
pub fn show_ended(ui: &Ui, id: &str, is_dry_run: bool) {
    ui.say(if is_dry_run {
        format!("token {id} would be revoked; nothing was written")
    } else {
        format!("revoked token {id}")
    });
    ui.report(|| EndedToken { dry_run: is_dry_run, id: id.to_owned() });
}

/// Shows where credentials were saved.
pub fn show_signed_in(ui: &Ui, origin: &Origin, saved: &Saved, is_dry_run: bool) {
    if let Some(why) = &saved.untried {
        ui.warn(format!("it couldn't be tried: {why}"));
    }
    let verb = if is_dry_run { "would be saved" } else { "saved" };
    ui.say(format!("{verb} for {origin} in {}", saved.place));
    ui.report(|| SignedIn {
        dry_run: is_dry_run,
        host: origin.to_string(),
        saved_in: Some(saved.place.clone()),
        accepted: saved.untried.is_none().then_some(true),
    });
}

/// Shows whether there were credentials to delete.
pub fn show_signed_out(ui: &Ui, origin: &Origin, there_were: bool, is_dry_run: bool) {
    ui.say(match (there_were, is_dry_run) {
        (false, _) => format!("no credentials are saved for {origin}"),
        (true, false) => format!("deleted the credentials for {origin}"),
        (true, true) => format!("the credentials for {origin} would be deleted"),
    });
    ui.report(|| SignedOut { dry_run: is_dry_run, host: origin.to_string(), deleted: there_were });
}
