//! Reads sources outside registries: git repositories, archives, folders.

use toml_edit::{Document, Item, Key, TableLike};

use super::Reader;
use super::fixes::remove_key;
use super::values::{key_span, span};
use crate::card::{ArchiveFormat, CardNeed, FileRecord, main_part};
use crate::digest::Digest;
use crate::fault::Fault;
use crate::file_selection::{FileSelection, SelectsFiles};
use crate::follow::{FOLLOW_KEYS, Follow, FollowKeys};
use crate::inner_path::InnerPath;
use crate::manifest::{DeclaredArchive, DeclaredGit, DeclaredSource, GitPoint, StandIn, StatedCard, syntax};
use crate::name::PackageName;
use crate::source::{CommitId, place_problem, without_user};
use crate::tags::TagPattern;

/// The keys of a need that say where its package comes from, or what it is.
pub const SOURCE_KEYS: [&str; 15] = [
    "path",
    "git",
    "tag",
    "branch",
    "commit",
    "tags",
    "subfolder",
    "archive",
    "sha256",
    "strip",
    "format",
    "include",
    "exclude",
    "card",
    "plain",
];
const OF_GIT: [&str; 5] = ["tag", "branch", "commit", "tags", "subfolder"];
const OF_ARCHIVES: [&str; 3] = ["sha256", "strip", "format"];
pub(super) const STATED_KEYS: [&str; 19] = [
    "version",
    "published",
    "license",
    "needs",
    "fits",
    "programs",
    "summary",
    "description",
    "tags",
    "homepage",
    "repository",
    "upstream",
    "upstream-version",
    "notes",
    "family",
    "provides",
    "conflicts",
    "exposes",
    "steps",
];
/// What only a card in a file of its own says.
const STANDING_KEYS: [&str; 3] = ["name", "files", "follow"];
const FILE_KEYS: [&str; 9] =
    ["part", "for", "url", "sha256", "size", "format", "strip", "include", "exclude"];

/// Reads a card that stands in a file of its own.
pub fn read_stated(text: &str) -> Result<StatedCard, Vec<Fault>> {
    let document = Document::parse(text).map_err(|error| vec![syntax::fault(text, &error)])?;
    let mut reader = Reader::default();
    let card = reader.stated_card(document.as_table(), true);
    if reader.faults.is_empty() { Ok(card) } else { Err(reader.faults) }
}

