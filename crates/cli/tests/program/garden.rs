//! A hermetic garden for each test: own home, own store, own registry, no settings from outside.

use bibliotax_core::digest::Digest;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

/// The moment at which everything in a test is published.
const PUBLISHED: &str = "2026-03-01T09:00:00Z";

/// A temporary folder with a registry `seedhouse` and a project `gate`.
pub struct Garden {
    folder: tempfile::TempDir,
}

/// What a run of the program printed and how it ended, as one text.
pub struct Ran {
    pub status: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Garden {
    /// A garden with an empty registry and no project yet.
    pub fn bare() -> Self {
        let garden = Self { folder: tempfile::Builder::new().prefix("garden").tempdir().unwrap() };
        fs::create_dir_all(garden.path("gate")).unwrap();
        garden.run_in(".", &["registry", "create", "seedhouse"]).expect(0);
        garden
    }

    /// A garden with a project that needs nothing yet, and these releases: `rain-ledger 2.4.0: dew-point 1`.
    pub fn with(releases: &[&str]) -> Self {
        let garden = Self::bare();
        garden.publish(releases);
        garden.write("gate/bibliotax.toml", MANIFEST);
        garden
    }

    /// A garden whose project declares these needs, one line each.
    pub fn needing(releases: &[&str], needs: &str) -> Self {
        let garden = Self::with(releases);
        garden.write("gate/bibliotax.toml", &format!("{MANIFEST}{needs}\n"));
        garden
    }

    /// Puts files on the shelf as hard links, also for the system's administrator.
    pub fn with_hard_links(&self) {
        let manifest = self.read("gate/bibliotax.toml");
        self.write("gate/bibliotax.toml", &format!("{manifest}\n[shelf]\nlink = \"hard\"\n"));
        self.run(&["install"]).expect(0);
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    /// Writes a file. A manifest is held against its schema, which has to say of its shape what the reader says.
    #[track_caller]
    pub fn write(&self, path: &str, text: &str) {
        if path.ends_with("bibliotax.toml") {
            crate::json::agree_on_manifest(text);
        }
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn read(&self, path: &str) -> String {
        fs::read_to_string(self.path(path)).unwrap()
    }

    /// Loads releases, each with one file `<name>.txt` that tells its version: `name version: needs`, where `!name range`
    /// is a conflict, `+name` a capability and `@name` the family.
    pub fn publish(&self, releases: &[&str]) {
        let mut cards = String::new();
        for release in releases {
            let (title, needs) = release.split_once(':').unwrap_or((release, ""));
            let (name, version) = title.split_once(' ').unwrap();
            let parts: Vec<&str> = needs.split(',').map(str::trim).collect();
            let wanted = |mark: &str| -> Vec<_> {
                let marked = parts.iter().filter_map(|part| part.strip_prefix(mark)?.split_once(' '));
                let marked = marked.filter(|(n, _)| n.starts_with(|c: char| c.is_alphabetic()));
                marked.map(|(n, r)| serde_json::json!({ "name": n, "range": r })).collect()
            };
            let named =
                |mark: &str| parts.iter().filter_map(|part| part.strip_prefix(mark)).collect::<Vec<_>>();
            let provides: Vec<_> = named("+").iter().map(|n| serde_json::json!({ "name": n })).collect();
            let archive = format!("archives/{}-{version}.tar", name.replace('/', "."));
            let contents = format!("{name} {version}\n");
            self.write_tar(&archive, &[(&format!("{}.txt", name.replace('/', "-")), contents.as_bytes())]);
            let card = serde_json::json!({ "name": name, "version": version, "published": PUBLISHED, "license": "MIT",
                "needs": wanted(""), "conflicts": wanted("!"), "provides": provides, "family": named("@").first(),
                "files": [{ "path": archive }] });
            writeln!(cards, "{card}").unwrap();
        }
        self.load(&cards);
    }

    pub fn load(&self, lines: &str) {
        self.write("cards.jsonl", lines);
        self.run_in(".", &["registry", "load", "seedhouse", "cards.jsonl"]).expect(0);
    }

    /// Puts an archive that no registry would take into the registry, as release 1.0.0 of a package.
    pub fn smuggle(&self, name: &str, archive: &str) {
        let (digest, size) = self.add_file(archive);
        let format = archive.split_once('.').unwrap().1;
        self.load(&format!(
            "{{\"name\":\"{name}\",\"version\":\"1.0.0\",\"published\":\"{PUBLISHED}\",\"files\":[{{\"sha256\":\"{digest}\",\
             \"size\":{size},\"format\":\"{format}\"}}]}}\n"
        ));
    }

    /// Puts an archive among the registry's files without a look into it; its digest and size.
    pub fn add_file(&self, archive: &str) -> (String, usize) {
        let bytes = fs::read(self.path(archive)).unwrap();
        let digest = Digest::of(&bytes).to_string();
        let place = self.path("seedhouse/files").join(&digest[..2]);
        fs::create_dir_all(&place).unwrap();
        fs::write(place.join(&digest), &bytes).unwrap();
        (digest, bytes.len())
    }

    pub fn write_tar(&self, path: &str, files: &[(&str, &[u8])]) {
        let mut builder = tar::Builder::new(Vec::new());
        for (name, contents) in files {
            let mut header = tar::Header::new_gnu();
            header.set_mode(0o644);
            header.set_size(contents.len() as u64);
            builder.append_data(&mut header, name, *contents).unwrap();
        }
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, builder.into_inner().unwrap()).unwrap();
    }

    /// The program, ready to run in a folder of the garden.
    pub fn command(&self, folder: &str, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_bibliotax"));
        command.args(args).current_dir(self.path(folder)).env_clear().stdin(Stdio::null());
        command.env("PATH", "/usr/bin:/bin");
        command.env("HOME", self.path("home")).env("BIBLIOTAX_STORE", self.path("store"));
        command.env("SOURCE_DATE_EPOCH", "1772355600").env("TMPDIR", self.folder.path());
        command
    }

    /// Types answers on a terminal, in which the program runs with these words; its status, and what it shows.
    pub fn typed(&self, words: &str, answers: &str) -> (i32, String) {
        let program = self.command("gate", &[]);
        let line = format!(
            "(sleep 2; printf '{answers}') | script -qec '{} {words}' /dev/null",
            program.get_program().display()
        );
        let mut shell = Command::new("sh");
        shell.args(["-c", &line]).current_dir(self.path("gate")).env_clear();
        shell.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
        let output = shell.output().unwrap();
        (output.status.code().unwrap(), String::from_utf8_lossy(&output.stdout).into_owned())
    }

    #[must_use]
    pub fn run_in(&self, folder: &str, args: &[&str]) -> Ran {
        self.ran(self.command(folder, args).output().unwrap())
    }

    pub fn ran(&self, output: Output) -> Ran {
        let text = |bytes: Vec<u8>| self.rewritten(&String::from_utf8(bytes).unwrap());
        let status = output.status.code().unwrap_or(-1);
        Ran { status, stdout: text(output.stdout), stderr: text(output.stderr) }
    }

    /// The program, ready to run in a folder of the garden within limits of the shell's `ulimit`: `-d 65536, -t 20`.
    pub fn command_within(&self, limits: &str, folder: &str, args: &[&str]) -> Command {
        let program = self.command(folder, args);
        let mut shell = Command::new("sh");
        let limits: String = limits.split(", ").map(|limit| format!("ulimit {limit} && ")).collect();
        shell.args(["-c", &format!("{limits}exec \"$@\""), "sh"]).arg(program.get_program());
        shell.args(program.get_args()).current_dir(self.path(folder)).env_clear().stdin(Stdio::null());
        shell.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
        shell
    }

    /// Runs the program in the project's folder within limits of the shell's `ulimit`.
    #[must_use]
    pub fn run_within(&self, limits: &str, args: &[&str]) -> Ran {
        self.ran(self.command_within(limits, "gate", args).output().unwrap())
    }

    /// The program as a person sees it on a terminal of this width and height, with these variables.
    pub fn on_terminal(
        &self,
        (columns, rows): (u16, u16),
        variables: &[(&str, &str)],
        folder: &str,
        args: &[&str],
    ) -> Ran {
        let program = self.command(folder, args);
        let quoted = |word: &std::ffi::OsStr| format!("'{}'", word.to_str().unwrap().replace('\'', "'\\''"));
        let words = [program.get_program()].into_iter().chain(program.get_args()).map(quoted);
        let line = words.collect::<Vec<_>>().join(" ");
        let mut terminal = Command::new("script");
        terminal.args(["-qec", &format!("stty cols {columns} rows {rows}; {line}"), "/dev/null"]);
        terminal.current_dir(self.path(folder)).env_clear().stdin(Stdio::null());
        terminal.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
        terminal
            .env("NO_COLOR", "1")
            .env("LC_ALL", "C.UTF-8")
            .env("PAGER", "cat")
            .env("TERM", "xterm-256color");
        terminal.envs(variables.iter().copied());
        let mut ran = self.ran(terminal.output().unwrap());
        ran.stdout = ran.stdout.replace("\r\n", "\n");
        ran
    }

    /// Runs the program in the project's folder.
    #[must_use]
    pub fn run(&self, args: &[&str]) -> Ran {
        self.run_in("gate", args)
    }

    /// Starts the program in the project's folder and lets it go on by itself.
    pub fn start(&self, folder: &str, args: &[&str]) -> Child {
        self.command(folder, args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// Every file on the project's shelf with its contents, the shelf's own ones aside.
    pub fn shelf(&self) -> Vec<String> {
        let mut files = Vec::new();
        let mut open = vec![self.path("gate/shelf")];
        while let Some(folder) = open.pop() {
            for entry in fs::read_dir(&folder).into_iter().flatten().flatten() {
                let path = entry.path();
                let name = entry.file_name().to_string_lossy().into_owned();
                let is_own = folder == self.path("gate/shelf") && (name.starts_with('.') || name == "links");
                if is_own {
                    continue;
                }
                if path.is_dir() {
                    open.push(path);
                } else {
                    files.push(fs::read_to_string(&path).unwrap().trim().to_owned());
                }
            }
        }
        files.sort();
        files
    }

    /// Everything below a folder of the garden but for these places: kind and text of each, links not followed.
    pub fn everything_below(&self, folder: &str, but_for: &[&str]) -> Vec<String> {
        let (mut all, mut open) = (Vec::new(), vec![self.path(folder)]);
        while let Some(folder) = open.pop() {
            for entry in fs::read_dir(&folder).unwrap() {
                let path = entry.unwrap().path();
                let shown = path.strip_prefix(self.folder.path()).unwrap().display().to_string();
                let kind = fs::symlink_metadata(&path).unwrap().file_type();
                if but_for.contains(&shown.trim_start_matches("./")) {
                    continue;
                }
                if kind.is_dir() {
                    all.push(format!("{shown}/"));
                    open.push(path);
                } else if kind.is_symlink() {
                    all.push(format!("{shown} -> {}", fs::read_link(&path).unwrap().display()));
                } else {
                    let contents = fs::read(&path).unwrap();
                    all.push(format!("{shown}: {}", String::from_utf8_lossy(&contents)));
                }
            }
        }
        all.sort();
        all
    }

    /// Text without what differs from run to run: the garden's own path, and times.
    fn rewritten(&self, text: &str) -> String {
        let text = text.replace(&self.folder.path().display().to_string(), "GARDEN");
        let mut kept = String::new();
        for line in text.split_inclusive('\n') {
            match line.rsplit_once(" (").filter(|(_, end)| end.trim_end().ends_with(" s)")) {
                Some((start, _)) => writeln!(kept, "{start} (TIME)").unwrap(),
                None => kept.push_str(line),
            }
        }
        kept
    }
}

pub const MANIFEST: &str =
    "[project]\nname = \"gate-kiosk\"\n\n[registries]\nseedhouse = \"../seedhouse\"\n\n[needs]\n";

impl Ran {
    /// Panics with everything that was printed unless the program ended so.
    #[track_caller]
    pub fn expect(self, status: i32) -> Self {
        assert_eq!(self.status, status, "{self}");
        self
    }

    /// The stable code of the error that was printed.
    pub fn code(&self) -> &str {
        let error = self.stderr.lines().find(|line| line.starts_with("error: ")).unwrap_or_default();
        error.rsplit_once("  (").and_then(|(_, code)| code.strip_suffix(')')).unwrap_or_default()
    }

    /// The JSON that was printed, which is valid by the schema of its command.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        let value = serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error} in {self}"));
        crate::json::validate(&value);
        value
    }
}

impl std::fmt::Display for Ran {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { status, stdout, stderr } = self;
        write!(f, "{stdout}")?;
        if !stderr.is_empty() {
            write!(f, "----- stderr\n{stderr}")?;
        }
        write!(f, "----- status {status}")
    }
}

/// Whether anything is left of a file that was only for a moment.
pub fn remains(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
    names.filter(|name| name.starts_with(".bibliotax-")).collect()
}
