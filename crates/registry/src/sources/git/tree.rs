//! A commit as a package: its files and those of its submodules, as a reproducible tar.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::process::{Child, ChildStdin, ChildStdout};

use bibliotax_archive::pack::header;
use bibliotax_core::escape::escaped;
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
    path: String,
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

/// Writes a commit, or a folder of it, as a tar: sorted by path, without times or owners. Submodules are fetched and go along.
pub fn write_tree(
    repository: &Repository,
    commit: &CommitId,
    subfolder: Option<&InnerPath>,
    open: &OpenSubmodule<'_>,
    into: impl Write,
) -> Result<(), RegistryError> {
    let mut parts = Vec::new();
    gather(repository, commit, subfolder, "", MAX_DEPTH, open, &mut parts)?;
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
    commit: &CommitId,
    subfolder: Option<&InnerPath>,
    prefix: &str,
    deep: usize,
    open: &OpenSubmodule<'_>,
    parts: &mut Vec<Part>,
) -> Result<(), RegistryError> {
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
            let inner = module.path[prefix.len()..].to_owned();
            let inner = subfolder.map_or(inner.clone(), |subfolder| format!("{subfolder}/{inner}"));
            let url = urls.iter().find(|(path, _)| *path == inner).map(|(_, url)| url.as_str());
            let url = url.ok_or_else(|| {
                let what = format!("it has no URL for its submodule `{inner}`");
                RegistryError::Git { url: repository.url().to_owned(), what }
            })?;
            let theirs = open(repository, url)?;
            let commit: CommitId = module.object.parse().map_err(|_| strange(repository))?;
            gather(&theirs, &commit, None, &format!("{}/", module.path), deep - 1, open, parts)?;
        }
    }
    parts.push((repository.clone(), blobs));
    Ok(())
}

/// What `git ls-tree -z` lists: `MODE KIND OBJECT TAB PATH NUL` for each.
fn blobs(listed: &[u8], prefix: &str, repository: &Repository) -> Result<Vec<Blob>, RegistryError> {
    let mut blobs = Vec::new();
    for line in listed.split(|byte| *byte == 0).filter(|line| !line.is_empty()) {
        let line = std::str::from_utf8(line).map_err(|_| {
            let name = escaped(&String::from_utf8_lossy(line)).into_owned();
            bad(repository, format!("a file's name isn't UTF-8: `{}`", cut(&name)))
        })?;
        let (about, path) = line.split_once('\t').ok_or_else(|| strange(repository))?;
        let mut words = about.split(' ');
        let (mode, object) = (words.next(), words.nth(1));
        let kind = match mode {
            Some("100755") => Kind::Program,
            Some("120000") => Kind::Link,
            Some("160000") => Kind::Submodule,
            _ => Kind::File,
        };
        let object = object.ok_or_else(|| strange(repository))?.to_owned();
        if InnerPath::new(path).is_err() {
            let what = format!("`{}` isn't a path inside a package", cut(&escaped(path)));
            return Err(bad(repository, what));
        }
        blobs.push(Blob { path: format!("{prefix}{path}"), object, kind });
    }
    Ok(blobs)
}

fn bad(repository: &Repository, what: String) -> RegistryError {
    RegistryError::BadTree { url: repository.url().to_owned(), what }
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
            what: format!("the file {} can't be read", blob.path),
        };
        let size = ask(&mut self.ask, &mut self.answers, &blob.object).map_err(broke)?;
        let contents = self.answers.by_ref().take(size);
        let added = add(tar, blob, size, contents);
        added.map_err(|error| DiskError::new("write", &blob.path, error))?;
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
    if blob.kind == Kind::Link {
        let mut target = String::new();
        contents.by_ref().take(MAX_TARGET_LEN).read_to_string(&mut target)?;
        io::copy(&mut contents, &mut io::sink())?;
        let mut header = header(0, false);
        header.set_entry_type(tar::EntryType::Symlink);
        header.set_mode(0o777);
        return tar.append_link(&mut header, &blob.path, target);
    }
    tar.append_data(&mut header(size, blob.kind == Kind::Program), &blob.path, contents)
}

fn strange(repository: &Repository) -> RegistryError {
    let what = "git's answer can't be understood".to_owned();
    RegistryError::Git { url: repository.url().to_owned(), what }
}
