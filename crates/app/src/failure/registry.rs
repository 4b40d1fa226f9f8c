//! Errors of registries as failures: the code of each, and the advice.

use bibliotax_archive::error::PackError;
use bibliotax_core::source::names_user;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::card_problem::CardProblem;

use super::{Failure, sources};
use crate::codes::CODES;
use crate::credentials::TOKENS;

impl From<RegistryError> for Failure {
    fn from(error: RegistryError) -> Self {
        use RegistryError as E;
        if let Some(failure) = sources::failure_of(&error) {
            return failure;
        }
        let message = error.to_string();
        let code = error.code();
        let advice = match error {
            E::Disk(error) | E::Pack(PackError::Disk(error)) => return error.into(),
            E::BadLines { path, text, faults } => return Self::in_text(path, &text, faults),
            E::Missing { .. } => {
                "check the path under `[registries]`; `bibliotax registry create DIR` makes a new one"
            }
            E::NoRegistry { .. } => "`bibliotax registry create DIR` makes one in a new folder",
            E::NotMade { place } => {
                let advice = format!("check the place, or make one: `bibliotax registry create {place}`");
                return Self::new(code, message).advice(advice);
            }
            E::BadDescription { .. } => "restore the file; it is one line of JSON with `format` and `name`",
            E::Newer { .. } => "use the version of bibliotax that the registry's keepers use",
            E::NotEmpty { .. } => "name a place that is new or empty",
            E::OtherHost { key, url, .. } => {
                let advice =
                    format!("ask its keepers; if it is right, write with the registry: `{key} = \"{url}\"`");
                return Self::new(code, message).advice(advice);
            }
            E::InnerUrl { .. } => "nothing was asked there; ask the registry's keepers",
            E::Scheme { url, .. } if names_user(&url) => {
                "take user and password out of the URL, and keep them where only you read them: `bibliotax registry sign-in HOST`"
            }
            E::Scheme { .. } => {
                "write `https://…` or `oci://…` without user or password, or a folder seen from the manifest"
            }
            E::ReadOnly { .. } => "publish to the registry itself",
            E::Bucket { .. } => {
                "check the place and the variables that say how it is reached (AWS_ENDPOINT, AWS_REGION, …); nothing was lost"
            }
            E::NoMirror { .. } => {
                "publish to the registry itself, never to a mirror; make the mirror anew in another folder"
            }
            E::WrongBytes { .. } => {
                "nothing of it was kept; try again, and tell the registry's keepers if it stays so"
            }
            E::NoList { .. } => "its keepers make one with `bibliotax registry check DIR --mend`",
            E::NotListed { .. } => "ask for a package by its name: `bibliotax describe NAME`",
            E::NothingThere { .. } => {
                "check name and version: `bibliotax describe` lists the releases of a package"
            }
            E::NoReason => "write it with `--reason`",
            E::NoRoom { .. } => "publish less at once, or go on under another name",
            E::WrongReason { .. } => "say it in a sentence or two of plain text",
            E::PlainHttp { .. } => {
                "write `https://`, or `plain = true` with the registry if the way there is your own"
            }
            E::Offline { .. } => "ask for it once with a network: it is kept from then on",
            E::Unreachable { .. } | E::NoMirrorAnswers => {
                "check the network and the URL; nothing was changed, and with BIBLIOTAX_OFFLINE=1 what was asked for before is enough"
            }
            E::WrongAnswer { .. } => "check the URL; if it is right, tell the registry's keepers",
            E::NoToken { ref registry, ref origin } => {
                let advice = format!(
                    "ask its keepers for one, and keep it: `bibliotax registry sign-in {registry}`; or let the variable {TOKENS} say `{origin} TOKEN`"
                );
                return Self::new(code, message).advice(advice);
            }
            E::Credentials { advice, .. } => return Self::new(code, message).advice(advice),
            E::OnlyFiles { .. } => "publish where its files are, or to a registry that is served",
            E::Refused { status, code: said, .. } => return refused(message, status, said.as_deref()),
            E::BrokenHistory { .. } => {
                "tell the registry's keepers; packages whose history is whole can still be had"
            }
            E::Ambiguous { ref package, ref registries } => {
                let registry = registries.first().map_or("…", |name| name.as_str());
                let advice = format!(
                    "settle it: `bibliotax need {package} --from {registry}`, or `owns = [\"{package}\"]` with one of the registries"
                );
                return Self::new(code, message).advice(advice);
            }
            E::ChangedHistory { ref package, seen, ref what, .. } => {
                let seen = seen.strftime("%Y-%m-%d %H:%M UTC");
                let seen = format!("It was seen on {seen}. Since then: {}.", what.join("; "));
                return Self::new(code, message).because([seen]).advice(super::accept_changed(package));
            }
            E::MirrorBehind { .. } => {
                "run it again when the registry answers; the mirror lags behind, or isn't to be trusted"
            }
            E::Undeclared { .. } => "declare it again under `[registries]`, or run `bibliotax resolve`",
            E::MissingFiles { .. } => "publish it again: what is missing is uploaded then",
            E::NoFile { .. } => "tell the registry's keepers: an archive that was published is gone",
            E::WrongCard { .. } => "don't use it; tell the registry's keepers that a published card changed",
            E::Exists { .. } => "a release never changes: raise `version` in the manifest",
            E::FacetClash { .. } => "let one of them define it, or give yours another name",
            E::Facet { .. } => "check the name and the value, or define the facet under `[facets]`",
            E::NameTaken { .. } => "choose another name",
            E::NoVersion { .. } => "write `version = \"0.1.0\"` under `[project]`",
            E::Pack(PackError::Unpackable { .. }) => {
                "rename it, or name the wanted ones with `files = [\"…\"]` under `[card]`"
            }
            E::Pack(PackError::Link { .. }) => {
                "put the file itself there, or leave it out with `files = [\"…\"]` under `[card]`"
            }
            E::Pack(PackError::Clash { .. }) => "rename one of them",
            E::NoFiles { .. } => {
                "check `files` under `[card]`; a file that is left out goes along where `files` names it itself"
            }
            E::Pack(PackError::BadPattern { .. }) => "a pattern is like `include/**` or `src/*.c`",
            E::PartsClash { .. } => "leave it out of one of them: `files` under `[[card.parts]]`",
            E::Card(problem) => advice_on_card(&problem),
            E::NotInstallable { .. } => {
                "leave that file out, or give it another name: `files` under `[card]`"
            }
            E::ExposesNothing { .. } => "check the path and `files` under `[card]`",
            // What is wrong with a source is reported above.
            E::NoGit
            | E::Git { .. }
            | E::BadTree { .. }
            | E::GitOffline { .. }
            | E::NoCommit { .. }
            | E::MovedTag { .. }
            | E::BadManifest { .. }
            | E::OtherName { .. }
            | E::NoArchive { .. }
            | E::ChangedArchive { .. }
            | E::Archive { .. } => return Self::new(code, message),
        };
        Self::new(code, message).advice(advice)
    }
}

