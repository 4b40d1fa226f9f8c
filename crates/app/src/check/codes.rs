//! What the codes of findings mean, and what to do; `docs/errors.md` lists them.

/// A kind of finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FindingCode {
    /// Its stable code.
    pub code: &'static str,
    /// What it means, in a few words.
    pub meaning: &'static str,
    /// What to do.
    pub help: &'static str,
}

/// All codes that `check` makes itself, sorted; what is wrong with the lock's text has those of errors.
pub const FINDING_CODES: &[FindingCode] = &[
    of(
        "advisories.away",
        "a feed of advisories can't be read",
        "check its place in the manifest, or the network",
    ),
    of(
        "advisories.old",
        "a feed was fetched longer ago than `max-feed-age`",
        "run `bibliotax check` with a network",
    ),
    of(
        "advisories.unreadable",
        "records of a feed can't be read",
        "tell whoever keeps the feed; the others count",
    ),
    of(
        "bill.bytes",
        "a bill of materials lists a locked release with another digest",
        "find out where the file comes from; `bibliotax export` writes it anew",
    ),
    of(
        "bill.extra",
        "a bill of materials lists what the lock doesn't have",
        "`bibliotax export` writes it anew",
    ),
    of(
        "bill.missing",
        "a bill of materials doesn't list what the lock has",
        "`bibliotax export` writes it anew",
    ),
    of(
        "bill.version",
        "a bill of materials lists another version than the locked one",
        "`bibliotax export` writes it anew",
    ),
    of(
        "charter.contradiction",
        "no version of a package is in the ranges of two charters",
        "except the package from one of them",
    ),
    of("charter.exception-unused", "an exception from a charter excepts nothing any more", "remove it"),
    of(
        "charter.own-range",
        "a need has its own range, and a charter has one for the package",
        "write `\"charter\"` in place of the range",
    ),
    of(
        "charter.strays",
        "a locked release is outside of what a charter allows",
        "update the package, or give the exception a reason that holds",
    ),
    of("charter.unused", "a charter has ranges that nobody uses here", "nothing; it is good to know"),
    of(
        "drift",
        "projects declare a package with different ranges",
        "`bibliotax check --unify` writes one shared range",
    ),
    of(
        "license-text",
        "a licence text in a locked package is that of another licence than the declared one",
        "read the text; then correct the card, or tell its publisher",
    ),
    of("lock.missing", "there is no lock yet", "`bibliotax install` creates it"),
    of("lock.stale", "manifests changed since the lock was written", "`bibliotax install` updates it"),
    of(
        "rules.advisories",
        "an advisory affects a locked release",
        "`bibliotax update --advisories`; or a waiver with a VEX status",
    ),
    of("rules.barred", "the rules bar a locked release by name", "`bibliotax update --comply`"),
    of("rules.deprecated", "a locked release is deprecated", "`bibliotax newer` shows what there is instead"),
    of(
        "rules.licenses",
        "the rules refuse the licence of a locked release, or a person has to accept it",
        "`bibliotax update --comply`, or `bibliotax accept PACKAGE`",
    ),
    of("rules.max-age", "the newest release of a package is old", "look whether somebody still maintains it"),
    of(
        "rules.min-age",
        "a locked release is younger than the rules allow",
        "`bibliotax update --comply`, or wait",
    ),
    of("rules.moving", "a package is the tip of a branch", "take a tag or a commit instead"),
    of(
        "rules.sources",
        "a package comes from a source that the rules don't allow",
        "`bibliotax update --comply`",
    ),
    of("rules.stand-ins", "the rules refuse stand-ins", "remove it from `[stand-ins]`"),
    of("rules.waiver-ended", "a waiver ended", "fix what it excepted, or give it a new end"),
    of("rules.waiver-unused", "a waiver excepts nothing any more", "remove it"),
    of("rules.withdrawn", "a locked release was withdrawn", "`bibliotax newer` shows what there is instead"),
    of("shared-name", "several registries have a package of one name", "say which one with `owns` or `from`"),
    of("shelf.stale", "the shelf isn't what the lock says", "`bibliotax install` updates it"),
    of(
        "stood-in",
        "something stands in for a package",
        "remove it from `[stand-ins]` when it is no longer needed",
    ),
];

const fn of(code: &'static str, meaning: &'static str, help: &'static str) -> FindingCode {
    FindingCode { code, meaning, help }
}

/// What a code means.
pub fn finding_code(code: &str) -> Option<&'static FindingCode> {
    FINDING_CODES.iter().find(|known| known.code == code)
}
