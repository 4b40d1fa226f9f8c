//! Runs `git`: with a clean environment, and with time limits.

use std::ffi::OsStr;
use std::io::{self, Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU64, AtomicUsize, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use crate::model::error::RegistryError;

/// Most bytes of an answer that is read whole.
const MAX_SIZE: usize = 256 << 20;

/// Most bytes of what it says went wrong.
const MAX_COMPLAINT_SIZE: usize = 16 << 10;

/// Transports that may be used: none that would run a program named by a URL.
const TRANSPORTS: &str = "https:http:ssh:git:file";

/// Settings that override the person's own.
const SETTINGS: [&str; 11] = [
    "core.hooksPath=/dev/null",
    "core.fsmonitor=false",
    "protocol.ext.allow=never",
    "fetch.recurseSubmodules=false",
    "submodule.recurse=false",
    "http.lowSpeedLimit=1024",
    "http.lowSpeedTime=30",
    "gc.auto=0",
    "maintenance.auto=false",
    "fetch.writeCommitGraph=false",
    "advice.detachedHead=false",
];

/// Variables that would lead git to another repository, or make it write where nobody expects it.
const REMOVED_VARIABLES: [&str; 11] = [
    "GIT_DIR",
    "GIT_WORK_TREE",
    "GIT_INDEX_FILE",
    "GIT_OBJECT_DIRECTORY",
    "GIT_ALTERNATE_OBJECT_DIRECTORIES",
    "GIT_NAMESPACE",
    "GIT_COMMON_DIR",
    "GIT_PREFIX",
    "GIT_SHALLOW_FILE",
    "GIT_REPLACE_REF_BASE",
    "GIT_PROTOCOL",
];

/// Why `git` failed.
#[derive(Debug)]
pub enum Refused {
    /// It isn't on this machine.
    NoGit,
    /// It said nothing for too long.
    Silent,
    /// It said more than is read.
    TooMuch,
    /// It ended with this complaint.
    Complained(String),
}

impl Refused {
    /// The same as an error about a repository.
    pub fn about(self, url: &str) -> RegistryError {
        let what = match self {
            Self::NoGit => return RegistryError::NoGit,
            Self::Silent => "it stopped answering".to_owned(),
            Self::TooMuch => format!("it prints more than {} MiB", MAX_SIZE >> 20),
            Self::Complained(text) => complaint(&text),
        };
        RegistryError::Git { url: url.to_owned(), what }
    }

    /// Whether it complained in these words.
    pub fn says(&self, words: &str) -> bool {
        matches!(self, Self::Complained(text) if text.contains(words))
    }
}

/// The line that says what is wrong, of all that git said.
fn complaint(text: &str) -> String {
    let said = |mark: &str| text.lines().find_map(|line| line.trim().strip_prefix(mark));
    let line = said("fatal: ").or_else(|| said("ERROR: ")).or_else(|| said("error: "));
    let line = line.or_else(|| text.lines().rev().find(|line| !line.trim().is_empty()));
    line.unwrap_or("it gives no reason").trim().trim_end_matches('.').to_owned()
}

/// The program, ready to run in a repository.
pub fn command(folder: &Path) -> Command {
    let mut command = Command::new("git");
    for variable in REMOVED_VARIABLES {
        command.env_remove(variable);
    }
    command
        .env("GIT_ALLOW_PROTOCOL", TRANSPORTS)
        .env("GIT_NO_REPLACE_OBJECTS", "1")
        .env("GIT_NO_LAZY_FETCH", "1")
        .env("LC_ALL", "C");
    if std::env::var_os("GIT_TERMINAL_PROMPT").is_none() {
        // A question behind a progress bar would never be seen.
        command.env("GIT_TERMINAL_PROMPT", "0");
    }
    command.current_dir(folder);
    for setting in SETTINGS {
        command.args(["-c", setting]);
    }
    command
}

/// How many runs of `git` are under way, and whether they are to end.
static UNDER_WAY: AtomicUsize = AtomicUsize::new(0);
static PHASE: AtomicU8 = AtomicU8::new(WORKING);

/// Everything runs; nothing new begins; what still runs is ended.
const WORKING: u8 = 0;
const ENDING: u8 = 1;
const ENDED: u8 = 2;

/// How long runs may go on by themselves once this process is about to end.
const KILL_TIMEOUT: Duration = Duration::from_millis(500);

/// A run that is under way.
struct UnderWay;

impl UnderWay {
    fn begin() -> Result<Self, Refused> {
        UNDER_WAY.fetch_add(1, Ordering::SeqCst);
        let begun = Self;
        if PHASE.load(Ordering::SeqCst) == WORKING { Ok(begun) } else { Err(Refused::Silent) }
    }
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        UNDER_WAY.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Sees that no `git` that this process started goes on writing after it: what was looked up ahead may still run. Nothing is
/// started from then on.
pub fn end_all() {
    PHASE.store(ENDING, Ordering::SeqCst);
    let wait = |most: Duration| {
        let begun = Instant::now();
        while UNDER_WAY.load(Ordering::SeqCst) > 0 && begun.elapsed() < most {
            thread::sleep(Duration::from_millis(1));
        }
    };
    wait(KILL_TIMEOUT);
    PHASE.store(ENDED, Ordering::SeqCst);
    wait(KILL_TIMEOUT);
}

/// Runs `git` to its end; what it wrote to stdout.
pub fn run<A: AsRef<OsStr>>(
    folder: &Path,
    args: impl IntoIterator<Item = A>,
    input: &str,
    silence: Duration,
) -> Result<Vec<u8>, Refused> {
    run_within(folder, args, input, silence, MAX_SIZE)
}

/// The same, where it may write at most so many bytes to stdout.
fn run_within<A: AsRef<OsStr>>(
    folder: &Path,
    args: impl IntoIterator<Item = A>,
    input: &str,
    silence: Duration,
    most: usize,
) -> Result<Vec<u8>, Refused> {
    let _under_way = UnderWay::begin()?;
    let mut command = command(folder);
    command.args(args).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = started(command.spawn())?;
    let heard = Arc::new(Heard::default());
    if let Some(mut stdin) = child.stdin.take() {
        let input = input.to_owned();
        // In a thread of its own, so that neither waits for the other. What git doesn't want to read, it needn't.
        thread::spawn(move || drop(stdin.write_all(input.as_bytes())));
    }
    let out = child.stdout.take().map(|out| listen(out, Kept::First(most), &heard));
    let err = child.stderr.take().map(|err| listen(err, Kept::Last(MAX_COMPLAINT_SIZE), &heard));
    // Where it is ended by us, what it started may still hold the pipes, so nobody waits for their end.
    let has_succeeded = wait(&mut child, &heard, silence)?;
    let text = |heard: Option<thread::JoinHandle<Vec<u8>>>| {
        heard.and_then(|heard| heard.join().ok()).unwrap_or_default()
    };
    let (out, err) = (text(out), text(err));
    match has_succeeded {
        _ if heard.is_too_much.load(Ordering::Relaxed) => Err(Refused::TooMuch),
        true => Ok(out),
        false => Err(Refused::Complained(String::from_utf8_lossy(&err).into_owned())),
    }
}

/// Starts `git` for as long as it is asked something.
pub fn start(folder: &Path, args: &[&str]) -> Result<Child, Refused> {
    let mut command = command(folder);
    command.args(args).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    started(command.spawn())
}

fn started(spawned: io::Result<Child>) -> Result<Child, Refused> {
    spawned.map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => Refused::NoGit,
        _ => Refused::Complained(format!("it can't be started: {error}")),
    })
}

