//! Finds programs on this machine, and asks them for their version.
//!
//! A program is asked by its own version option, directly and never through a shell, and only for so long.

use std::ffi::OsStr;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::{Duration, Instant};

use bibliotax_core::name::ProgramName;
use bibliotax_core::version::Version;
use wait_timeout::ChildExt;

/// How programs are asked for their version, most usual first.
const QUESTIONS: [&str; 3] = ["--version", "-version", "-V"];

/// How long a program may take to answer.
const TIMEOUT: Duration = Duration::from_secs(5);

/// How often it is looked whether it has.
const POLL_INTERVAL: Duration = Duration::from_millis(5);

/// Most of an answer that is read, in bytes.
const MAX_ANSWER_LEN: u64 = 64 << 10;

/// Where a program is: the first of its name in these folders, written as in `PATH`.
pub fn find(tool: &ProgramName, folders: &OsStr) -> Option<PathBuf> {
    // A relative folder would let the authors of this folder's files choose the program.
    let absolute = std::env::split_paths(folders).filter(|folder| folder.is_absolute());
    let absolute = std::env::join_paths(absolute).ok()?;
    which::which_in_global(tool.as_str(), Some(absolute)).ok()?.next()
}

/// The version that a program says it is; `None` if it says none in time.
pub fn version(program: &Path) -> Option<Version> {
    let deadline = Instant::now() + TIMEOUT;
    let in_time = |_: &&&str| Instant::now() < deadline;
    QUESTIONS
        .iter()
        .take_while(in_time)
        .find_map(|question| first_version(&answer(program, question, deadline)?))
}

/// What a program prints when it is asked so, on either output.
fn answer(program: &Path, question: &str, deadline: Instant) -> Option<String> {
    let mut command = Command::new(program);
    command.arg(question).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().ok()?;
    let outputs = [read_aside(child.stdout.take()), read_aside(child.stderr.take())];
    wait(&mut child, deadline)?;
    // Something that it started may keep its outputs open, so they are waited for no longer than it is.
    let readers: Vec<_> = outputs.into_iter().flatten().collect();
    while readers.iter().any(|reader| !reader.is_finished()) && Instant::now() < deadline {
        thread::sleep(POLL_INTERVAL);
    }
    let texts = readers.into_iter().filter(thread::JoinHandle::is_finished);
    Some(texts.filter_map(|reader| reader.join().ok()).collect::<Vec<String>>().join("\n"))
}

/// Reads an output in a thread of its own, so that a program that prints much is not held up.
fn read_aside(output: Option<impl Read + Send + 'static>) -> Option<thread::JoinHandle<String>> {
    let output = output?;
    Some(thread::spawn(move || {
        let mut bytes = Vec::new();
        // What could be read before an error is what there is.
        let _ = output.take(MAX_ANSWER_LEN).read_to_end(&mut bytes);
        String::from_utf8_lossy(&bytes).into_owned()
    }))
}

/// Waits for a program to end; one that takes too long is ended.
fn wait(child: &mut Child, deadline: Instant) -> Option<()> {
    let ended = child.wait_timeout(deadline.saturating_duration_since(Instant::now()));
    if let Ok(Some(_)) = ended {
        return Some(());
    }
    // It may have ended by itself meanwhile.
    let _ = child.kill();
    let _ = child.wait();
    None
}

/// The first thing in a text that looks like a version: numbers with dots between them or, where there are none, a
/// number.
fn first_version(text: &str) -> Option<Version> {
    let words: Vec<&str> = text.split(|c: char| !c.is_ascii_digit() && c != '.').collect();
    let numbers = words.iter().map(|word| word.trim_matches('.')).filter(|word| !word.is_empty());
    let with_dots = numbers.clone().find(|word| word.contains('.'));
    let word = with_dots.or_else(|| numbers.clone().next())?;
    let parts: Vec<u64> = word.split('.').take(4).map_while(|part| part.parse().ok()).collect();
    let mut numeric = [0; 4];
    numeric[..parts.len()].copy_from_slice(&parts);
    (!parts.is_empty()).then(|| Version::from_numeric(numeric, parts.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_version_is_found_in_what_programs_usually_print() {
        let rows = [
            ("GNU Make 4.3\nBuilt for x86_64-pc-linux-gnu\n", Some("4.3")),
            ("gcc (Debian 12.2.0-14+deb12u1) 12.2.0\n", Some("12.2.0")),
            ("openjdk version \"17.0.15\" 2025-04-15\n", Some("17.0.15")),
            ("This is perl 5, version 36, subversion 0 (v5.36.0)", Some("5.36.0")),
            ("valve tool, release 7", Some("7")),
            ("1.2.3.4.5", Some("1.2.3.4")),
            ("007.1", Some("7.1")),
            ("no version at all", None),
            ("", None),
        ];
        for (text, version) in rows {
            assert_eq!(first_version(text).map(|version| version.to_string()).as_deref(), version, "{text}");
        }
    }
}
