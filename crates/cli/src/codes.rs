//! Every error code, what it means, and the exit status that it leads to: the one place for all three.
//!
//! `docs/errors.md` lists the same codes; a test holds the two together.

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    Done,
    Differs,
    Usage,
    Input,
    Unsolved,
    Unreachable,
    Integrity,
    Forbidden,
    Defect,
    Disk,
    /// As a program ended that was run.
    Passed(u8),
}

impl Exit {
    pub fn status(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Differs => 1,
            Self::Usage => 2,
            Self::Input => 3,
            Self::Unsolved => 4,
            Self::Unreachable => 5,
            Self::Integrity => 6,
            Self::Forbidden => 7,
            Self::Defect => 70,
            Self::Disk => 74,
            Self::Passed(status) => status,
        }
    }
}

/// The exit status of a code; a code that is not listed is a defect.
pub fn exit_of(code: &str) -> Exit {
    CODES.iter().find(|(known, ..)| *known == code).map_or(Exit::Defect, |(_, exit, _)| *exit)
}

/// Code, exit status, meaning; sorted by code.
pub const CODES: &[(&str, Exit, &str)] = &[
    ("archive.broke-off", Exit::Unreachable, "an archive broke off on its way"),
    ("archive.changed", Exit::Integrity, "an archive is not the one whose digest the manifest has"),
    ("archive.gone", Exit::Integrity, "there is no archive any more where one was locked"),
    ("archive.refused", Exit::Integrity, "an archive holds something that no package may hold"),
    ("archive.two-parts", Exit::Integrity, "two parts of a package hold the same file"),
    ("archive.unreadable", Exit::Integrity, "an archive is not of the format that its card says"),
    ("archive.wrong-bytes", Exit::Integrity, "an archive's bytes are not those that the lock names"),
    ("bucket.failed", Exit::Unreachable, "a bucket refuses, or can't be reached"),
    ("card.exposes-nothing", Exit::Input, "a path of `[card.exposes]` is not among the published files"),
    ("card.facet", Exit::Input, "a card says of a facet what the registry doesn't know"),
    ("card.file", Exit::Input, "a file of a card lacks something"),
    (
        "card.hidden-letter",
        Exit::Input,
        "a text of a release has a letter that a terminal acts on or nobody sees",
    ),
    (
        "card.inner-url",
        Exit::Integrity,
        "a card names an archive at a place that only this machine or its network reaches",
    ),
    ("card.no-part", Exit::Input, "a component brings a part that the release hasn't"),
    ("card.no-pattern", Exit::Input, "a pattern of `[card] files` can't be read"),
    ("card.steps", Exit::Input, "a release wants too much done by hand, or says too much of it"),
    ("card.tags", Exit::Input, "a package wants to be found by too many words"),
    ("card.tie", Exit::Input, "it can't be told which of a part's files a target takes"),
    ("card.two-steps", Exit::Input, "two steps of a card have one name"),
    ("check.findings", Exit::Differs, "something is wrong or worth a look in a workspace"),
    ("commit.invalid", Exit::Input, "a text is no commit"),
    ("compare.unknown", Exit::Usage, "a word names no lock to compare"),
    ("credentials.host", Exit::Usage, "a word names no host that could be opened"),
    ("credentials.unusable", Exit::Input, "what opens a host can't be used or kept"),
    ("defect", Exit::Defect, "bibliotax itself is wrong"),
    ("demo.not-empty", Exit::Usage, "the demo's folder is in use"),
    ("digest.invalid", Exit::Input, "a text is no SHA-256 digest"),
    ("disk.denied", Exit::Disk, "there is no permission for a file or folder"),
    ("disk.failed", Exit::Disk, "a disk refused for another reason"),
    ("disk.foreign", Exit::Disk, "a link, or something that bibliotax didn't make, is in the way"),
    ("disk.full", Exit::Disk, "no space is left on a disk"),
    ("disk.missing", Exit::Disk, "a file or folder isn't there"),
    ("disk.read-only", Exit::Disk, "a disk can't be written"),
    (
        "environment.switch",
        Exit::Usage,
        "a variable of the environment that is on or off says something else",
    ),
    ("event.no-reason", Exit::Unreachable, "a withdrawal or deprecation has no reason"),
    ("event.no-room", Exit::Unreachable, "a package's history would become longer than everybody can read"),
    (
        "event.wrong-reason",
        Exit::Unreachable,
        "the reason of a withdrawal or deprecation is too long or has hidden letters",
    ),
    ("explain.not-here", Exit::Usage, "a package that was asked about is not in the lock"),
    ("facet.clash", Exit::Input, "a facet has two definitions"),
    ("facet.file", Exit::Input, "a file of facets can't be read"),
    ("facet.value", Exit::Input, "a target or promise says what a facet can't be"),
    ("file.no-text", Exit::Input, "a file that should hold a text is too long, or holds something else"),
    ("fit.words", Exit::Usage, "a level or target to try out is not written as one"),
    ("git.bad-tree", Exit::Integrity, "a commit holds a path that can't be installed"),
    ("git.failed", Exit::Unreachable, "git could not do what it was told"),
    ("git.missing", Exit::Usage, "git is not on this machine"),
    ("git.moved-tag", Exit::Integrity, "a tag leads to another commit than when it was locked"),
    ("git.no-commit", Exit::Unsolved, "a git repository has no such commit, branch, tag or folder"),
    (
        "git.offline",
        Exit::Unreachable,
        "something of a git repository was never fetched, and nobody may be asked now",
    ),
    ("init.exists", Exit::Input, "there is a manifest already"),
    ("install.not-for-machine", Exit::Unsolved, "a package has no files for this machine"),
    ("install.purpose", Exit::Usage, "nothing is needed for a purpose that is to be left out"),
    ("install.target", Exit::Usage, "a target to install for is not declared"),
    ("kit.cut-short", Exit::Integrity, "a kit lacks something that belongs to it"),
    ("kit.newer", Exit::Input, "a newer version of bibliotax made a kit"),
    ("kit.none", Exit::Input, "a file is no kit"),
    ("kit.wrong", Exit::Integrity, "a kit holds something else than it says"),
    ("license.invalid", Exit::Input, "a text is no SPDX licence expression"),
    ("links.template", Exit::Input, "a template of links can't be rendered"),
    ("lock.broken", Exit::Input, "the lock can't be read"),
    ("lock.conflict", Exit::Input, "the lock has both sides of a merge"),
    ("lock.cut-short", Exit::Input, "the lock ends too early"),
    ("lock.edited", Exit::Input, "the lock is not what its digest says"),
    ("lock.inconsistent", Exit::Input, "what a lock says of a package doesn't go with the rest of it"),
    (
        "lock.mismatch",
        Exit::Integrity,
        "a lock says something else than the manifests or the cards of its releases",
    ),
    ("lock.missing", Exit::Input, "there is no lock, and none may be written"),
    ("lock.newer", Exit::Input, "a newer version of bibliotax wrote the lock"),
    ("lock.replaced", Exit::Forbidden, "something stands in for packages where all is to be as published"),
    ("lock.stale", Exit::Differs, "the lock is not made from the manifest as it is"),
    ("manifest.component-need", Exit::Input, "a component's need says what only a project can"),
    ("manifest.conflict", Exit::Input, "the manifest has both sides of a merge"),
    ("manifest.curly-quotes", Exit::Input, "curly quotes stand where straight ones belong"),
    ("manifest.duplicate-key", Exit::Input, "a key stands twice in one table"),
    ("manifest.empty", Exit::Input, "the manifest is empty"),
    ("manifest.facet", Exit::Input, "a facet is of no known kind"),
    ("manifest.git", Exit::Input, "it isn't said, or can't be, which commit of a repository is meant"),
    ("manifest.link", Exit::Input, "the shelf is to be made in a way that there isn't"),
    ("manifest.missing", Exit::Input, "there is no manifest here or above"),
    ("manifest.missing-comma", Exit::Input, "a comma is missing"),
    ("manifest.no-card", Exit::Input, "a need names a card that isn't there"),
    ("manifest.no-digest", Exit::Input, "an archive has no digest"),
    ("manifest.no-family", Exit::Input, "a need has the range of a family that isn't declared"),
    ("manifest.no-project", Exit::Input, "the manifest doesn't name its project"),
    ("manifest.no-range", Exit::Input, "a need doesn't say which versions will do"),
    ("manifest.no-shared", Exit::Input, "a need has the workspace's range for a package, and there is none"),
    ("manifest.no-source", Exit::Input, "a need says something of a source that it hasn't"),
    ("manifest.no-url", Exit::Input, "a registry doesn't say where it is"),
    ("manifest.no-version", Exit::Input, "a project without a version can't be published"),
    (
        "manifest.part",
        Exit::Input,
        "a part doesn't say what it is made from, or it is no folder of the project",
    ),
    ("manifest.path", Exit::Input, "a need names a folder that not everybody has"),
    ("manifest.place", Exit::Input, "a text is no place that a package can come from"),
    ("manifest.purpose", Exit::Input, "a purpose has a name that means something else"),
    ("manifest.rule", Exit::Input, "a rule says what no rule can"),
    ("manifest.step", Exit::Input, "a step lacks something, or says what it can't"),
    ("manifest.syntax", Exit::Input, "the manifest can't be read as TOML"),
    ("manifest.target", Exit::Input, "a target has a name that means something else"),
    ("manifest.task", Exit::Input, "a task can't be run as it is written"),
    ("manifest.two-ranges", Exit::Input, "a need has a range and a family"),
    ("manifest.two-sources", Exit::Input, "a need names two places to take a package from"),
    ("manifest.unknown-key", Exit::Input, "a key has no meaning where it stands"),
    ("manifest.unknown-registry", Exit::Input, "a need names a registry that isn't declared"),
    ("manifest.unknown-target", Exit::Input, "a need is for a target that isn't declared"),
    ("manifest.unquoted-name", Exit::Input, "a name with a `/` stands without quotes"),
    ("manifest.unquoted-value", Exit::Input, "a text stands without quotes"),
    ("manifest.unreadable", Exit::Input, "the manifest is too large or no text"),
    ("manifest.wrong-kind", Exit::Input, "a value is of the wrong kind"),
    ("mirror.behind", Exit::Integrity, "a mirror lacks what was seen of a package before"),
    ("mirror.other-history", Exit::Integrity, "a mirror has events that its registry hasn't"),
    ("mirror.wrong-bytes", Exit::Integrity, "a file for a mirror is not what its digest says"),
    ("name.invalid", Exit::Input, "a text can't be a name"),
    ("need.no-component", Exit::Usage, "no release of a package has a component that is asked for"),
    ("need.not-declared", Exit::Usage, "a package to drop isn't declared"),
    ("need.words", Exit::Usage, "the words behind `need` are no packages and ranges"),
    ("output.lost", Exit::Disk, "the results of a command can't be written to the standard output"),
    ("package.ambiguous", Exit::Input, "two registries hold a name, and nothing says which is meant"),
    ("package.unknown", Exit::Unsolved, "no registry holds a name"),
    ("path.invalid", Exit::Input, "a path leads out of its folder, or some system can't have it"),
    ("publish.clash", Exit::Input, "two files differ in case only"),
    ("publish.link", Exit::Input, "a link or special file can't be published"),
    ("publish.nothing", Exit::Input, "there are no files to publish"),
    ("publish.path", Exit::Input, "a file's path is not possible on every system"),
    ("publish.replaced", Exit::Forbidden, "something stands in for a package in the workspace of a release"),
    (
        "publish.unpublished",
        Exit::Unsolved,
        "something that comes from elsewhere isn't published where this is to go",
    ),
    ("publish.where", Exit::Usage, "it isn't said which registry to publish to"),
    ("range.empty", Exit::Input, "no version can be in a range"),
    ("range.scheme", Exit::Input, "a VERS range is of a scheme that can't be compared"),
    ("range.unexpected", Exit::Input, "a text is no range"),
    ("registry.bad-line", Exit::Input, "a line of a file to load is wrong"),
    ("registry.broken", Exit::Integrity, "a registry's files can't be read"),
    ("registry.changed-history", Exit::Integrity, "a registry changed what it had published of a package"),
    ("registry.changed-release", Exit::Integrity, "a locked release is another in its registry now, or gone"),
    ("registry.exists", Exit::Unreachable, "a release exists and is never replaced"),
    ("registry.missing", Exit::Unreachable, "there is no registry where the manifest says"),
    ("registry.name-taken", Exit::Input, "a name would stand for a package and for a capability"),
    ("registry.newer", Exit::Unreachable, "a newer version of bibliotax made the registry"),
    ("registry.no-file", Exit::Unreachable, "the registry lacks an archive"),
    ("registry.no-list", Exit::Unreachable, "a registry doesn't list its packages"),
    ("registry.none", Exit::Input, "the manifest declares no registry"),
    ("registry.not-empty", Exit::Input, "the folder for a new registry is in use"),
    ("registry.offline", Exit::Unreachable, "something was never asked for, and nobody may be asked now"),
    ("registry.only-files", Exit::Unreachable, "a registry can't be published to over the network"),
    (
        "registry.other-host",
        Exit::Integrity,
        "a registry sends us to another host, and the manifest doesn't say that this is right",
    ),
    ("registry.plain", Exit::Input, "a registry would be asked without encryption"),
    ("registry.read-only", Exit::Unreachable, "a copy in front of another registry can only be read"),
    ("registry.refused", Exit::Unreachable, "a registry refuses"),
    ("registry.scheme", Exit::Input, "a registry is at a kind of URL that this version doesn't speak"),
    ("registry.undeclared", Exit::Input, "the lock names a registry that the manifest doesn't declare"),
    ("registry.unreachable", Exit::Unreachable, "a registry can't be reached"),
    ("registry.wrong-answer", Exit::Unreachable, "a registry's answer can't be used"),
    ("registry.wrong-card", Exit::Integrity, "a card is not what the registry's list names"),
    ("resolve.conflict", Exit::Unsolved, "no set of releases satisfies all needs"),
    ("resolve.gave-up", Exit::Unsolved, "no answer was found in the time there was"),
    ("serve.address", Exit::Usage, "a server can't listen on an address"),
    ("serve.certificate", Exit::Input, "a certificate or key can't be used"),
    ("serve.plain", Exit::Usage, "a server would be reached by others without encryption"),
    ("server.bad-json", Exit::Unreachable, "a server can't read what it was sent"),
    ("server.bad-request", Exit::Unreachable, "a server can't make sense of a request"),
    ("server.broken", Exit::Unreachable, "something is wrong with a server"),
    ("server.method", Exit::Unreachable, "a server doesn't do that at this place"),
    ("server.not-found", Exit::Unreachable, "a server has nothing at this place"),
    ("server.not-ready", Exit::Unreachable, "a server can't reach its registry"),
    ("server.too-large", Exit::Unreachable, "a server takes less at once"),
    ("server.too-long", Exit::Unreachable, "a server was not done in time"),
    ("server.too-many", Exit::Unreachable, "a server was asked too much at once"),
    ("shelf.link", Exit::Disk, "a disk can't put files on the shelf in the way that is asked for"),
    ("source.manifest", Exit::Input, "the manifest of a package in its source is wrong"),
    ("source.other-name", Exit::Input, "a source holds a package of another name"),
    ("step.unknown", Exit::Usage, "no package of the lock has such a step"),
    ("step.which", Exit::Usage, "it isn't said where a step was done, or which one is meant"),
    ("store.damaged", Exit::Disk, "the store's copy of a package is damaged, again and again"),
    ("store.lost", Exit::Disk, "another process took something out of the store that was being used"),
    ("store.newer", Exit::Disk, "a newer version of bibliotax made the store"),
    ("task.no-program", Exit::Passed(127), "there is no program of a name"),
    ("task.not-started", Exit::Passed(126), "a program can't be started"),
    ("task.unknown", Exit::Usage, "the manifest has no such task"),
    ("task.which-target", Exit::Usage, "it isn't said for which target a program is run"),
    ("token.missing", Exit::Usage, "there is no token to publish with"),
    ("token.none", Exit::Usage, "a registry has no such token"),
    ("token.not-for-that", Exit::Unreachable, "a token doesn't allow what was asked"),
    ("token.unknown", Exit::Unreachable, "a server wants a token, or doesn't know the one that it got"),
    ("upload.busy", Exit::Unreachable, "a file is being uploaded by somebody else"),
    ("upload.gap", Exit::Unreachable, "a piece of an upload doesn't begin where the last one ended"),
    ("upload.missing", Exit::Unreachable, "a card names files that were not uploaded"),
    ("upload.no-length", Exit::Unreachable, "an upload doesn't say how long it is"),
    (
        "upload.no-room",
        Exit::Unreachable,
        "uploads that no release names yet fill all the room that a server has for them",
    ),
    ("upload.too-large", Exit::Unreachable, "an upload is larger than the server takes"),
    ("upload.wrong-bytes", Exit::Integrity, "uploaded bytes are not those of their digest"),
    ("verify.differs", Exit::Differs, "the shelf is not what was installed"),
    ("version.invalid", Exit::Input, "a text is no version"),
    ("workspace.circle", Exit::Input, "members of a workspace need each other in a circle"),
    ("workspace.differs", Exit::Input, "members of a workspace say one thing differently"),
    ("workspace.in-workspace", Exit::Input, "a member of a workspace is itself one, and no project"),
    ("workspace.no-member", Exit::Input, "a workspace lists a folder in which there is no project"),
    ("workspace.no-members", Exit::Input, "a workspace has no members yet"),
    ("workspace.no-project", Exit::Input, "there is no project in a folder that is needed"),
    ("workspace.not-listed", Exit::Input, "a project lies in a workspace that doesn't list it"),
    ("workspace.other-name", Exit::Input, "the project in a folder has another name than the need"),
    ("workspace.root-only", Exit::Input, "a member says what only the workspace's root can"),
    ("workspace.two-members", Exit::Input, "two members of a workspace have one name"),
    ("workspace.unknown-member", Exit::Usage, "a workspace has no such member"),
    ("workspace.which-member", Exit::Usage, "it isn't said which member of a workspace is meant"),
];

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    /// The sources of all crates, this file aside.
    fn sources() -> String {
        fn read(folder: &std::path::Path, all: &mut String) {
            for entry in std::fs::read_dir(folder).unwrap().flatten() {
                let path = entry.path();
                if path.is_dir() && !path.ends_with("target") {
                    read(&path, all);
                } else if path.extension().is_some_and(|e| e == "rs") && !path.ends_with("codes.rs") {
                    all.push_str(&std::fs::read_to_string(path).unwrap());
                }
            }
        }
        let mut all = String::new();
        read(&std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(".."), &mut all);
        all
    }

    /// The codes that the sources make failures and faults of.
    fn used(sources: &str) -> BTreeSet<&str> {
        let calls = ["Fault::new(", "Failure::new("].into_iter();
        let behind = calls.flat_map(|call| sources.split(call).skip(1));
        let codes = behind.filter_map(|text| text.trim_start().strip_prefix('"')?.split('"').next());
        codes.collect()
    }

    #[test]
    fn codes_are_sorted_used_and_documented() {
        let docs = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/errors.md");
        let docs = std::fs::read_to_string(docs).unwrap();
        let sources = sources();
        assert!(CODES.is_sorted_by_key(|(code, ..)| *code));
        for (code, exit, meaning) in CODES {
            assert!(sources.contains(&format!("\"{code}\"")), "{code} is used nowhere");
            let row = format!("| `{code}` | {} | {meaning} |", exit.status());
            assert!(docs.contains(&row), "docs/errors.md lacks: {row}");
        }
        assert_eq!(
            docs.matches("\n| `").count(),
            CODES.len(),
            "docs/errors.md lists codes that there are not"
        );
        for code in used(&sources) {
            assert!(CODES.iter().any(|(known, ..)| *known == code), "{code} is not listed");
        }
    }
}
