//! A commit as a package: its files and those of its submodules, as a reproducible tar.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout};

use bibliotax_archive::pack::header;
use bibliotax_core::escape::escaped;
use bibliotax_core::file_selection::FileSelection;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::source::CommitId;
use bibliotax_disk::DiskError;

use super::process::start;
use super::repository::{Repository, Wanted};
use crate::model::error::RegistryError;

/// Deepest nesting of submodules.
const MAX_DEPTH: usize = 8;

/// Longest target of a link, in bytes.
const MAX_TARGET_LEN: u64 = 4096;

/// How much of a foreign name is shown, in bytes.
const MAX_SHOWN_LEN: usize = 200;

/// A file of a commit.
struct Blob {
    /// Its path in the package.
    path: Vec<u8>,
    object: String,
    kind: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    File,
    Program,
    Link,
    Submodule,
}

/// Finds the repository of a submodule by its URL, as it stands in the repository that has it.
pub type OpenSubmodule<'o> = dyn Fn(&Repository, &str) -> Result<Repository, RegistryError> + 'o;

/// What of a repository is a package.
pub struct WantedTree<'w> {
    /// The commit.
    pub commit: &'w CommitId,
    /// The folder of it that is the package, where that isn't all.
    pub subfolder: Option<&'w InnerPath>,
    /// Which files are taken later: a submodule of which none are isn't fetched.
    pub selection: &'w FileSelection,
    /// Finds the repositories of submodules.
    pub open: &'w OpenSubmodule<'w>,
}

/// Writes a commit, or a folder of it, as a tar: sorted by path, without times or owners. Submodules are fetched and go along, but for
/// those that are left out.
pub fn write_tree(
    repository: &Repository,
    wanted: &WantedTree<'_>,
    into: impl Write,
) -> Result<(), RegistryError> {
    let mut parts = Vec::new();
    gather(repository, wanted, b"", MAX_DEPTH, &mut parts)?;
    let mut files: Vec<(usize, Blob)> = Vec::new();
    for (number, (_, blobs)) in parts.iter_mut().enumerate() {
        files.extend(blobs.drain(..).map(|blob| (number, blob)));
    }
    files.sort_by(|(_, one), (_, other)| one.path.cmp(&other.path));
    let mut readers: Vec<Objects> = Vec::new();
    for (repository, _) in &parts {
        readers.push(Objects::of(repository)?);
    }
    let mut tar = tar::Builder::new(into);
    for (number, blob) in &files {
        readers[*number].append(&mut tar, blob)?;
    }
    let finished = tar.into_inner().and_then(|mut inner| inner.flush());
    Ok(finished.map_err(|error| DiskError::new("write", "the files of a commit", error))?)
}

type Part = (Repository, Vec<Blob>);

/// Gathers the files of a commit and of its submodules, below `prefix`.
fn gather(
    repository: &Repository,
    wanted: &WantedTree<'_>,
    prefix: &[u8],
    deep: usize,
    parts: &mut Vec<Part>,
) -> Result<(), RegistryError> {
    let WantedTree { commit, subfolder, selection, .. } = *wanted;
    repository.fetch(&[commit], if subfolder.is_some() { Wanted::Names } else { Wanted::All })?;
    let listed = repository.names(commit, subfolder)?.ok_or_else(|| {
        let subfolder = subfolder.map(ToString::to_string).unwrap_or_default();
        let what = format!("commit {} has no folder `{subfolder}`", commit.short());
        RegistryError::NoCommit { url: repository.url().to_owned(), what }
    })?;
    let blobs = blobs(&listed, prefix, repository)?;
    let (modules, blobs): (Vec<Blob>, Vec<Blob>) =
        blobs.into_iter().partition(|blob| blob.kind == Kind::Submodule);
    let objects: Vec<&str> = blobs.iter().map(|blob| blob.object.as_str()).collect();
    repository.fetch_files(commit, &objects)?;
    if !modules.is_empty() {
        if deep == 0 {
            let what = "its submodules lie too deep in each other".to_owned();
            return Err(RegistryError::Git { url: repository.url().to_owned(), what });
        }
        let urls = submodules(repository, commit)?;
        for module in modules {
            let path = String::from_utf8(module.path).map_err(|_| strange(repository))?;
            if selection.leaves_out_all_below(&path) {
                continue;
            }
            let inner = path[prefix.len()..].to_owned();
            let inner = subfolder.map_or(inner.clone(), |subfolder| format!("{subfolder}/{inner}"));
            let url = urls.iter().find(|(path, _)| *path == inner).map(|(_, url)| url.as_str());
            let url = url.ok_or_else(|| {
                let what = format!("it has no URL for its submodule `{inner}`");
                RegistryError::Git { url: repository.url().to_owned(), what }
            })?;
            let theirs = (wanted.open)(repository, url)?;
            let commit: CommitId = module.object.parse().map_err(|_| strange(repository))?;
            let inside = WantedTree { commit: &commit, subfolder: None, ..*wanted };
            gather(&theirs, &inside, format!("{path}/").as_bytes(), deep - 1, parts)?;
        }
    }
    parts.push((repository.clone(), blobs));
    Ok(())
}