/// What to do about a card that a registry can't take.
fn advice_on_card(problem: &CardProblem) -> &'static str {
    match problem {
        CardProblem::Facet { .. } => {
            "check the name and the value; the registry's registry.json defines its facets"
        }
        CardProblem::Variant(_) => {
            "say more in `for` of one of them, or add a file for just the targets that both are for"
        }
        CardProblem::ManyTags { .. } => "keep those that people would look for",
        CardProblem::ManySteps { .. } | CardProblem::LongStep { .. } => {
            "keep what has to be done, and put the rest into a document of the package"
        }
        CardProblem::HiddenLetter { .. } => "take it out of the manifest's text, or write it as words",
        CardProblem::FileUrl { .. } => "let it be where it can be had with encryption and without a password",
        CardProblem::TwoSteps { .. } => "give one of them another `id`",
        CardProblem::NoPart { .. } => "declare it under `[[card.parts]]`, or leave it out of the component",
    }
}

/// What a registry refused, under the code that it gave where that is one of ours.
fn refused(message: String, status: u16, said: Option<&str>) -> Failure {
    let said = said.or(match status {
        401 => Some("token.unknown"),
        403 => Some("token.not-for-that"),
        405 => Some("registry.read-only"),
        _ => None,
    });
    let known = said.and_then(|said| CODES.iter().find(|(code, ..)| *code == said));
    let failure = Failure::new(known.map_or("registry.refused", |(code, ..)| code), message);
    match status {
        401 => failure.advice(
            "ask its keepers for a token, or for a new one, and keep it: `bibliotax registry sign-in REGISTRY`",
        ),
        403 => failure.advice("ask the registry's keepers for a token that is for this"),
        405 => failure.advice("publish to the registry itself, not to a copy of it"),
        429 => failure.advice("wait a little and try again"),
        409 => failure.advice("a release never changes: raise `version` in the manifest"),
        500.. => {
            failure.advice("nothing was changed; try again, and tell the registry's keepers if it stays so")
        }
        _ => failure,
    }
}
