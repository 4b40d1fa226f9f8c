//! Completions in real shells, and manual pages in `man`.

use std::fs;
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use crate::garden::Garden;

fn output(command: &mut Command) -> String {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

fn completions(garden: &Garden, shell: &str) -> std::path::PathBuf {
    garden.write(shell, &garden.run(&["completions", shell]).expect(0).stdout);
    garden.path(shell)
}

/// A shell on a terminal of its own, in which somebody types.
pub struct Shell {
    child: Child,
    to: ChildStdin,
    shown: Receiver<Vec<u8>>,
    text: String,
}

impl Shell {
    /// Starts a shell with these words in the project of a garden, with the program on its path.
    pub fn start(garden: &Garden, words: &str) -> Self {
        let program = garden.command("gate", &[]);
        let bin = Path::new(program.get_program()).parent().unwrap().display().to_string();
        let mut command = Command::new("script");
        command.args(["-qec", words, "/dev/null"]).current_dir(garden.path("gate")).env_clear();
        command.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command
            .env("PATH", format!("{bin}:/usr/bin:/bin"))
            .env("TERM", "xterm")
            .env("PS1", "$ ")
            .env("LC_ALL", "C.UTF-8");
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let (to, mut out) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let (heard, shown) = channel();
        std::thread::spawn(move || {
            let mut part = [0; 4096];
            while let Ok(length @ 1..) = out.read(&mut part) {
                if heard.send(part[..length].to_vec()).is_err() {
                    return;
                }
            }
        });
        Self { child, to, shown, text: String::new() }
    }

    pub fn write(&mut self, text: &str) {
        self.to.write_all(text.as_bytes()).unwrap();
        self.to.flush().unwrap();
    }

    /// Waits until a text is shown behind what was waited for last.
    pub fn until(&mut self, wanted: &str) {
        let begun = Instant::now();
        while !self.text.contains(wanted) {
            let left = Duration::from_secs(30).checked_sub(begun.elapsed());
            let part = left.and_then(|left| self.shown.recv_timeout(left).ok());
            let part = part.unwrap_or_else(|| panic!("{wanted:?} never came:\n{}", self.text));
            self.text += &String::from_utf8_lossy(&part);
        }
        let end = self.text.find(wanted).unwrap() + wanted.len();
        self.text.drain(..end);
    }
}

impl Drop for Shell {
    fn drop(&mut self) {
        // One that ended already is gone.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A project with a target, a task and packages of a registry that was searched once.
fn garden() -> Garden {
    let garden = Garden::needing(
        &["dew-point 1.0.0", "moss-map 1.0.0", "rain-ledger 2.4.0: dew-point 1"],
        "rain-ledger = \"2\"\n[tasks]\nwater = \"true\"\n",
    );
    garden.run(&["resolve"]).expect(0);
    garden
}

/// Types the beginnings of command lines in a shell, presses Tab, and waits for what it makes of each.
fn completes(shell: &mut Shell) {
    for (typed, expected) in [
        ("bibliotax inst", "bibliotax install"),
        ("bibliotax registry token iss", "bibliotax registry token issue"),
        ("bibliotax install --sea", "--sealed"),
        ("bibliotax need mos", "moss-map"),
        ("bibliotax drop ra", "rain-ledger"),
        ("bibliotax explain de", "dew-point"),
        ("bibliotax task wa", "water"),
        ("bibliotax check --in ga", "gate-kiosk"),
        ("bibliotax find --registry se", "seedhouse"),
    ] {
        shell.write(typed);
        shell.until(&typed[typed.len() - 3..]);
        shell.write("\t");
        let rest = &expected[expected
            .find(typed.split(' ').next_back().unwrap())
            .map_or(0, |at| at + typed.split(' ').next_back().unwrap().len())..];
        shell.until(rest);
        // The line is thrown away.
        shell.write("\u{15}");
    }
}

#[test]
fn bash_completes_commands_options_and_names() {
    let garden = garden();
    let script = completions(&garden, "bash");
    let mut shell = Shell::start(&garden, "bash --norc --noprofile -i");
    shell.until("$ ");
    shell.write(&format!(". {}; bind 'set bell-style none'; echo re''ady\n", script.display()));
    shell.until("ready");
    shell.until("$ ");
    completes(&mut shell);
}

#[test]
#[ignore = "needs fish, which `.ci/run` sets up"]
fn fish_completes_commands_options_and_names() {
    let garden = garden();
    let script = completions(&garden, "fish");
    let complete = |words: &str| {
        let command = format!("source {}; complete --do-complete '{words}'", script.display());
        let program = garden.command("gate", &[]);
        let bin = Path::new(program.get_program()).parent().unwrap().display().to_string();
        let mut fish = Command::new("fish");
        fish.args(["--no-config", "-c", &command]).current_dir(garden.path("gate"));
        fish.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
        output(fish.env("PATH", format!("{bin}:/usr/bin:/bin")))
    };
    for (words, expected) in [
        ("bibliotax registry se", "serve\t"),
        ("bibliotax install --sea", "--sealed\t"),
        ("bibliotax need mos", "moss-map"),
        ("bibliotax drop ", "rain-ledger\t2"),
        ("bibliotax update ", "dew-point\t1.0.0"),
        ("bibliotax task ", "water\ttrue"),
    ] {
        assert!(complete(words).contains(expected), "{words}: {}", complete(words));
    }
}

#[test]
#[ignore = "needs zsh, which `.ci/run` sets up"]
fn zsh_completes_commands_options_and_names() {
    let garden = garden();
    fs::create_dir(garden.path("functions")).unwrap();
    fs::rename(completions(&garden, "zsh"), garden.path("functions/_bibliotax")).unwrap();
    let mut shell = Shell::start(&garden, "zsh -f -i");
    shell.until("$ ");
    let begin = format!(
        "fpath=({} $fpath); autoload -U compinit; compinit -u -d {}; unsetopt zle_bracketed_paste; PS1='$ '; print re''ady\n",
        garden.path("functions").display(),
        garden.path("dump").display()
    );
    shell.write(&begin);
    shell.until("ready");
    shell.until("$ ");
    completes(&mut shell);
}

#[test]
fn completions_need_neither_a_project_nor_a_registry() {
    let garden = Garden::bare();
    let ask = |folder: &str, words: &[&str]| {
        let mut command = garden.command(folder, &[&["--", "bibliotax"], words].concat());
        let output = command.env("BIBLIOTAX_COMPLETE", "fish").output().unwrap();
        assert!(
            output.status.success() && output.stderr.is_empty(),
            "{}",
            String::from_utf8_lossy(&output.stderr)
        );
        String::from_utf8(output.stdout).unwrap()
    };
    assert!(
        ask(".", &["drop", ""]).is_empty() || !ask(".", &["drop", ""]).contains("rain"),
        "{}",
        ask(".", &["drop", ""])
    );
    assert!(ask(".", &["gr"]).starts_with("graph\t"));
    // A manifest that can't be read has no names; one elsewhere is found with `--directory`.
    garden.write("gate/bibliotax.toml", "[needs\n");
    assert!(ask("gate", &["drop", ""]).lines().all(|line| line.starts_with("--")));
    garden.write("hand/bibliotax.toml", "[project]\nname = \"hand-unit\"\n[needs]\nmoss-map = \"1\"\n");
    assert!(
        ask(".", &["--directory", "hand", "drop", "m"]).starts_with("moss-map\t1"),
        "{}",
        ask(".", &["--directory", "hand", "drop", "m"])
    );
}

#[test]
#[ignore = "needs man, which `.ci/run` sets up"]
fn every_command_has_a_page_that_man_shows() {
    let garden = Garden::bare();
    let written = garden.run(&["manual", "pages", "--format", "json"]).expect(0).json();
    let pages: Vec<&str> =
        written["pages"].as_array().unwrap().iter().map(|page| page.as_str().unwrap()).collect();
    for page in ["bibliotax.1", "bibliotax-need.1", "bibliotax-registry-token-issue.1"] {
        assert!(pages.contains(&page), "{pages:?}");
    }
    for page in pages {
        let mut man = Command::new("man");
        man.args(["--warnings", "-l"]).arg(garden.path("gate/pages").join(page)).env("MANWIDTH", "80");
        let shown = man.output().unwrap();
        assert!(shown.status.success(), "{page}: {}", String::from_utf8_lossy(&shown.stderr));
        let text = String::from_utf8_lossy(&shown.stdout);
        assert!(text.contains("NAME") && text.contains("SYNOPSIS"), "{page}: {text}");
    }
}