/// What `git ls-tree -z` lists: `MODE KIND OBJECT TAB PATH NUL` for each. Unpacking reports names that no package can have,
/// all together and only if they are taken; those that lead out are in no honest repository.
fn blobs(listed: &[u8], prefix: &[u8], repository: &Repository) -> Result<Vec<Blob>, RegistryError> {
    let mut blobs = Vec::new();
    for line in listed.split(|byte| *byte == 0).filter(|line| !line.is_empty()) {
        let tab = line.iter().position(|byte| *byte == b'\t').ok_or_else(|| strange(repository))?;
        let (about, path) = (String::from_utf8_lossy(&line[..tab]), &line[tab + 1..]);
        let mut words = about.split(' ');
        let (mode, object) = (words.next(), words.nth(1));
        let kind = match mode {
            Some("100755") => Kind::Program,
            Some("120000") => Kind::Link,
            Some("160000") => Kind::Submodule,
            _ => Kind::File,
        };
        let object = object.ok_or_else(|| strange(repository))?.to_owned();
        if path.split(|byte| *byte == b'/').any(|part| matches!(part, b"" | b"." | b"..")) {
            let shown = String::from_utf8_lossy(path);
            let what = format!("`{}` isn't a path inside a package", cut(&escaped(&shown)));
            return Err(RegistryError::BadTree { url: repository.url().to_owned(), what });
        }
        blobs.push(Blob { path: [prefix, path].concat(), object, kind });
    }
    Ok(blobs)
}

/// The beginning of a name: enough to know it by.
fn cut(name: &str) -> &str {
    &name[..name.floor_char_boundary(MAX_SHOWN_LEN)]
}

/// The paths of a commit's submodules with their URLs, as `.gitmodules` says.
fn submodules(repository: &Repository, commit: &CommitId) -> Result<Vec<(String, String)>, RegistryError> {
    // Read through the object, which may have to be fetched first.
    if repository.text(commit, ".gitmodules")?.is_none() {
        return Ok(Vec::new());
    }
    let asked = [
        "config",
        "-z",
        &format!("--blob={commit}:.gitmodules"),
        "--get-regexp",
        r"^submodule\..*\.(path|url)$",
    ];
    let said = repository.run(&asked, "").map_err(|refused| refused.about(repository.url()))?;
    let said = String::from_utf8_lossy(&said).into_owned();
    let pairs: Vec<(&str, &str)> = said.split('\0').filter_map(|pair| pair.split_once('\n')).collect();
    let urls = |name: &str| pairs.iter().find(|(key, _)| key.strip_suffix(".url") == Some(name));
    let paths = pairs.iter().filter_map(|(key, path)| Some((key.strip_suffix(".path")?, path)));
    let found = paths.filter_map(|(name, path)| Some(((*path).to_owned(), urls(name)?.1.to_owned())));
    Ok(found.collect())
}

/// The objects of a repository, asked for one after the other.
struct Objects {
    child: Child,
    ask: ChildStdin,
    answers: BufReader<ChildStdout>,
    url: String,
}

