//! `history`: when packages came into the lock, moved and left, by which commit.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::charter::LockedCharter;
use bibliotax_core::compare::{Aspect, Change, Kind, compare_packages};
use bibliotax_core::lock::{FILE_NAME as LOCK, changed_charters, changed_lines};
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use jiff::Timestamp;

use crate::context::Context;
use crate::failure::Failure;
use crate::git::WorkingCopy;
use crate::workspace::Manifests;

/// How commits are listed: name, parents, time, author, first line; a commit ends with a separator.
const FORMAT: &str = "--format=%H%x1f%P%x1f%ct%x1f%an%x1f%s%x1e";

/// What is asked.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Only these packages; none for all.
    pub packages: Vec<String>,
    /// Where the history begins to be read: a branch, a tag, a commit.
    pub revision: String,
    /// Most commits that are shown; 0 for all.
    pub most: usize,
}

/// The history of a lock.
pub struct Report {
    /// The commits that changed packages, the newest first.
    pub commits: Vec<CommitChanges>,
    /// Whether there are more.
    pub has_more: bool,
}

/// What a commit changed in the lock.
pub struct CommitChanges {
    /// The commit.
    pub commit: String,
    /// When it was made.
    pub at: Timestamp,
    /// Who made it.
    pub author: String,
    /// The first line of its message.
    pub subject: String,
    /// The packages that it changed.
    pub changes: Vec<PackageChange>,
}

/// What became of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageChange {
    /// The package.
    pub name: PackageName,
    /// What became of it.
    pub kind: Kind,
    /// Its version before.
    pub old: Option<Version>,
    /// Its version after.
    pub new: Option<Version>,
    /// What else differs.
    pub aspects: Vec<Aspect>,
    /// Whether it is a charter.
    pub is_charter: bool,
}

impl From<&Change<'_>> for PackageChange {
    fn from(change: &Change<'_>) -> Self {
        Self {
            name: change.package().name.clone(),
            kind: change.kind.clone(),
            old: change.old.map(|package| package.version.clone()),
            new: change.new.map(|package| package.version.clone()),
            aspects: change.aspects(),
            is_charter: false,
        }
    }
}

impl PackageChange {
    /// What became of a charter; `None` where it is on no side.
    fn of_charter(old: Option<&LockedCharter>, new: Option<&LockedCharter>) -> Option<Self> {
        let (name, kind) = match (old, new) {
            (None, None) => return None,
            (None, Some(new)) => (&new.name, Kind::Added),
            (Some(old), None) => (&old.name, Kind::Gone),
            (Some(old), Some(new)) => match new.version.cmp(&old.version) {
                Ordering::Greater => (&new.name, Kind::Raised),
                Ordering::Less => (&new.name, Kind::Lowered),
                Ordering::Equal => (&new.name, Kind::Changed),
            },
        };
        let version = |charter: &LockedCharter| charter.version.clone();
        let (old, new) = (old.map(version), new.map(version));
        Some(Self { name: name.clone(), kind, old, new, aspects: Vec::new(), is_charter: true })
    }
}

/// What became of the charters of a lock, from one text of it to another.
fn charter_changes(old: &str, new: &str) -> Vec<PackageChange> {
    let [before, after] = changed_charters(old, new);
    let names: BTreeSet<&PackageName> = before.iter().chain(&after).map(|charter| &charter.name).collect();
    let change = |name: &PackageName| {
        let of =
            |charters: &'_ [LockedCharter]| charters.iter().find(|charter| charter.name == *name).cloned();
        PackageChange::of_charter(of(&before).as_ref(), of(&after).as_ref())
    };
    names.into_iter().filter_map(change).collect()
}