/// How much was heard.
#[derive(Default)]
struct Heard {
    bytes: AtomicU64,
    is_too_much: AtomicBool,
}

/// What is kept of what is heard.
enum Kept {
    /// All, which may be so many bytes.
    First(usize),
    /// The last so many bytes, or some more.
    Last(usize),
}

/// Reads what comes and counts it, so that who waits knows that something does.
fn listen(
    mut from: impl Read + Send + 'static,
    kept: Kept,
    heard: &Arc<Heard>,
) -> thread::JoinHandle<Vec<u8>> {
    let heard = Arc::clone(heard);
    thread::spawn(move || {
        let (mut all, mut piece) = (Vec::new(), [0; 16 << 10]);
        while let Ok(read @ 1..) = from.read(&mut piece) {
            heard.bytes.fetch_add(read as u64, Ordering::Relaxed);
            match kept {
                Kept::First(most) if all.len() + read > most => {
                    heard.is_too_much.store(true, Ordering::Relaxed);
                    return all;
                }
                Kept::Last(most) if all.len() > 2 * most => drop(all.drain(..all.len() - most)),
                _ => {}
            }
            all.extend_from_slice(&piece[..read]);
        }
        all
    })
}

/// Waits until the program ends, and whether it ended well. One that is silent for too long, or says too much, is ended.
fn wait(child: &mut Child, heard: &Heard, silence: Duration) -> Result<bool, Refused> {
    let (mut known, mut since, mut pause) = (0, Instant::now(), Duration::from_micros(200));
    loop {
        match child.try_wait() {
            Ok(Some(status)) => return Ok(status.success()),
            Ok(None) => {}
            Err(_) => return Ok(false),
        }
        let now = heard.bytes.load(Ordering::Relaxed);
        if now != known {
            (known, since) = (now, Instant::now());
        }
        let is_too_much = heard.is_too_much.load(Ordering::Relaxed);
        if is_too_much || since.elapsed() > silence || PHASE.load(Ordering::SeqCst) == ENDED {
            // It may have ended by itself meanwhile.
            let _ = child.kill();
            let _ = child.wait();
            return Err(if is_too_much { Refused::TooMuch } else { Refused::Silent });
        }
        thread::sleep(pause);
        pause = (pause * 2).min(Duration::from_millis(20));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wrong_is_found_in_what_git_says() {
        for (said, shown) in [
            ("remote: hello\nfatal: repository 'x' does not exist\n", "repository 'x' does not exist"),
            ("warning: a\nerror: no such ref.\n", "no such ref"),
            ("ssh: connect to host\n\n", "ssh: connect to host"),
            ("", "it gives no reason"),
        ] {
            assert_eq!(complaint(said), shown);
        }
    }

    #[test]
    fn a_program_that_says_too_much_is_ended_and_of_a_complaint_the_end_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let say = |alias: &str| {
            let args = ["-c", &format!("alias.say=!{alias}"), "say"].map(str::to_owned);
            run_within(folder.path(), args, "", Duration::from_secs(20), 1 << 20)
        };
        assert!(matches!(say("yes moss"), Err(Refused::TooMuch)), "it would go on for ever");
        assert_eq!(say("yes moss | head -c 1048576").unwrap().len(), 1 << 20);
        let Err(Refused::Complained(text)) =
            say("yes dew | head -c 3000000 >&2; echo fatal: dry >&2; exit 1")
        else {
            panic!("it failed");
        };
        assert!(text.len() < 4 * MAX_COMPLAINT_SIZE && complaint(&text) == "dry", "{}", text.len());
    }

    #[test]
    fn a_program_that_says_nothing_is_ended() {
        let folder = tempfile::tempdir().unwrap();
        let hang = ["-c", "alias.hang=!sleep 60", "hang"];
        let refused = run(folder.path(), hang, "", Duration::from_millis(100)).unwrap_err();
        assert!(matches!(refused, Refused::Silent));
    }
}