impl Reader<'_> {
    /// The source that a need's table declares.
    pub(super) fn declared_source(&mut self, table: &dyn TableLike, key: &Key) -> Option<DeclaredSource> {
        self.one_source(table, key);
        self.only_with(table, &OF_GIT, "git", key);
        self.only_with(table, &OF_ARCHIVES, "archive", key);
        self.unpacked_only(table, key);
        let allows_plain = table.get("plain").is_some_and(|item| self.flag(item, "plain"));
        if let Some(item) = table.get("path") {
            return self.folder_path(item).map(DeclaredSource::Folder);
        }
        if let Some(item) = table.get("git") {
            let url = self.place(item, "git")?;
            let at = self.git_point(table, item, key);
            let subfolder = self.inner_folder(table, "subfolder");
            let card = self.card_of_need(table);
            self.no_files(card.as_ref(), table);
            let selection = self.file_selection(table);
            let git = DeclaredGit { url, at: at?, subfolder, selection, card, allows_plain };
            return Some(DeclaredSource::Git(Box::new(git)));
        }
        let item = table.get("archive")?;
        let url = self.place(item, "archive")?;
        let (format, selection) = (self.parsed(table, "format"), self.file_selection(table));
        let strip = self.inner_folder(table, "strip");
        let card = self.card_of_need(table);
        let sha256 = self.archive_digest(table, item, key)?;
        let archive = DeclaredArchive { url, sha256, strip, format, selection, card, allows_plain };
        Some(DeclaredSource::Archive(Box::new(self.packed_as_card_says(archive, table))))
    }

    /// An archive as the need says, or else the file of its card that has the same digest.
    fn packed_as_card_says(&mut self, archive: DeclaredArchive, table: &dyn TableLike) -> DeclaredArchive {
        let files = archive.card.as_ref().map(|card| card.files.clone()).unwrap_or_default();
        if files.is_empty() {
            return archive;
        }
        let Some(file) = files.into_iter().find(|file| file.sha256 == archive.sha256) else {
            let at = table.get("card").map_or(0..0, span);
            let message = "no file of the card has the digest of the archive".to_owned();
            let advice = "remove `files` from the card, or add the archive to it";
            self.faults.push(Fault::new("card.file", message, at).advice(advice));
            return archive;
        };
        let selection = if archive.selection.is_all() { file.selection() } else { archive.selection };
        let (strip, format) = (archive.strip.or(file.strip), archive.format.or(Some(file.format)));
        DeclaredArchive { strip, format, selection, ..archive }
    }

    /// A commit has no archives that a card could name.
    fn no_files(&mut self, card: Option<&StatedCard>, table: &dyn TableLike) {
        if card.is_some_and(|card| !card.files.is_empty()) {
            let at = table.get("card").map_or(0..0, span);
            let message = "`files` of a card has no effect on a git repository".to_owned();
            self.faults.push(Fault::new("card.file", message, at).advice("remove it from the card"));
        }
    }

    /// What stands in for a package.
    pub(super) fn stand_in(&mut self, key: &Key, item: &Item) -> Option<(PackageName, StandIn)> {
        let table = self.table(item, key.get())?;
        self.only_known(table, "a stand-in", &[&SOURCE_KEYS[..], &["version"]].concat());
        let source = self.declared_source(table, key);
        if source.is_none() && self.faults.is_empty() {
            let message = format!("`{}` has no stand-in", key.get());
            let fault = Fault::new("manifest.no-source", message, span(item));
            self.faults.push(fault.advice("write `path = \"../…\"`, or `git = \"…\"` with a branch"));
        }
        let (version, card) = (self.parsed(table, "version"), self.card_of_need(table));
        let stand_in = StandIn { source: source?, version, card, span: key_span(key) };
        Some((self.name(key)?, stand_in))
    }

    /// A package comes from one place.
    fn one_source(&mut self, table: &dyn TableLike, key: &Key) {
        let words = ["from", "path", "git", "archive"].into_iter();
        let said: Vec<&str> = words.filter(|word| table.contains_key(word)).collect();
        if let [one, other, ..] = said.as_slice() {
            let message = format!("`{}` has two sources, {} and {}", key.get(), a(one), a(other));
            let fault =
                Fault::new("manifest.two-sources", message, key_span(key)).advice("remove one of them");
            let fixes = said.iter().filter_map(|word| remove_key(table, word));
            self.faults.push(fault.offering(fixes));
        }
    }

    /// Keys that mean something only beside another one.
    fn only_with(&mut self, table: &dyn TableLike, keys: &[&str], other: &str, key: &Key) {
        for word in keys.iter().filter(|word| table.contains_key(word) && !table.contains_key(other)) {
            let at = table.get_key_value(word).map_or(0..0, |(key, _)| key_span(key));
            let message = format!("`{word}` belongs to {}, which `{}` doesn't have", a(other), key.get());
            let fault = Fault::new("manifest.no-source", message, at).advice("remove it");
            self.faults.push(fault.offering(remove_key(table, word)));
        }
    }

    /// Files are left out of what is unpacked, not of a folder that is used where it is.
    fn unpacked_only(&mut self, table: &dyn TableLike, key: &Key) {
        if table.contains_key("git") {
            return;
        }
        self.only_with(table, &["include", "exclude"], "archive", key);
    }

    /// Which files are taken.
    fn file_selection(&mut self, table: &dyn TableLike) -> FileSelection {
        let (include, exclude) = (self.parsed_list(table, "include"), self.parsed_list(table, "exclude"));
        FileSelection { include, exclude }
    }

    /// Which commits of a repository are meant.
    fn git_point(&mut self, table: &dyn TableLike, git: &Item, key: &Key) -> Option<GitPoint> {
        let words = ["tag", "branch", "commit", "tags"].into_iter();
        let said: Vec<&str> = words.filter(|word| table.contains_key(word)).collect();
        let has_range = table.contains_key("range");
        match (said.as_slice(), has_range) {
            (["commit"], false) => self.parsed::<CommitId>(table, "commit").map(GitPoint::Commit),
            (["tag"], false) => self.git_name(table, "tag").map(GitPoint::Tag),
            (["branch"], false) => self.git_name(table, "branch").map(GitPoint::Branch),
            (["tags"], true) => self.tag_pattern(table).map(GitPoint::Releases),
            ([], true) => Some(GitPoint::Releases(GitPoint::RELEASE_TAGS.to_owned())),
            (said, _) => {
                let message = match said {
                    [] => format!("`{}` doesn't name a commit of its repository", key.get()),
                    _ => format!("`{}` names the commit of its repository in several ways", key.get()),
                };
                let fault = Fault::new("manifest.git", message, span(git));
                self.faults.push(fault.advice(
                    "write one of `tag = \"…\"`, `branch = \"…\"`, `commit = \"…\"`, or `range = \"…\"` for releases by their tags",
                ));
                None
            }
        }
    }

    /// The name of a tag or branch, as far as such names can be (git-check-ref-format).
    fn git_name(&mut self, table: &dyn TableLike, key: &str) -> Option<String> {
        let item = table.get(key)?;
        let name = self.text(item, key)?;
        if is_git_name(&name) {
            return Some(name);
        }
        let message = format!("no {key} can be called `{name}`");
        self.faults.push(Fault::new("manifest.git", message, span(item)));
        None
    }

    fn tag_pattern(&mut self, table: &dyn TableLike) -> Option<String> {
        self.parsed::<TagPattern>(table, "tags").map(|pattern| pattern.to_string())
    }

    /// A URL or a place on this disk, as written.
    fn place(&mut self, item: &Item, key: &str) -> Option<String> {
        let place = self.text(item, key)?;
        let message = match place_problem(&place) {
            None => return Some(place),
            Some(problem) => format!("`{}` {problem}", without_user(&place)),
        };
        self.faults.push(Fault::new("manifest.place", message, span(item)));
        None
    }

    fn inner_folder(&mut self, table: &dyn TableLike, key: &str) -> Option<InnerPath> {
        let item = table.get(key)?;
        self.inner_path(item, key, "manifest.place")
    }

    fn archive_digest(&mut self, table: &dyn TableLike, archive: &Item, key: &Key) -> Option<Digest> {
        if table.contains_key("sha256") {
            return self.parsed(table, "sha256");
        }
        let message =
            format!("the archive of `{}` has no `sha256`, so changes to it wouldn't be noticed", key.get());
        let fault = Fault::new("manifest.no-digest", message, span(archive));
        let url = archive.as_str().unwrap_or_default();
        self.faults.push(fault.advice(format!(
            "`bibliotax need {} --archive {url}` downloads it, shows its contents, and writes the digest",
            key.get()
        )));
        None
    }

    /// What a need says of its package, or a card beside the manifest.
    fn card_of_need(&mut self, table: &dyn TableLike) -> Option<StatedCard> {
        let item = table.get("card")?;
        let Some(path) = item.as_str() else {
            let card = self.table(item, "card")?;
            return Some(self.stated_card(card, false));
        };
        let card = self.cards.and_then(|cards| cards.get(path)).cloned();
        if card.is_none() {
            let message = format!("there is no card `{path}`");
            let fault = Fault::new("manifest.no-card", message, span(item));
            self.faults
                .push(fault.advice("write its path relative to the manifest's folder, ending in .toml"));
        }
        card
    }

    fn stated_card(&mut self, table: &dyn TableLike, in_file: bool) -> StatedCard {
        let more = if in_file { &STANDING_KEYS[..] } else { &[] };
        self.only_known(table, "a card", &[&STATED_KEYS[..], more].concat());
        let needs = table.get("needs").and_then(|item| self.table(item, "needs"));
        let needs = needs.map(|needs| self.card_needs(needs, "a card's"));
        let fits = table.get("fits").and_then(|item| self.table(item, "fits")).map(|fits| self.fits(fits));
        let published = table.get("published").and_then(|item| {
            let text = self.text(item, "published")?;
            let at = text.parse().ok();
            if at.is_none() {
                self.wrong_kind(item, "published", "a time, such as `\"2026-03-01T09:00:00Z\"`");
            }
            at
        });
        StatedCard {
            name: self.parsed(table, "name"),
            version: self.parsed(table, "version"),
            published,
            license: self.parsed(table, "license"),
            needs,
            fits: fits.unwrap_or_default(),
            programs: self.ranges(table, "programs"),
            files: if in_file { self.tables(table, "files", Self::file_elsewhere) } else { Vec::new() },
            follow: table.get("follow").filter(|_| in_file).and_then(|item| self.follow(item)),
            part: self.card_part(table),
        }
    }

    /// Where releases appear.
    fn follow(&mut self, item: &Item) -> Option<Follow> {
        let table = self.table(item, "follow")?;
        self.only_known(table, "`follow`", &FOLLOW_KEYS);
        let mut text = |key| table.get(key).and_then(|item| self.text(item, key));
        let [git, tags, page, links, registry, archive] =
            ["git", "tags", "page", "links", "registry", "archive"].map(&mut text);
        let keys = FollowKeys {
            git,
            tags,
            page,
            links,
            registry,
            archive,
            package: self.parsed(table, "package"),
            prereleases: table.get("prereleases").is_some_and(|item| self.flag(item, "prereleases")),
        };
        let follow = Follow::try_from(keys);
        follow.map_err(|fault| self.faults.push(Fault { span: span(item), ..fault })).ok()
    }

    /// An archive that stays where it is.
    fn file_elsewhere(&mut self, item: &Item, table: &dyn TableLike) -> Option<FileRecord> {
        self.only_known(table, "a file", &FILE_KEYS);
        for key in ["url", "sha256", "size"].into_iter().filter(|key| !table.contains_key(key)) {
            let fault = Fault::new("card.file", format!("a file of a card has no `{key}`"), span(item));
            self.faults.push(fault.advice("URL, SHA-256 and size are required; `bibliotax registry load --fetch` fills in what follows from the URL"));
        }
        let url = table.get("url").and_then(|item| self.place(item, "url"))?;
        let format = match table.get("format") {
            Some(item) => self.parse(item, "format"),
            None => self.format_in_name(&url, span(item)),
        };
        let size = table.get("size").and_then(Item::as_integer).and_then(|size| u64::try_from(size).ok());
        if let (Some(item), None) = (table.get("size"), size) {
            self.wrong_kind(item, "size", "a number of bytes");
        }
        Some(FileRecord {
            part: if table.contains_key("part") { self.parsed(table, "part")? } else { main_part() },
            only_for: self.only_for(table),
            sha256: self.parsed(table, "sha256")?,
            size: size?,
            format: format?,
            strip: self.inner_folder(table, "strip"),
            include: self.parsed_list(table, "include"),
            exclude: self.parsed_list(table, "exclude"),
            url: Some(url),
        })
    }

    /// How an archive is packed that nobody looks into here, by its name.
    fn format_in_name(&mut self, url: &str, at: std::ops::Range<usize>) -> Option<ArchiveFormat> {
        let path = url.split(['?', '#']).next().unwrap_or(url);
        let format = ArchiveFormat::of_file_name(path);
        if format.is_none() {
            let message = format!("the name of `{url}` doesn't tell how the archive is packed");
            let known = ArchiveFormat::ALL.map(|format| format.to_string()).join(", ");
            let fault = Fault::new("card.file", message, at);
            self.faults.push(fault.advice(format!("write `format = \"…\"`, one of {known}")));
        }
        format
    }

    /// Needs as a card has them, without what only a project can say.
    pub(super) fn card_needs(&mut self, table: &dyn TableLike, whose: &str) -> Vec<CardNeed> {
        self.entries(table, |reader, key, item| reader.card_need(key, item, whose))
    }
}

fn a(word: &str) -> String {
    if word == "archive" { "an `archive`".to_owned() } else { format!("a `{word}`") }
}

/// Whether a tag or branch can be called so; beside git's own rules nothing that could be taken for an option.
fn is_git_name(name: &str) -> bool {
    let is_bad = |c: char| c.is_control() || " ~^:?*[\\".contains(c);
    let is_part = |part: &str| !part.is_empty() && !part.starts_with('.') && !part.ends_with(".lock");
    !name.is_empty()
        && name.len() <= 255
        && !name.contains(is_bad)
        && !name.contains("..")
        && !name.contains("@{")
        && !name.starts_with('-')
        && !name.ends_with('.')
        && name.split('/').all(is_part)
}