/// Reads the history of the lock that a folder's workspace has. Each change stands once, with the commit that made it; of a merge, only
/// what none of its sides had.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let wanted = request.packages.iter().map(|word| Failure::read_word(word));
    let wanted: Vec<PackageName> = wanted.collect::<Result<_, Failure>>()?;
    let root = Manifests::find(context.folder)?.root;
    let copy = WorkingCopy::find(&root)?.ok_or_else(|| {
        Failure::new("compare.unknown", "this project is not in a git repository, so its lock has no history")
            .advice("commit the lock: then `bibliotax history` shows when packages came and went")
    })?;
    if request.revision.starts_with('-') {
        return Err(unknown(&request.revision));
    }
    let revision = copy.commit(&request.revision).ok_or_else(|| unknown(&request.revision))?;
    let path = copy.path_of(&root.join(LOCK)).unwrap_or_else(|| LOCK.to_owned());
    let listed =
        copy.ask(["log", "--full-history", "--topo-order", FORMAT, revision.as_str(), "--", path.as_str()]);
    let mut texts = Texts { copy: &copy, path: &path, known: BTreeMap::new() };
    let mut report = Report { commits: Vec::new(), has_more: false };
    for commit in listed.unwrap_or_default().split('\x1e').filter_map(|text| Commit::of(text.trim_start())) {
        let mut changes = texts.changes_of(&commit);
        changes.retain(|change| wanted.is_empty() || wanted.contains(&change.name));
        if changes.is_empty() {
            continue;
        }
        if request.most > 0 && report.commits.len() == request.most {
            report.has_more = true;
            break;
        }
        let Commit { name, at, author, subject, .. } = commit;
        report.commits.push(CommitChanges { commit: name, at, author, subject, changes });
    }
    Ok(report)
}

fn unknown(revision: &str) -> Failure {
    Failure::new("compare.unknown", format!("`{revision}` isn't a git revision"))
        .advice("name a branch, a tag or a commit: `bibliotax history --from main`")
}

/// A commit as git lists it.
struct Commit {
    name: String,
    parents: Vec<String>,
    at: Timestamp,
    author: String,
    subject: String,
}

impl Commit {
    fn of(text: &str) -> Option<Self> {
        let mut fields = text.split('\x1f');
        let (name, parents) = (fields.next()?.to_owned(), fields.next()?);
        let at = Timestamp::from_second(fields.next()?.parse().ok()?).ok()?;
        let (author, subject) = (fields.next()?.to_owned(), fields.next()?.trim_end().to_owned());
        Some(Self {
            name,
            parents: parents.split_whitespace().map(str::to_owned).collect(),
            at,
            author,
            subject,
        })
    }
}

/// The texts of the lock in commits, each read once for the commits around it.
struct Texts<'t> {
    copy: &'t WorkingCopy,
    path: &'t str,
    known: BTreeMap<String, String>,
}

impl Texts<'_> {
    /// What a commit changed: against its parent, or of a merge, what differs from all parents.
    fn changes_of(&mut self, commit: &Commit) -> Vec<PackageChange> {
        let new = self.at(&commit.name);
        let olds: Vec<String> = commit.parents.iter().map(|parent| self.at(parent)).collect();
        // The next commits are its parents, or theirs.
        self.known.retain(|known, _| commit.parents.contains(known));
        let changes = |old: &str| -> Vec<PackageChange> {
            let [before, after] = changed_lines(old, &new);
            let packages = compare_packages(&before, &after);
            charter_changes(old, &new).into_iter().chain(packages.iter().map(PackageChange::from)).collect()
        };
        let Some((first, others)) = olds.split_first() else { return changes("") };
        let mut found = changes(first);
        for other in others {
            let differing = changes(other);
            found.retain(|change| differing.iter().any(|other| other.name == change.name));
        }
        found
    }

    fn at(&mut self, commit: &str) -> String {
        if let Some(text) = self.known.get(commit) {
            return text.clone();
        }
        let text = self.copy.text(commit, self.path).unwrap_or_default();
        self.known.insert(commit.to_owned(), text.clone());
        text
    }
}