impl Objects {
    fn of(repository: &Repository) -> Result<Self, RegistryError> {
        let started = start(repository.place(), &["cat-file", "--batch"]);
        let mut child = started.map_err(|refused| refused.about(repository.url()))?;
        let pipes = child.stdin.take().zip(child.stdout.take());
        let (ask, answers) = pipes.ok_or_else(|| strange(repository))?;
        Ok(Self { child, ask, answers: BufReader::new(answers), url: repository.url().to_owned() })
    }

    fn append(&mut self, tar: &mut tar::Builder<impl Write>, blob: &Blob) -> Result<(), RegistryError> {
        let broke = |_| RegistryError::Git {
            url: self.url.clone(),
            what: format!("the file {} can't be read", String::from_utf8_lossy(&blob.path)),
        };
        let size = ask(&mut self.ask, &mut self.answers, &blob.object).map_err(broke)?;
        let contents = self.answers.by_ref().take(size);
        let added = add(tar, blob, size, contents);
        added.map_err(|error| DiskError::new("write", "the files of a commit", error))?;
        // A line feed stands behind each object.
        self.answers.read_exact(&mut [0]).map_err(broke)
    }
}

impl Drop for Objects {
    fn drop(&mut self) {
        // With nobody asking any more it would end by itself; this is sooner.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Asks for an object; its size, after which its bytes come.
fn ask(into: &mut ChildStdin, answers: &mut impl BufRead, object: &str) -> io::Result<u64> {
    into.write_all(format!("{object}\n").as_bytes())?;
    into.flush()?;
    let mut head = String::new();
    answers.by_ref().take(200).read_line(&mut head)?;
    let mut words = head.split_whitespace();
    match (words.nth(1), words.next().and_then(|size| size.parse().ok())) {
        (Some("blob"), Some(size)) => Ok(size),
        _ => Err(io::ErrorKind::InvalidData.into()),
    }
}

fn add(
    tar: &mut tar::Builder<impl Write>,
    blob: &Blob,
    size: u64,
    mut contents: impl Read,
) -> io::Result<()> {
    let name = std::str::from_utf8(&blob.path);
    if blob.kind == Kind::Link {
        let mut target = Vec::new();
        contents.by_ref().take(MAX_TARGET_LEN).read_to_end(&mut target)?;
        io::copy(&mut contents, &mut io::sink())?;
        let mut header = header(0, false);
        header.set_entry_type(tar::EntryType::Symlink);
        header.set_mode(0o777);
        // No package can have a name that is no text, so its replacement doesn't matter.
        let target = String::from_utf8_lossy(&target);
        return match name {
            Ok(name) => tar.append_link(&mut header, name, &*target),
            Err(_) => add_nameless(tar, header, &blob.path, io::empty()),
        };
    }
    let mut header = header(size, blob.kind == Kind::Program);
    match name {
        Ok(name) => tar.append_data(&mut header, name, contents),
        Err(_) => add_nameless(tar, header, &blob.path, contents),
    }
}

/// Adds an entry whose name is no text: it is reported, and left out.
fn add_nameless(
    tar: &mut tar::Builder<impl Write>,
    mut header: tar::Header,
    name: &[u8],
    contents: impl Read,
) -> io::Result<()> {
    let field = &mut header.as_old_mut().name;
    let length = name.len().min(field.len());
    field[..length].copy_from_slice(&name[..length]);
    if name.len() > length {
        // As GNU tar has it: an entry before it holds the whole name.
        let whole = [name, b"\0"].concat();
        let mut long = self::header(whole.len() as u64, false);
        long.set_entry_type(tar::EntryType::GNULongName);
        long.set_path("././@LongLink")?;
        long.set_cksum();
        tar.append(&long, &*whole)?;
    }
    header.set_cksum();
    tar.append(&header, contents)
}

fn strange(repository: &Repository) -> RegistryError {
    let what = "git's answer can't be understood".to_owned();
    RegistryError::Git { url: repository.url().to_owned(), what }
}
