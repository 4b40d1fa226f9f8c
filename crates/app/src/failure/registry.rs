//! Errors of registries as failures: the code of each, and the advice.

use bibliotax_archive::error::{ArchiveError, PackError};
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
            E::BadDescription { .. } => {
                "restore the file; it contains one line of JSON with `format` and `name`"
            }
            E::Newer { .. } => "use the version of bibliotax that the registry's maintainers use",
            E::NotEmpty { .. } => "choose a new or empty place",
            E::OtherHost { key, url, .. } => {
                let advice = format!(
                    "ask its maintainers; if it is right, add this to the registry in the manifest: `{key} = \"{url}\"`"
                );
                return Self::new(code, message).advice(advice);
            }
            E::InnerUrl { .. } => "no request was sent there; ask the registry's maintainers",
            E::Scheme { url, .. } if names_user(&url) => {
                "remove user and password from the URL and save them: `bibliotax registry sign-in HOST`"
            }
            E::Scheme { .. } => {
                "write `https://…` or `oci://…` without user or password, or a folder seen from the manifest"
            }
            E::ReadOnly { .. } => "publish to the registry itself",
            E::Bucket { .. } => "check the bucket and the environment variables AWS_ENDPOINT, AWS_REGION, …",
            E::NoMirror { .. } => {
                "publish only to the original registry; create the mirror again in another folder"
            }
            E::WrongBytes { .. } => {
                "try again; if it happens again, tell the registry's maintainers (nothing was saved)"
            }
            E::NothingToFollow { .. } | E::NoPage { .. } => {
                "correct `follow` in the package's card: `bibliotax registry load REGISTRY FILE --revise REASON`"
            }
            E::NoList { .. } => "its maintainers create it with `bibliotax registry check REGISTRY --repair`",
            E::NotListed { .. } => "ask for a package by its name: `bibliotax describe NAME`",
            E::NothingThere { .. } => {
                "check name and version: `bibliotax describe` lists the releases of a package"
            }
            E::NoReason => "add one: `--reason TEXT`, or `--revise REASON` of `registry load`",
            E::NoRoom { .. } => "shorten the card, or publish under another name",
            E::WrongReason { .. } => "write one or two sentences of plain text",
            E::PlainHttp { .. } => {
                "use `https://`, or set `plain = true` for the registry if you trust the network in between"
            }
            E::Offline { .. } => "run the command once with a network; the answer is cached then",
            E::Unreachable { .. } | E::NoMirrorAnswers => {
                "check the network and the URL, or use only what is cached: `--offline`"
            }
            E::WrongAnswer { .. } => "check the URL; if it is right, tell the registry's maintainers",
            E::NoToken { ref registry, ref origin } => {
                let advice = format!(
                    "get a token from its maintainers and save it: `bibliotax registry sign-in {registry}`; or set {TOKENS}=\"{origin} TOKEN\""
                );
                return Self::new(code, message).advice(advice);
            }
            E::Credentials { advice, .. } => return Self::new(code, message).advice(advice),
            E::OnlyFiles { .. } => "publish where its files are, or to a registry that is served",
            E::Refused { status, code: said, .. } => return refused(message, status, said.as_deref()),
            E::BrokenHistory { .. } => "tell the registry's maintainers; other packages still work",
            E::Ambiguous { ref package, ref registries } => {
                let registry = registries.first().map_or("…", |name| name.as_str());
                let advice = format!(
                    "choose one: `bibliotax need {package} --from {registry}`, or `owns = [\"{package}\"]` for one of the registries"
                );
                return Self::new(code, message).advice(advice);
            }
            E::ChangedHistory { ref package, seen, ref what, .. } => {
                let seen = seen.strftime("%Y-%m-%d %H:%M UTC");
                let seen = format!("It was seen on {seen}. Since then: {}.", what.join("; "));
                return Self::new(code, message).because([seen]).advice(super::accept_changed(package));
            }
            E::MirrorBehind { .. } => {
                "run it again when the registry can be reached; the mirror is outdated, or can't be trusted"
            }
            E::Feed { .. } => "check the place under `[rules] advisories = { feeds = … }`",
            E::Undeclared { .. } => "declare it again under `[registries]`, or run `bibliotax resolve`",
            E::MissingFiles { .. } => "publish it again: missing files are uploaded",
            E::NoFile { .. } => "tell the registry's maintainers that a published archive is missing",
            E::WrongCard { .. } => {
                "don't use it; tell the registry's maintainers that a published card changed"
            }
            E::Exists { .. } => "a release never changes: raise `version` in the manifest",
            E::FacetClash { .. } => "let only one of them define it, or give yours another name",
            E::Facet { .. } => "check the name and the value, or define the facet under `[facets]`",
            E::NameTaken { .. } => "choose another name",
            E::NoVersion { .. } => "write `version = \"0.1.0\"` under `[project]`",
            E::Pack(PackError::Unpackable { .. }) => {
                "rename it, or list the files to publish with `files = [\"…\"]` under `[card]`"
            }
            E::Pack(PackError::Link { .. }) => {
                "replace the link by the file, or leave it out with `files = [\"…\"]` under `[card]`"
            }
            E::Pack(PackError::Clash { .. }) => "rename one of them",
            E::NoFiles { .. } => {
                "check `files` under `[card]`; a file that is left out by default is published if `files` names it"
            }
            E::Pack(PackError::BadPattern { .. }) => "write a pattern like `include/**` or `src/*.c`",
            E::PartsClash { .. } => "leave it out of one of them: `files` under `[[card.parts]]`",
            E::Card(problem) => advice_on_card(&problem),
            E::NotInstallable { source: ArchiveError::Refused(ref refused), .. } => {
                return super::store::of_refused(message, refused);
            }
            E::NotInstallable { .. } => "leave that file out with `files` under `[card]`, or rename it",
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
            "make `for` of one of them more specific, or add a file for the targets that both fit"
        }
        CardProblem::CharterWith { .. } => "publish what packages are made of as a project of its own",
        CardProblem::ManyTags { .. } => "keep the tags that users would search for",
        CardProblem::ManySteps { .. } | CardProblem::LongStep { .. } => {
            "shorten the step, and move the rest into a document of the package"
        }
        CardProblem::HiddenLetter { .. } => "remove it from the text",
        CardProblem::FollowUrl { .. } => "name the place with `https://`, without user or password",
        CardProblem::FileUrl { .. } => "use an `https` URL without a password",
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
            "get a new token from its maintainers and save it: `bibliotax registry sign-in REGISTRY`",
        ),
        403 => failure.advice("ask the registry's maintainers for a token that allows it"),
        405 => failure.advice("publish to the registry itself, not to a copy of it"),
        429 => failure.advice("wait a little and try again"),
        409 => failure.advice("a release never changes: raise `version` in the manifest"),
        500.. => failure
            .advice("try again; if it happens again, tell the registry's maintainers (nothing was changed)"),
        _ => failure,
    }
}
